//! Objects of a mirror, read through one `git cat-file` that stays open while it is used: an answer costs microseconds, a
//! process would cost milliseconds.

use crate::command::{GitError, base};
use std::path::Path;
use std::process::Stdio;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::process::{Child, ChildStdin, ChildStdout};
use tokio::sync::Mutex;

/// The largest object that is read whole. Files that are read are pipelines, lists of submodules and pointers.
pub(crate) const LARGEST: u64 = 32 * 1024 * 1024;
/// How long one answer may take.
const PATIENCE: Duration = Duration::from_secs(60);
/// After so long without a question the process ends.
const IDLE: Duration = Duration::from_secs(30);

/// An object by its name.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Object {
    pub(crate) id: String,
    /// `commit`, `tree`, `blob`, `tag`
    pub(crate) kind: String,
    pub(crate) size: u64,
    /// Empty where only the rest was asked for.
    pub(crate) bytes: Vec<u8>,
}

struct Open {
    /// Ends with this value.
    _child: Child,
    stdin: ChildStdin,
    stdout: BufReader<ChildStdout>,
    used: Instant,
}

/// The objects of one repository. One question at a time.
#[derive(Default, Clone)]
pub(crate) struct Objects(Arc<Mutex<Option<Open>>>);

#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum What {
    About,
    Whole,
}

impl Objects {
    /// An object of the bare repository in `dir`; none when there is none of that name. `name` is anything that git takes,
    /// without a line's end.
    pub(crate) async fn get(&self, dir: &Path, name: &str, what: What) -> Result<Option<Object>, GitError> {
        if name.contains('\n') || !dir.join("HEAD").exists() {
            return Ok(None);
        }
        let mut held = self.0.lock().await;
        // Taken out while it is used: one whose answer was not read to its end is not asked again.
        let mut open = match held.take() {
            Some(open) => open,
            None => self.open(dir)?,
        };
        let answer = tokio::time::timeout(PATIENCE, open.ask(name, what)).await;
        let object = answer.map_err(|_| GitError::TimedOut { verb: "cat-file".into() })??;
        open.used = Instant::now();
        // A process that runs already takes all for absent once the folder is gone: nobody could look.
        if object.is_none() && !dir.join("objects").is_dir() {
            return Err(unread());
        }
        *held = Some(open);
        Ok(object)
    }

    /// Ends the process: the repository goes away.
    pub(crate) async fn close(&self) {
        self.0.lock().await.take();
    }

    fn open(&self, dir: &Path) -> Result<Open, GitError> {
        let mut command = base(dir);
        command.args(["cat-file", "--batch-command"]);
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut child = command.spawn().map_err(GitError::Start)?;
        let (Some(stdin), Some(stdout)) = (child.stdin.take(), child.stdout.take()) else { return Err(unread()) };
        let held = Arc::downgrade(&self.0);
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(IDLE).await;
                let Some(held) = held.upgrade() else { return };
                let mut open = held.lock().await;
                if open.as_ref().is_none_or(|open| open.used.elapsed() >= IDLE) {
                    open.take();
                    return;
                }
            }
        });
        Ok(Open { _child: child, stdin, stdout: BufReader::new(stdout), used: Instant::now() })
    }
}

impl Open {
    async fn ask(&mut self, name: &str, what: What) -> Result<Option<Object>, GitError> {
        let verb = if what == What::Whole { "contents" } else { "info" };
        let gone = |_| unread();
        self.stdin.write_all(format!("{verb} {name}\n").as_bytes()).await.map_err(gone)?;
        let mut head = Vec::new();
        self.stdout.read_until(b'\n', &mut head).await.map_err(gone)?;
        let Some(mut object) = parse_head(&head)? else { return Ok(None) };
        if what == What::Whole {
            if object.size > LARGEST {
                return Err(GitError::Large { name: name.to_owned(), bytes: object.size });
            }
            let mut bytes = vec![0; usize::try_from(object.size).unwrap_or(0) + 1];
            self.stdout.read_exact(&mut bytes).await.map_err(gone)?;
            bytes.pop();
            object.bytes = bytes;
        }
        Ok(Some(object))
    }
}

