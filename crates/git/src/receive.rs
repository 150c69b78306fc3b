//! Takes in what `git upload-pack` sends (gitprotocol-v2): into a runner's store, or into a mirror.

use crate::command::{GitError, base, is_id};
use crate::packet::{self, Packet};
use std::collections::BTreeSet;
use std::path::Path;
use std::process::Stdio;
use tokio::io::{AsyncRead, AsyncWriteExt};

/// How a pack is taken in.
#[derive(Clone, Copy)]
pub(crate) struct Taking {
    /// In bytes.
    pub(crate) limit: u64,
    /// It is on the disk before it counts; else a crash of the machine may leave what has to be fetched again.
    pub(crate) lasts: bool,
}

/// Takes in an answer of `git upload-pack` to a fetch: which commits have no parents here, then the pack.
pub(crate) async fn receive(
    dir: &Path,
    from: &mut (impl AsyncRead + Unpin),
    shallows: &mut BTreeSet<String>,
    taking: Taking,
) -> Result<(), GitError> {
    loop {
        match next(from).await? {
            Packet::Line(line) if line == b"packfile\n" => return take_pack(dir, from, taking).await,
            Packet::Line(line) => {
                let text = String::from_utf8_lossy(&line);
                match text.trim_end().split_once(' ') {
                    Some(("shallow", id)) if is_id(id) => drop(shallows.insert(id.to_owned())),
                    Some(("unshallow", id)) => drop(shallows.remove(id)),
                    Some(("ERR", _)) => return Err(GitError::Received("the service's git refused")),
                    _ => {}
                }
            }
            Packet::Part => {}
            Packet::End => return Err(GitError::Received("there was no pack in the answer")),
        }
    }
}

/// Lines with a first byte that says what they are: 1 the pack, 2 what git tells people, 3 why it ends.
async fn take_pack(dir: &Path, from: &mut (impl AsyncRead + Unpin), taking: Taking) -> Result<(), GitError> {
    let mut command = base(dir);
    if !taking.lasts {
        command.args(["-c", "core.fsync=none"]);
    }
    command.args(["index-pack", "--stdin", "--fix-thin", &format!("--max-input-size={}", taking.limit)]);
    command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped());
    let mut child = command.spawn().map_err(GitError::Start)?;
    let mut stdin = child.stdin.take().ok_or(GitError::Received("git index-pack takes no input"))?;
    loop {
        match next(from).await? {
            Packet::Line(line) => match line.split_first() {
                // Where it ended early, its status says more.
                Some((1, pack)) if stdin.write_all(pack).await.is_err() => break,
                Some((3, _)) => return Err(GitError::Received("the service's git broke off")),
                _ => {}
            },
            Packet::End => break,
            Packet::Part => return Err(GitError::Received("the pack has no end")),
        }
    }
    drop(stdin);
    let done = child.wait_with_output().await.map_err(GitError::Start)?;
    if done.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&done.stderr).trim().chars().take(400).collect();
    Err(GitError::Failed { verb: "index-pack".into(), said, code: done.status.code() })
}

async fn next(from: &mut (impl AsyncRead + Unpin)) -> Result<Packet, GitError> {
    packet::read(from).await.map_err(|_| GitError::Received("the answer broke off"))
}

/// As a whole, or not at all.
pub(crate) fn write(path: &Path, text: &str) -> Result<(), GitError> {
    let failed = |source| GitError::Folder { path: path.to_owned(), source };
    // No ref is called so, and git's own changes of one wait for such a file to go.
    let aside = std::path::PathBuf::from(format!("{}.lock", path.display()));
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder).map_err(failed)?;
    }
    std::fs::write(&aside, text).and_then(|()| std::fs::rename(&aside, path)).map_err(failed)
}
