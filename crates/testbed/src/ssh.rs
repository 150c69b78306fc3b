//! A git server that is reached by SSH alone: gitolite behind a real `sshd`, both in a folder of their own, on loopback.

use crate::port::free_port;
use crate::process::Process;
use std::path::{Path, PathBuf};
use std::process::Command;

/// The server. It ends when this is dropped.
pub struct SshForge {
    folder: PathBuf,
    port: u16,
    user: String,
    server: Option<Process>,
    /// Changes when the server gets another key.
    keys: u32,
}

impl SshForge {
    /// Starts it; `admin` is the one key that may change its configuration.
    pub fn start(folder: &Path) -> SshForge {
        std::fs::create_dir_all(folder).expect("a folder");
        let user = nix::unistd::User::from_uid(nix::unistd::geteuid()).ok().flatten().map_or_else(|| "root".into(), |user| user.name);
        let mut forge = SshForge { folder: folder.to_owned(), port: free_port(), user, server: None, keys: 0 };
        forge.key(&folder.join("admin"));
        forge.run(Command::new("gitolite").args(["setup", "-pk"]).arg(folder.join("admin.pub")).env("HOME", folder));
        forge.serve();
        forge
    }

    fn run(&self, command: &mut Command) -> String {
        let output = command.output().expect("it starts");
        assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    fn key(&self, path: &Path) {
        self.run(Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(path));
    }

    /// Starts the server, each time with a key that nobody has seen yet.
    pub fn serve(&mut self) {
        self.server = None;
        self.keys += 1;
        let host_key = self.folder.join(format!("host-{}", self.keys));
        self.key(&host_key);
        let _ = std::fs::create_dir_all("/run/sshd");
        let config = self.folder.join("sshd_config");
        let text = format!(
            "ListenAddress 127.0.0.1\nPort {}\nHostKey {}\nPidFile none\nUsePAM no\nStrictModes no\nPasswordAuthentication no\n\
             AuthorizedKeysFile {}/.ssh/authorized_keys\nSetEnv HOME={}\nAllowUsers {}\nPermitRootLogin forced-commands-only\n",
            self.port,
            host_key.display(),
            self.folder.display(),
            self.folder.display(),
            self.user
        );
        std::fs::write(&config, text).expect("a configuration");
        let mut command = Command::new("/usr/sbin/sshd");
        command.args(["-D", "-e", "-f"]).arg(&config);
        let name = format!("sshd-{}", self.keys);
        self.server = Some(Process::start(&mut command, &self.folder, &name, "Server listening"));
    }

    /// Where a repository is.
    pub fn url(&self, name: &str) -> String {
        format!("ssh://{}@127.0.0.1:{}/{name}", self.user, self.port)
    }

    /// What git needs in its environment to go there as the administrator.
    pub fn as_admin(&self) -> String {
        let key = self.folder.join("admin");
        format!(
            "ssh -F /dev/null -o IdentitiesOnly=yes -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR -i {}",
            key.display()
        )
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