fn unread() -> GitError {
    GitError::Failed { verb: "cat-file".into(), said: "its answer could not be read".into(), code: None }
}

/// `ID TYPE SIZE`, or `NAME missing`, `NAME ambiguous`.
fn parse_head(line: &[u8]) -> Result<Option<Object>, GitError> {
    let text = String::from_utf8_lossy(line);
    let text = text.strip_suffix('\n').ok_or_else(unread)?;
    if text.ends_with(" missing") || text.ends_with(" ambiguous") {
        return Ok(None);
    }
    let mut words = text.split(' ');
    let (Some(id), Some(kind), Some(size), None) = (words.next(), words.next(), words.next(), words.next()) else { return Err(unread()) };
    let size = size.parse().map_err(|_| unread())?;
    Ok(Some(Object { id: id.to_owned(), kind: kind.to_owned(), size, bytes: Vec::new() }))
}

/// An entry of a tree: `40000 src`, `100644 Makefile`, `160000 deps/keel`.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct TreeEntry {
    pub(crate) mode: String,
    pub(crate) name: Vec<u8>,
    /// In hexadecimal digits.
    pub(crate) id: String,
}

impl TreeEntry {
    pub(crate) fn is_tree(&self) -> bool {
        self.mode == "40000"
    }
}

/// The entries of a tree object: mode, space, name, zero, 20 bytes of id, again and again.
pub(crate) fn tree_entries(mut bytes: &[u8]) -> Option<Vec<TreeEntry>> {
    let mut entries = Vec::new();
    while !bytes.is_empty() {
        let space = bytes.iter().position(|byte| *byte == b' ')?;
        let zero = bytes.iter().position(|byte| *byte == 0).filter(|zero| *zero > space)?;
        let id = bytes.get(zero + 1..zero + 21)?;
        entries.push(TreeEntry {
            mode: String::from_utf8(bytes[..space].to_vec()).ok()?,
            name: bytes[space + 1..zero].to_vec(),
            id: id.iter().map(|byte| format!("{byte:02x}")).collect(),
        });
        bytes = &bytes[zero + 21..];
    }
    Some(entries)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn heads_are_told_apart() {
        let id = "0123456789012345678901234567890123456789";
        let object = parse_head(format!("{id} commit 12\n").as_bytes()).unwrap().unwrap();
        assert_eq!((object.id.as_str(), object.kind.as_str(), object.size), (id, "commit", 12));
        assert_eq!(parse_head(b"a name with spaces missing\n").unwrap(), None);
        assert_eq!(parse_head(b"012345 ambiguous\n").unwrap(), None);
        for broken in [&b""[..], b"half", b"x y\n", b"a b c\n", b"a b 1 d\n"] {
            assert!(parse_head(broken).is_err(), "{broken:?}");
        }
    }

    #[test]
    fn a_tree_is_read_entry_by_entry() {
        let mut bytes = Vec::new();
        for (mode, name) in [("100644", "a b"), ("40000", "src"), ("160000", "keel")] {
            bytes.extend_from_slice(format!("{mode} {name}\0").as_bytes());
            bytes.extend_from_slice(&[0xab; 20]);
        }
        let entries = tree_entries(&bytes).unwrap();
        let seen: Vec<(&str, &[u8])> = entries.iter().map(|entry| (entry.mode.as_str(), &entry.name[..])).collect();
        assert_eq!(seen, [("100644", &b"a b"[..]), ("40000", b"src"), ("160000", b"keel")]);
        assert!(entries.iter().all(|entry| entry.id == "ab".repeat(20)));
        assert_eq!(tree_entries(&[]), Some(Vec::new()));
        for cut in 1..bytes.len() {
            let _ = tree_entries(&bytes[..cut]);
        }
        assert_eq!(tree_entries(&bytes[..bytes.len() - 1]), None);
    }
}
