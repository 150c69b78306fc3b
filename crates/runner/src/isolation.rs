//! How a step is fenced in.
//!
//! `host`: an ordinary process in the job's folder. `sandbox` (bubblewrap): the system read-only, a private `/tmp`, its
//! own process tree, and of the disk only the job's own folder writable; the runner's folder, with its credential and
//! other jobs, is not to be seen.

use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::process::Stdio;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Isolation {
    Sandbox,
    Host,
}

impl Isolation {
    pub fn word(self) -> &'static str {
        match self {
            Isolation::Sandbox => "sandbox",
            Isolation::Host => "host",
        }
    }

    /// Whether sandboxes can be made here; tries one.
    pub fn sandbox_works() -> bool {
        let mut command = std::process::Command::new("bwrap");
        command.args(["--ro-bind", "/", "/", "--dev", "/dev", "--proc", "/proc", "--unshare-pid", "--unshare-ipc", "true"]);
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok_and(|status| status.success())
    }
}

/// The folders a job may use.
#[derive(Debug, Clone)]
pub(crate) struct JobFolders {
    /// Where its steps start.
    pub(crate) files: PathBuf,
    pub(crate) tmp: PathBuf,
    /// The runner's own folder, hidden from a sandbox.
    pub(crate) runner: PathBuf,
}

/// The program and arguments that run `command` in `dir`, with `env` and nothing else in its environment.
pub(crate) fn command(
    isolation: Isolation,
    folders: &JobFolders,
    dir: &Path,
    command: &[String],
    env: &[(String, String)],
) -> tokio::process::Command {
    let (program, arguments) = match isolation {
        Isolation::Host => (OsString::from(&command[0]), command[1..].iter().map(OsString::from).collect()),
        Isolation::Sandbox => (OsString::from("bwrap"), sandbox(folders, dir, command, env)),
    };
    let mut built = tokio::process::Command::new(program);
    built.args(arguments).env_clear().process_group(0).stdin(Stdio::null());
    match isolation {
        Isolation::Host => built.current_dir(dir).envs(env.iter().map(|(name, value)| (name, value))),
        // The sandbox's own processes get no mark of the job in their environment, so that they can be told apart.
        Isolation::Sandbox => built.env("PATH", std::env::var_os("PATH").unwrap_or_default()),
    };
    built
}

fn sandbox(folders: &JobFolders, dir: &Path, command: &[String], env: &[(String, String)]) -> Vec<OsString> {
    let mut args: Vec<OsString> = Vec::new();
    let mut add = |parts: &[&std::ffi::OsStr]| args.extend(parts.iter().map(OsString::from));
    let (files, tmp, runner) = (folders.files.as_os_str(), folders.tmp.as_os_str(), folders.runner.as_os_str());
    let os = |text: &'static str| std::ffi::OsStr::new(text);
    add(&[os("--ro-bind"), os("/"), os("/"), os("--dev"), os("/dev"), os("--proc"), os("/proc")]);
    add(&[os("--bind"), tmp, os("/tmp"), os("--tmpfs"), runner, os("--bind"), files, files]);
    add(&[os("--unshare-pid"), os("--unshare-ipc"), os("--unshare-uts"), os("--die-with-parent"), os("--chdir"), dir.as_os_str()]);
    for (name, value) in env {
        add(&[os("--setenv"), name.as_ref(), value.as_ref()]);
    }
    add(&[os("--")]);
    args.extend(command.iter().map(OsString::from));
    args
}
