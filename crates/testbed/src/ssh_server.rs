//! A real `sshd` on loopback, with everything in a folder of its own.

use crate::port::free_port;
use crate::process::Process;
use std::path::{Path, PathBuf};
use std::process::Command;

/// The server, and the one key that may come in as who runs the test. It ends when this is dropped.
pub struct SshServer {
    folder: PathBuf,
    port: u16,
    user: String,
    server: Option<Process>,
    /// Changes when the server gets another key.
    keys: u32,
}

impl SshServer {
    /// A server that is not started yet.
    pub fn new(folder: &Path) -> SshServer {
        std::fs::create_dir_all(folder).expect("a folder");
        let user = nix::unistd::User::from_uid(nix::unistd::geteuid()).ok().flatten().map_or_else(|| "root".into(), |user| user.name);
        let server = SshServer { folder: folder.to_owned(), port: free_port(), user, server: None, keys: 0 };
        server.key(&folder.join("admin"));
        server
    }

    /// A machine on which the key may run any command.
    pub fn machine(folder: &Path) -> SshServer {
        let mut server = SshServer::new(folder);
        std::fs::create_dir_all(folder.join(".ssh")).expect("a folder");
        std::fs::copy(folder.join("admin.pub"), folder.join(".ssh/authorized_keys")).expect("the key");
        server.serve("PermitRootLogin prohibit-password\n");
        server
    }

    fn key(&self, path: &Path) {
        let output = Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(path).output().expect("it starts");
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    }

    /// Starts the server, each time with a key that nobody has seen yet; `more`: lines of its configuration.
    pub fn serve(&mut self, more: &str) {
        self.server = None;
        self.keys += 1;
        let host_key = self.folder.join(format!("host-{}", self.keys));
        self.key(&host_key);
        let _ = std::fs::create_dir_all("/run/sshd");
        let config = self.folder.join("sshd_config");
        let text = format!(
            "ListenAddress 127.0.0.1\nPort {}\nHostKey {}\nPidFile none\nUsePAM no\nStrictModes no\nPasswordAuthentication no\n\
             AuthorizedKeysFile {}/.ssh/authorized_keys\nAllowUsers {}\n{more}",
            self.port,
            host_key.display(),
            self.folder.display(),
            self.user
        );
        std::fs::write(&config, text).expect("a configuration");
        let mut command = Command::new("/usr/sbin/sshd");
        command.args(["-D", "-e", "-f"]).arg(&config);
        let name = format!("sshd-{}", self.keys);
        self.server = Some(Process::start(&mut command, &self.folder, &name, "Server listening"));
    }

    /// `USER@127.0.0.1`
    pub fn place(&self) -> String {
        format!("{}@127.0.0.1", self.user)
    }

    /// The port that it listens at.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// The command that goes there with the key, but for the place; the server's own key is taken as it comes.
    pub fn command(&self) -> String {
        let key = self.folder.join("admin");
        format!(
            "ssh -F /dev/null -o IdentitiesOnly=yes -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR -i {}",
            key.display()
        )
    }
}
