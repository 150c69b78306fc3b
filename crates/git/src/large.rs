//! Files that git-lfs keeps outside of git, by the pointers of a commit. git-lfs itself fetches them.

use crate::command::{GitError, checked, git, run};
use crate::mirror::Mirror;
use crate::pointer::{FIRST, Pointer, is_oid};
use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;

/// No pointer is larger.
const LARGEST: u64 = 1024;

impl Mirror {
    /// Every content that a commit's files point to, each once. Those of the commit asked for last are remembered.
    pub async fn pointers(&self, commit: &str) -> Result<Arc<Vec<Pointer>>, GitError> {
        let mut known = self.pointers.lock().await;
        if let Some((_, pointers)) = known.as_ref().filter(|(of, _)| of == commit) {
            return Ok(pointers.clone());
        }
        let pointers = Arc::new(self.read_pointers(commit).await?);
        *known = Some((commit.to_owned(), pointers.clone()));
        Ok(pointers)
    }

    async fn read_pointers(&self, commit: &str) -> Result<Vec<Pointer>, GitError> {
        let format = "--format=%(objecttype) %(objectsize) %(objectname)";
        let out = git(self.dir(), &["ls-tree", "-r", "--full-tree", format, checked(commit)?]).await?;
        let text = String::from_utf8_lossy(&out);
        let small: BTreeSet<&str> = text.lines().filter_map(small_blob).collect();
        let mut found = BTreeSet::new();
        for id in small {
            found.extend(self.object(id).await?.and_then(|object| Pointer::parse(&object.bytes)));
        }
        Ok(found.into_iter().collect())
    }

    /// Fetches the contents that a commit's files point to, unless they are here.
    pub async fn need_large(&self, commit: &str, pointers: &[Pointer]) -> Result<(), GitError> {
        let missing = || pointers.iter().find(|pointer| !self.large(&pointer.oid).is_some_and(|path| path.is_file()));
        if missing().is_none() {
            return Ok(());
        }
        let _one_at_a_time = self.fetching.lock().await;
        let (mut command, _lent) = self.outward_command()?;
        // From this repository, whatever a file of the commit says.
        command.args(["-c", &format!("remote.origin.url={}", self.url), "-c", &format!("lfs.url={}", self.large_url())]);
        command.args(["-c", "lfs.basictransfersonly=true", "-c", "lfs.activitytimeout=60", "-c", "lfs.dialtimeout=30"]);
        run(command, &["lfs", "fetch", "origin", checked(commit)?], None).await.map_err(without_git_lfs)?;
        match missing() {
            None => Ok(()),
            Some(pointer) => {
                let said = format!("the repository's server has no file {} of {} bytes", pointer.oid, pointer.bytes);
                Err(GitError::Failed { verb: "lfs fetch".into(), said, code: None })
            }
        }
    }

    /// Where a content is kept once it is fetched; none for what names none.
    pub fn large(&self, oid: &str) -> Option<PathBuf> {
        is_oid(oid).then(|| self.dir().join("lfs/objects").join(&oid[..2]).join(&oid[2..4]).join(oid))
    }

    /// As git-lfs derives it from a repository's address.
    fn large_url(&self) -> String {
        let plain = self.url.trim_end_matches('/');
        match self.url.contains("://") {
            false => plain.to_owned(),
            true if plain.ends_with(".git") => format!("{plain}/info/lfs"),
            true => format!("{plain}.git/info/lfs"),
        }
    }
}

fn without_git_lfs(error: GitError) -> GitError {
    match error {
        GitError::Failed { said, .. } if said.contains("is not a git command") => GitError::NoLargeFiles,
        other => other,
    }
}

/// `blob SIZE ID`, where a pointer fits in.
fn small_blob(line: &str) -> Option<&str> {
    let mut words = line.split_ascii_whitespace();
    let (kind, size, id) = (words.next()?, words.next()?.parse::<u64>().ok()?, words.next()?);
    (kind == "blob" && size < LARGEST && size > FIRST.len() as u64).then_some(id)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_may_be_a_pointer_is_read() {
        assert_eq!(small_blob("blob 130 aa"), Some("aa"));
        assert!(["blob 4000 aa", "tree - aa", "blob 3 aa", "commit - aa"].into_iter().all(|line| small_blob(line).is_none()));
    }
}
