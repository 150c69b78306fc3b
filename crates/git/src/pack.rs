//! What a service sends of a mirror: a commit with so much of its history, without what the other side has.
//!
//! `git upload-pack` makes it (gitprotocol-v2), and the service itself writes what it is asked: the other side says only
//! what it has. So nothing is sent but what is reachable from the commit, and the tags that name a commit within.

use crate::command::{GitError, base, checked, is_id};
use crate::mirror::Mirror;
use crate::packet::{PACK_WORDS, request};
use std::pin::Pin;
use std::process::Stdio;
use std::task::{Context, Poll};
use tokio::io::{AsyncRead, AsyncWriteExt, ReadBuf};
use tokio::process::{Child, ChildStdout};

/// As much as the other side may say that it has.
pub(crate) const HAVES: usize = 256;

/// What is asked for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct PackAsk {
    /// The newest commit.
    pub commit: String,
    /// So many commits of history; all when absent.
    pub depth: Option<u32>,
    /// Commits whose files the other side has.
    pub haves: Vec<String>,
    /// Those of its commits whose parents it does not have.
    pub shallows: Vec<String>,
}

/// An answer as it is made. Ends the processes that make it when it is dropped.
pub struct PackStream {
    _child: Child,
    stdout: ChildStdout,
}

impl AsyncRead for PackStream {
    fn poll_read(mut self: Pin<&mut Self>, context: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stdout).poll_read(context, buffer)
    }
}

impl Mirror {
    /// Begins to answer; the mirror has the commit. What else the other side has is passed over.
    pub async fn pack(&self, ask: &PackAsk) -> Result<PackStream, GitError> {
        // Asked for by name, a tag brings as much history as the commit does; those within a part of it come with their commits.
        let mut tags = self.tags_within(&ask.commit, ask.depth).await?;
        tags.retain(|tag| tag.id != tag.commit && (ask.depth.is_none() || tag.commit == ask.commit));
        let mut said: Vec<String> = PACK_WORDS.map(str::to_owned).to_vec();
        for (word, ids) in [("shallow", &ask.shallows), ("have", &ask.haves)] {
            for id in ids.iter().take(HAVES).filter(|id| is_id(id)) {
                // What this mirror never had means nothing to it.
                if self.has(id).await? {
                    said.push(format!("{word} {id}"));
                }
            }
        }
        said.extend(ask.depth.map(|depth| format!("deepen {depth}")));
        said.push(format!("want {}", checked(&ask.commit)?));
        said.extend(tags.iter().map(|tag| format!("want {}", tag.id)));
        said.push("done".to_owned());
        let request = request("fetch", said.into_iter());
        let mut command = base(self.dir());
        command.args(["upload-pack", "--stateless-rpc", "--strict"]).arg(self.dir()).env("GIT_PROTOCOL", "version=2");
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut child = command.spawn().map_err(GitError::Start)?;
        let broke = || GitError::Failed { verb: "upload-pack".into(), said: "it has no input or output".into(), code: None };
        let (mut stdin, stdout) = child.stdin.take().zip(child.stdout.take()).ok_or_else(broke)?;
        // Read by git as it comes: it answers only after the end.
        stdin.write_all(&request).await.map_err(GitError::Start)?;
        drop(stdin);
        Ok(PackStream { _child: child, stdout })
    }
}
