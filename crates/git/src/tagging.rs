//! A tag that is made here: annotated, on exactly one commit, signed where the project has a key of its own.

use crate::access::Key;
use crate::command::{GitError, base, checked, git, git_with_input, run};
use crate::mirror::Mirror;
use tokio::process::Command;

/// What became of a tag that was to be made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Tagged {
    Done,
    /// The tag is there, and names this other commit.
    Names(String),
    /// The server says no.
    Refused(String),
}

impl Mirror {
    /// Makes an annotated tag on a commit that the mirror has, and pushes it. One that names the commit already is left as it
    /// is. `time`: seconds since 1970; told again with the same, it makes the same tag. `Err`: nobody knows whether it arrived.
    pub async fn make_tag(&self, name: &str, commit: &str, message: &str, time: i64) -> Result<Tagged, GitError> {
        let (name, commit) = (checked(name)?, checked(commit)?);
        if let Some(there) = self.tagged(name, commit).await? {
            return Ok(there);
        }
        let id = self.tag_object(name, commit, message, time).await?;
        let refs = format!("{id}:refs/tags/{name}");
        let pushed = self.outward(&["push", "--quiet", "--atomic", "--end-of-options", &self.url, &refs]).await;
        let Err(error) = pushed else { return Ok(Tagged::Done) };
        match self.tagged(name, commit).await? {
            Some(there) => Ok(there),
            None => match error {
                GitError::Failed { said, .. } if said.contains("rejected") || said.contains("denied") => Ok(Tagged::Refused(said)),
                error => Err(error),
            },
        }
    }

    /// What the repository's tag of this name is to the commit now, as the repository itself says; none where there is no such
    /// tag there.
    pub async fn tagged(&self, name: &str, commit: &str) -> Result<Option<Tagged>, GitError> {
        let full = format!("refs/tags/{name}");
        if !self.look().await?.contains_key(&full) {
            return Ok(None);
        }
        self.need_tag(name, commit).await?;
        let there = self.id(&format!("{full}^{{commit}}")).await?;
        Ok(Some(if there.as_deref() == Some(commit) { Tagged::Done } else { Tagged::Names(there.unwrap_or_default()) }))
    }

    /// The tag as an object of the mirror that nothing names yet.
    async fn tag_object(&self, name: &str, commit: &str, message: &str, time: i64) -> Result<String, GitError> {
        let mut dated = base(self.dir());
        dated.env("GIT_COMMITTER_DATE", format!("{time} +0000"));
        let who = run(dated, &["var", "GIT_COMMITTER_IDENT"], None).await?;
        let who = String::from_utf8_lossy(&who).trim().to_owned();
        let mut text = format!("object {commit}\ntype commit\ntag {name}\ntagger {who}\n\n{}\n", message.trim_end());
        if let Some(key) = &self.access.key {
            text.push_str(&key.sign(&text).await?);
        }
        let out = git_with_input(self.dir(), &["mktag"], text.as_bytes()).await?;
        Ok(String::from_utf8_lossy(&out).trim().to_owned())
    }

    /// What a tag names now, as of the last fetch; none where there is none.
    pub async fn tag_commit(&self, name: &str) -> Result<Option<String>, GitError> {
        self.id(&format!("refs/tags/{}^{{commit}}", checked(name)?)).await
    }

    /// The names of all tags as of the last fetch, the newest first.
    pub async fn tag_names(&self) -> Result<Vec<String>, GitError> {
        let out = git(self.dir(), &["for-each-ref", "--sort=-creatordate", "--format=%(refname:lstrip=2)", "refs/tags"]).await?;
        Ok(String::from_utf8_lossy(&out).lines().map(str::to_owned).collect())
    }
}

impl Key {
    /// A signature of a text, as git wants it at the end of a tag (`gpg.format = ssh`).
    async fn sign(&self, text: &str) -> Result<String, GitError> {
        let failed = |source| GitError::Folder { path: std::env::temp_dir(), source };
        let folder = tempfile::tempdir().map_err(failed)?;
        let path = self.write_into(folder.path())?;
        let mut command = Command::new("ssh-keygen");
        command.args(["-q", "-Y", "sign", "-n", "git", "-f"]).arg(&path).env("LC_ALL", "C").kill_on_drop(true);
        let out = run(command, &[], Some(text.as_bytes())).await.map_err(|error| match error {
            GitError::Start(source) => GitError::NoSsh(source),
            other => other,
        })?;
        Ok(String::from_utf8_lossy(&out).into_owned())
    }
}
