//! Proposals put on top of a commit, and branches pushed from exactly one commit to another. What is made lies in the
//! mirror and nowhere else until it is pushed.

use crate::command::{GitError, base, checked, git, run};
use crate::mirror::Mirror;
use tokio::process::Command;

/// How a proposal is put in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PutHow {
    /// A commit with two parents.
    Merge,
    /// One commit with all that it changes.
    Squash,
    /// Each of its commits, one after the other.
    Rebase,
}

/// What the commit says, and whose it is.
#[derive(Debug, Clone)]
pub struct Saying {
    pub message: String,
    /// Of one commit that stands for many: who offers them.
    pub author: Option<String>,
    /// Seconds since 1970: with the same moment the same commit is made.
    pub time: i64,
}

/// What became of putting a commit on top of another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Put {
    Made(String),
    /// These paths changed on both sides.
    Conflict(Vec<String>),
    /// It is there already.
    Contained,
}

/// What became of a push.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Pushed {
    Done,
    /// The branch holds the commit already, below this one or as this one.
    Holds(String),
    /// The branch names another commit than it should.
    Moved(String),
    /// There is no such branch any more.
    Gone,
    /// The server says no.
    Refused(String),
}

impl Mirror {
    /// Puts `head` on top of `on`, as a new commit that no branch names.
    pub async fn put_on(&self, on: &str, head: &str, how: PutHow, saying: &Saying) -> Result<Put, GitError> {
        let (on, head) = (checked(on)?, checked(head)?);
        if self.leads_to(head, on).await? {
            return Ok(Put::Contained);
        }
        match how {
            PutHow::Merge => self.merge(on, head, saying).await,
            PutHow::Squash => self.squash(on, head, saying).await,
            PutHow::Rebase => self.rebase(on, head, saying.time).await,
        }
    }

    /// The tree of both together, or what conflicts. `from`: what `theirs` is a change of; where they part when absent.
    pub(crate) async fn together(&self, ours: &str, theirs: &str, from: Option<&str>) -> Result<Result<String, Vec<String>>, GitError> {
        let from = from.map(|from| format!("--merge-base={from}"));
        let mut args = vec!["merge-tree", "--write-tree", "--name-only", "--no-messages"];
        args.extend(from.as_deref());
        args.extend([ours, theirs]);
        let mut command = base(self.dir());
        // git ends with 1 and still says which paths conflict.
        let output = command.args(&args).kill_on_drop(true).output().await.map_err(GitError::Start)?;
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        let mut lines = text.lines().filter(|line| !line.is_empty()).map(str::to_owned);
        match (output.status.code(), lines.next()) {
            (Some(0), Some(tree)) => Ok(Ok(tree)),
            (Some(1), Some(_)) => Ok(Err(lines.take(100).collect())),
            (code, _) => {
                let said = String::from_utf8_lossy(&output.stderr).trim().chars().take(400).collect();
                Err(GitError::Failed { verb: "merge-tree".into(), said, code })
            }
        }
    }

    fn dated(&self, time: i64) -> Command {
        let mut command = base(self.dir());
        command.env("GIT_COMMITTER_DATE", format!("{time} +0000")).env("GIT_AUTHOR_DATE", format!("{time} +0000"));
        command
    }

    async fn tree(&self, commit: &str) -> Result<String, GitError> {
        let out = git(self.dir(), &["rev-parse", "--verify", "--end-of-options", &format!("{commit}^{{tree}}")]).await?;
        Ok(String::from_utf8_lossy(&out).trim().to_owned())
    }

    async fn commit_tree(&self, command: Command, tree: &str, parents: &[&str], message: &str) -> Result<String, GitError> {
        let mut args = vec!["commit-tree", tree];
        parents.iter().for_each(|parent| args.extend(["-p", parent]));
        args.extend(["-F", "-"]);
        let out = run(command, &args, Some(message.as_bytes())).await?;
        Ok(String::from_utf8_lossy(&out).trim().to_owned())
    }

    async fn merge(&self, on: &str, head: &str, saying: &Saying) -> Result<Put, GitError> {
        let tree = match self.together(on, head, None).await? {
            Ok(tree) => tree,
            Err(paths) => return Ok(Put::Conflict(paths)),
        };
        Ok(Put::Made(self.commit_tree(self.dated(saying.time), &tree, &[on, head], &saying.message).await?))
    }

