//! A working copy whose commits are pushed to the practice forge.

use std::path::PathBuf;
use std::process::Command;

/// A working copy, and its name on the forge.
pub struct Repository {
    pub folder: PathBuf,
    pub name: String,
}

impl Repository {
    pub(crate) fn new(folder: PathBuf, name: &str, url: &str) -> Repository {
        std::fs::create_dir_all(&folder).expect("a folder");
        let repository = Repository { folder, name: name.to_owned() };
        repository.git(&["init", "--quiet", "--initial-branch=main"]);
        repository.git(&["remote", "add", "origin", url]);
        repository
    }

    /// Runs git in the working copy and gives what it printed, trimmed. Panics where git fails.
    pub fn git(&self, arguments: &[&str]) -> String {
        let who = ["-c", "user.name=Ines", "-c", "user.email=ines@saltmarsh.example"];
        let mut git = Command::new("git");
        // What is set for this machine's people (filters, hooks, attributes) is not what is tested.
        git.env("GIT_CONFIG_NOSYSTEM", "1").env("GIT_ATTR_NOSYSTEM", "1").env("GIT_CONFIG_GLOBAL", "/dev/null");
        let output = git.args(who).args(arguments).current_dir(&self.folder).output().expect("git starts");
        assert!(output.status.success(), "git {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).trim().to_owned()
    }

    /// Writes a file, making its folders.
    pub fn write(&self, path: &str, text: &str) {
        let path = self.folder.join(path);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        std::fs::write(path, text).expect("a file");
    }

    /// Commits everything and gives the commit's id.
    pub fn commit(&self, title: &str) -> String {
        self.git(&["add", "--all"]);
        self.git(&["commit", "--quiet", "--allow-empty", "-m", title]);
        self.git(&["rev-parse", "HEAD"])
    }

    /// Commits this pipeline as `ordotaxis.toml` and pushes it to main; gives the commit's id.
    pub fn push_pipeline(&self, pipeline: &str) -> String {
        self.write("ordotaxis.toml", pipeline);
        let commit = self.commit("a change");
        self.push();
        commit
    }

    /// Pushes the checked-out branch; the forge then sends its webhook.
    pub fn push(&self) {
        self.git(&["push", "--quiet", "origin", "HEAD"]);
    }
}
