//! One way to call git: environment pinned, nothing on standard input unless given, a limit on the time, and errors
//! that carry what git said.

use crate::timing;
use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, Instant};
use tokio::io::AsyncWriteExt;
use tokio::process::Command;
use tracing::Instrument;
use tracing::field::Empty;

/// How long one call may take; fetching a large repository for the first time is the longest.
const TIME_LIMIT: Duration = Duration::from_secs(600);

/// Why git could not do something. What is not there is not an error where a function says so by `None` or `false`.
#[derive(Debug, thiserror::Error)]
pub enum GitError {
    #[error("git could not be started; is it installed?")]
    Start(#[source] std::io::Error),
    #[error("the mirror {} could not be made", path.display())]
    Folder {
        path: std::path::PathBuf,
        #[source]
        source: std::io::Error,
    },
    #[error("git {verb} did not end within {} s", TIME_LIMIT.as_secs())]
    TimedOut { verb: String },
    #[error("git {verb} failed: {said}")]
    Failed {
        verb: String,
        said: String,
        /// What git ended with; 1 is its plain no.
        code: Option<i32>,
    },
    #[error("ssh could not be started; is it installed?")]
    NoSsh(#[source] std::io::Error),
    #[error("the repository has files of git-lfs, and git-lfs is not installed here; install it (Debian: git-lfs) where the service runs")]
    NoLargeFiles,
    #[error("the repository's files could not be received: {0}")]
    Received(&'static str),
    #[error("`{name}` has {bytes} bytes, which is more than is read")]
    Large { name: String, bytes: u64 },
    #[error("`{name}` cannot be the name of a branch or commit")]
    BadName { name: String },
}

/// What of the service's own environment git may see: how to reach other machines is for its owner to say.
const KEPT: [&str; 4] = ["GIT_SSH_COMMAND", "GIT_SSL_CAINFO", "GIT_SSL_CAPATH", "GIT_EXEC_PATH"];

/// What git answered, or nothing where it said a plain no: that something is not there. Anything else that goes wrong only
/// means that it could not be looked at.
pub(crate) fn unless_no(done: Result<Vec<u8>, GitError>) -> Result<Option<Vec<u8>>, GitError> {
    match done {
        Ok(out) => Ok(Some(out)),
        Err(GitError::Failed { code: Some(1), .. }) => Ok(None),
        Err(error) => Err(error),
    }
}

/// Runs git in a bare repository and gives its standard output.
pub(crate) async fn git(dir: &Path, args: &[&str]) -> Result<Vec<u8>, GitError> {
    run(base(dir), args, None).await
}

/// The same with bytes on standard input.
pub(crate) async fn git_with_input(dir: &Path, args: &[&str], input: &[u8]) -> Result<Vec<u8>, GitError> {
    run(base(dir), args, Some(input)).await
}

/// A call to which more is set before it is run.
pub(crate) fn base(dir: &Path) -> Command {
    let mut command = Command::new("git");
    for (name, _) in std::env::vars_os() {
        let ours = name.to_str().is_some_and(|name| name.starts_with("GIT_") && !KEPT.contains(&name));
        if ours {
            command.env_remove(name);
        }
    }
    command
        .arg("--git-dir")
        .arg(dir)
        // No file of this machine's, and nothing in a mirror, makes git run a program or go elsewhere.
        .args(["-c", "core.hooksPath=/dev/null", "-c", "core.attributesFile=/dev/null", "-c", "core.fsmonitor=false"])
        .args(["-c", "http.followRedirects=false", "-c", "credential.helper=", "-c", "protocol.ext.allow=never"])
        .env("GIT_CONFIG_NOSYSTEM", "1")
        .env("GIT_CONFIG_GLOBAL", "/dev/null")
        .env("GIT_ATTR_NOSYSTEM", "1")
        .env("GIT_ALLOW_PROTOCOL", "https:http:ssh")
        .env("GIT_TERMINAL_PROMPT", "0")
        .env("LC_ALL", "C")
        .env("GIT_AUTHOR_NAME", "Ordotaxis")
        .env("GIT_AUTHOR_EMAIL", "ordotaxis@localhost")
        .env("GIT_COMMITTER_NAME", "Ordotaxis")
        .env("GIT_COMMITTER_EMAIL", "ordotaxis@localhost")
        .kill_on_drop(true);
    command
}

pub(crate) async fn run(mut command: Command, args: &[&str], input: Option<&[u8]>) -> Result<Vec<u8>, GitError> {
    let verb = args.iter().find(|arg| !arg.starts_with('-')).copied().unwrap_or("command").to_owned();
    command.args(args).stdout(Stdio::piped()).stderr(Stdio::piped());
    command.stdin(if input.is_some() { Stdio::piped() } else { Stdio::null() });
    let since = Instant::now();
    let own = tracing::info_span!("git", otel.name = %format_args!("git {verb}"), ordotaxis.end = Empty);
    let result = ended(command, &verb, input).instrument(own.clone()).await;
    own.record("ordotaxis.end", end_of(&result));
    timing::ended(&verb, since, end_of(&result));
    result
}

/// How a call ended, as it is counted.
fn end_of(result: &Result<Vec<u8>, GitError>) -> &'static str {
    match result {
        Ok(_) => "done",
        Err(GitError::Failed { code: Some(1), .. }) => "no",
        Err(_) => "failed",
    }
}

/// Runs it to its end, within the limit.
async fn ended(mut command: Command, verb: &str, input: Option<&[u8]>) -> Result<Vec<u8>, GitError> {
    let work = async {
        let mut child = command.spawn().map_err(GitError::Start)?;
        if let (Some(mut stdin), Some(input)) = (child.stdin.take(), input) {
            // A git that ends early closes the pipe; its exit status then tells more than the write error.
            let _ = stdin.write_all(input).await;
        }
        child.wait_with_output().await.map_err(GitError::Start)
    };
    let output = tokio::time::timeout(TIME_LIMIT, work).await.map_err(|_| GitError::TimedOut { verb: verb.to_owned() })??;
    if output.status.success() {
        Ok(output.stdout)
    } else {
        Err(GitError::Failed { verb: verb.to_owned(), said: last_words(&output.stderr), code: output.status.code() })
    }
}

/// What tells more than git's own last words.
const SAID_BY_SSH: [&str; 4] = ["rejected", "Permission denied", "Host key verification failed", "Could not resolve hostname"];

/// The lines of git's standard error that matter, shortened to fit a sentence.
fn last_words(stderr: &[u8]) -> String {
    let text = String::from_utf8_lossy(stderr);
    let telling = text
        .lines()
        .filter(|line| line.starts_with("fatal:") || line.starts_with("error:") || SAID_BY_SSH.iter().any(|said| line.contains(said)));
    let mut said: Vec<&str> = telling.take(3).collect();
    if said.is_empty() {
        said = text.lines().filter(|line| !line.trim().is_empty()).rev().take(2).collect();
    }
    said.join("; ").chars().take(400).collect()
}

/// Refuses names that git could read as an option or that hold what no ref may hold.
pub(crate) fn checked(name: &str) -> Result<&str, GitError> {
    let bad =
        name.is_empty() || name.starts_with('-') || name.contains("..") || name.chars().any(|c| c.is_control() || " ~^:?*[\\".contains(c));
    if bad { Err(GitError::BadName { name: name.to_owned() }) } else { Ok(name) }
}

/// The full name of an object.
pub(crate) fn is_id(text: &str) -> bool {
    text.len() == 40 && text.bytes().all(|byte| byte.is_ascii_hexdigit() && !byte.is_ascii_uppercase())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_are_no_names_are_refused() {
        for bad in ["", "-x", "--upload-pack=evil", "a..b", "a b", "a\nb", "a:b", "a^"] {
            assert!(checked(bad).is_err(), "{bad:?}");
        }
        for good in ["main", "topic/a-b", "refs/heads/x", "0123abcd"] {
            assert!(checked(good).is_ok(), "{good:?}");
        }
    }

    /// Nothing that lies on the machine or in a home makes git run a program: asked for all it knows, it names no file of theirs.
    #[tokio::test]
    async fn no_configuration_but_ours_is_read() {
        let folder = tempfile::tempdir().unwrap();
        let home = folder.path().join("home");
        std::fs::create_dir_all(&home).unwrap();
        std::fs::write(home.join(".gitconfig"), "[filter \"evil\"]\n\tsmudge = touch ran\n").unwrap();
        git(folder.path(), &["init", "--quiet", "--bare"]).await.unwrap();
        let mut command = base(folder.path());
        command.env("HOME", &home).env("XDG_CONFIG_HOME", &home);
        let listed = run(command, &["config", "--list", "--show-origin"], None).await.unwrap();
        let listed = String::from_utf8_lossy(&listed);
        assert!(!listed.contains("evil") && !listed.contains("gitconfig"), "{listed}");
        assert!(listed.lines().any(|line| line.contains("core.hookspath=/dev/null")), "{listed}");
    }

    #[test]
    fn what_git_says_is_cut_to_what_matters() {
        let said = b"Cloning into bare repository\nwarning: x\nfatal: repository 'y' does not exist\n";
        assert_eq!(last_words(said), "fatal: repository 'y' does not exist");
    }
}