    async fn squash(&self, on: &str, head: &str, saying: &Saying) -> Result<Put, GitError> {
        let tree = match self.together(on, head, None).await? {
            Ok(tree) => tree,
            Err(paths) => return Ok(Put::Conflict(paths)),
        };
        if tree == self.tree(on).await? {
            return Ok(Put::Contained);
        }
        let mut command = self.dated(saying.time);
        let [name, mail] = self.author(head).await?;
        command.env("GIT_AUTHOR_NAME", saying.author.as_ref().unwrap_or(&name)).env("GIT_AUTHOR_EMAIL", mail);
        Ok(Put::Made(self.commit_tree(command, &tree, &[on], &saying.message).await?))
    }

    async fn author(&self, commit: &str) -> Result<[String; 2], GitError> {
        let out = git(self.dir(), &["log", "-1", "--format=%an%x00%ae", "--end-of-options", commit]).await?;
        let text = String::from_utf8_lossy(&out).trim_end().to_owned();
        let (name, mail) = text.split_once('\0').unwrap_or((&text, ""));
        Ok([name.to_owned(), mail.to_owned()])
    }

    /// Every commit that is not there yet, oldest first; merges among them are left out: what they bring is in the others.
    async fn rebase(&self, on: &str, head: &str, time: i64) -> Result<Put, GitError> {
        // As a whole it must fit, and bring something: its commits one by one say neither.
        match self.together(on, head, None).await? {
            Err(paths) => return Ok(Put::Conflict(paths)),
            Ok(tree) if tree == self.tree(on).await? => return Ok(Put::Contained),
            Ok(_) => {}
        }
        let range = format!("{on}..{head}");
        let out = git(self.dir(), &["rev-list", "--reverse", "--topo-order", "--no-merges", "--max-count=1000", &range]).await?;
        let commits: Vec<String> = String::from_utf8_lossy(&out).lines().map(str::to_owned).collect();
        let mut tip = on.to_owned();
        for commit in &commits {
            let parent = self.parent(commit).await?;
            let tree = match self.together(&tip, commit, parent.as_deref()).await? {
                Ok(tree) => tree,
                Err(paths) => return Ok(Put::Conflict(paths)),
            };
            if tree == self.tree(&tip).await? {
                continue;
            }
            let [name, mail] = self.author(commit).await?;
            let date = git(self.dir(), &["log", "-1", "--format=%ad", "--date=raw", "--end-of-options", commit]).await?;
            let mut command = self.dated(time);
            command.env("GIT_AUTHOR_NAME", name).env("GIT_AUTHOR_EMAIL", mail);
            command.env("GIT_AUTHOR_DATE", String::from_utf8_lossy(&date).trim());
            let message = self.commit(commit).await?.message;
            tip = self.commit_tree(command, &tree, &[&tip], &message).await?;
        }
        Ok(if tip == on { Put::Contained } else { Put::Made(tip) })
    }

    /// Pushes a branch from one commit to another: only if it names exactly the first. `Err`: nobody knows whether the push
    /// arrived.
    pub async fn push_from(&self, branch: &str, from: &str, commit: &str) -> Result<Pushed, GitError> {
        let full = format!("refs/heads/{}", checked(branch)?);
        let (from, commit) = (checked(from)?, checked(commit)?);
        if let Some(there) = self.whether_there(&full, from, commit).await? {
            return Ok(there);
        }
        let lease = format!("--force-with-lease={full}:{from}");
        let refs = format!("{commit}:{full}");
        let pushed = self.outward(&["push", "--quiet", "--atomic", &lease, "--end-of-options", &self.url, &refs]).await;
        let Err(error) = pushed else { return Ok(Pushed::Done) };
        // Where the branch is now says what became of it; without that nobody knows.
        match self.whether_there(&full, from, commit).await? {
            Some(there) => Ok(there),
            None => match error {
                GitError::Failed { said, .. } if said.contains("rejected") || said.contains("denied") => Ok(Pushed::Refused(said)),
                error => Err(error),
            },
        }
    }

    /// Whether the branch is anywhere else than at `from`.
    async fn whether_there(&self, full: &str, from: &str, commit: &str) -> Result<Option<Pushed>, GitError> {
        let Some(there) = self.look().await?.remove(full) else { return Ok(Some(Pushed::Gone)) };
        if there == from {
            return Ok(None);
        }
        if !self.has(&there).await? {
            self.fetch_all().await?;
        }
        let holds = there == commit || (self.has(&there).await? && self.leads_to(commit, &there).await?);
        Ok(Some(if holds { Pushed::Holds(there) } else { Pushed::Moved(there) }))
    }
}
