//! A git server that is reached by SSH alone: gitolite behind a real `sshd`, both in a folder of their own, on loopback.

use crate::ssh_server::SshServer;
use std::path::{Path, PathBuf};
use std::process::Command;

/// The server. It ends when this is dropped.
pub struct SshForge {
    folder: PathBuf,
    server: SshServer,
}

impl SshForge {
    /// Starts it; `admin` is the one key that may change its configuration.
    pub fn start(folder: &Path) -> SshForge {
        let mut forge = SshForge { folder: folder.to_owned(), server: SshServer::new(folder) };
        forge.run(Command::new("gitolite").args(["setup", "-pk"]).arg(folder.join("admin.pub")).env("HOME", folder));
        forge.serve();
        forge
    }

    fn run(&self, command: &mut Command) -> String {
        let output = command.output().expect("it starts");
        assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    /// Starts the server, each time with a key that nobody has seen yet.
    pub fn serve(&mut self) {
        let more = format!("SetEnv HOME={}\nPermitRootLogin forced-commands-only\n", self.folder.display());
        self.server.serve(&more);
    }

    /// Where a repository is.
    pub fn url(&self, name: &str) -> String {
        format!("ssh://{}:{}/{name}", self.server.place(), self.server.port())
    }

    /// What git needs in its environment to go there as the administrator.
    pub fn as_admin(&self) -> String {
        self.server.command()
    }

    /// Makes repositories that the administrator may write and these keys may read.
    pub fn set_up(&self, repositories: &[&str], readers: &[(&str, &str)]) {
        self.configure(repositories, readers, "R");
    }

    /// The same, and the keys may write them, too.
    pub fn set_up_open(&self, repositories: &[&str], writers: &[(&str, &str)]) {
        self.configure(repositories, writers, "RW+");
    }

    /// Installs a hook for every repository.
    pub fn hook(&self, name: &str, script: &str) {
        let folder = self.folder.join(".gitolite/hooks/common");
        let path = folder.join(name);
        std::fs::create_dir_all(&folder).and_then(|()| std::fs::write(&path, script)).expect("the hook");
        std::fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o755)).expect("it can be run");
        self.run(Command::new("gitolite").args(["setup", "--hooks-only"]).env("HOME", &self.folder));
    }

    fn configure(&self, repositories: &[&str], readers: &[(&str, &str)], right: &str) {
        let work = self.folder.join("configuration");
        let git = |arguments: &[&str]| {
            let mut command = Command::new("git");
            command.env("GIT_SSH_COMMAND", self.as_admin()).env("GIT_CONFIG_GLOBAL", "/dev/null");
            command.args(["-c", "user.name=Odd", "-c", "user.email=odd@saltmarsh.example"]).args(arguments);
            if work.exists() {
                command.current_dir(&work);
            }
            self.run(&mut command)
        };
        if !work.exists() {
            git(&["clone", "--quiet", &self.url("gitolite-admin"), &work.display().to_string()]);
        }
        let mut config = "repo gitolite-admin\n    RW+ = admin\n".to_owned();
        for repository in repositories {
            config += &format!("repo {repository}\n    RW+ = admin\n");
            readers.iter().for_each(|(name, _)| config += &format!("    {right} = {name}\n"));
        }
        std::fs::write(work.join("conf/gitolite.conf"), config).expect("a configuration");
        for (name, key) in readers {
            std::fs::write(work.join(format!("keydir/{name}.pub")), format!("{key}\n")).expect("a key");
        }
        git(&["add", "--all"]);
        git(&["commit", "--quiet", "--allow-empty", "-m", "Who may read what"]);
        git(&["push", "--quiet", "origin", "HEAD"]);
    }
}
