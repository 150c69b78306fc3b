//! What lies between commits: changed paths, merges made by rule, tags, and new commits for people.

use crate::command::{GitError, base, checked, git, git_with_input, run, unless_no};
use crate::mirror::Mirror;
use std::collections::BTreeMap;

impl Mirror {
    /// Every file of a commit: path, and its mode and digest as git has them.
    pub async fn digests(&self, commit: &str) -> Result<Vec<(String, String)>, GitError> {
        let out = git(&self.dir, &["ls-tree", "-r", "-z", "--full-tree", checked(commit)?]).await?;
        Ok(out.split(|&byte| byte == 0).filter_map(listed).collect())
    }

    /// The lines that are new or changed from one commit to another: file → line numbers, from 1.
    pub async fn changed_lines(&self, from: &str, to: &str) -> Result<BTreeMap<String, Vec<u32>>, GitError> {
        let args = ["diff-tree", "-r", "-p", "--unified=0", "--no-color", "--no-ext-diff", "--no-renames", checked(from)?, checked(to)?];
        Ok(new_lines(&String::from_utf8_lossy(&git(&self.dir, &args).await?)))
    }

    /// The commits that lead to `to` and not to `from`, newest first, at most so many; without `from` all that lead to it.
    pub async fn between(&self, from: Option<&str>, to: &str, most: usize) -> Result<Vec<Between>, GitError> {
        let range = match from {
            Some(from) => format!("{}..{}", checked(from)?, checked(to)?),
            None => checked(to)?.to_owned(),
        };
        let most = format!("--max-count={most}");
        let args = ["log", "-z", &most, "--no-show-signature", "--format=%H%n%an%n%ae%n%s", "--end-of-options", &range, "--"];
        let out = git(&self.dir, &args).await?;
        Ok(String::from_utf8_lossy(&out).split('\0').filter_map(between).collect())
    }

    /// A commit's first parent; none for a first commit.
    pub async fn parent(&self, commit: &str) -> Result<Option<String>, GitError> {
        self.id(&format!("{}^1^{{commit}}", checked(commit)?)).await
    }

    /// The newest commit that both have; none when they share no history.
    pub async fn merge_base(&self, one: &str, other: &str) -> Result<Option<String>, GitError> {
        let found = unless_no(git(&self.dir, &["merge-base", checked(one)?, checked(other)?]).await)?;
        Ok(found.map(|out| String::from_utf8_lossy(&out).trim().to_owned()))
    }

    /// Whether `one` is among what led to `other`; a commit leads to itself.
    pub async fn leads_to(&self, one: &str, other: &str) -> Result<bool, GitError> {
        if self.leads_to_soon(one, other).await? {
            return Ok(true);
        }
        let asked = git(&self.dir, &["merge-base", "--is-ancestor", checked(one)?, checked(other)?]).await;
        Ok(unless_no(asked)?.is_some())
    }

    /// The commit that a tag names, or a commit by its id (at least seven digits of it). A branch is not taken: it moves.
    pub async fn fixed(&self, at: &str) -> Result<Option<String>, GitError> {
        let at = checked(at)?;
        let is_id = at.len() >= 7 && at.bytes().all(|byte| byte.is_ascii_hexdigit());
        for candidate in [Some(format!("refs/tags/{at}^{{commit}}")), is_id.then(|| format!("{at}^{{commit}}"))].into_iter().flatten() {
            if let Some(id) = self.id(&candidate).await? {
                return Ok(Some(id));
            }
        }
        Ok(None)
    }

    /// When the commits were made that `to` has and `from` has not, the newest first: seconds since 1970, of so many at most.
    pub async fn missing(&self, from: &str, to: &str, most: usize) -> Result<Vec<i64>, GitError> {
        let range = format!("{}..{}", checked(from)?, checked(to)?);
        let out = git(&self.dir, &["log", "--format=%ct", &format!("--max-count={most}"), "--end-of-options", &range]).await?;
        Ok(String::from_utf8_lossy(&out).lines().filter_map(|line| line.trim().parse().ok()).collect())
    }

    /// Merges `head` into `base`. The commit made carries no clock, so everyone who makes it gets the same id. Gives the
    /// paths that conflict when they do.
    pub async fn merged(&self, base_commit: &str, head: &str) -> Result<Result<String, Vec<String>>, GitError> {
        let (base_commit, head) = (checked(base_commit)?, checked(head)?);
        let tree = match self.together(base_commit, head, None).await? {
            Ok(tree) => tree,
            Err(paths) => return Ok(Err(paths)),
        };
        let time = format!("{} +0000", self.commit(head).await?.time);
        let mut command = base(&self.dir);
        command.env("GIT_AUTHOR_DATE", &time).env("GIT_COMMITTER_DATE", &time);
        let message = format!("{head} merged into {base_commit}");
        let out = run(command, &["commit-tree", &tree, "-p", base_commit, "-p", head, "-m", &message], None).await?;
        Ok(Ok(String::from_utf8_lossy(&out).trim().to_owned()))
    }

    /// Puts one file on top of a commit, as a new branch, in the repository itself. `by` is the author's name. Refused
    /// when there is such a branch already.
    pub async fn commit_file(&self, from: &str, path: &str, text: &str, branch: &str, message: &str, by: &str) -> Result<String, GitError> {
        let (from, branch) = (checked(from)?, checked(branch)?);
        let blob = git_with_input(&self.dir, &["hash-object", "-w", "--stdin"], text.as_bytes()).await?;
        let blob = String::from_utf8_lossy(&blob).trim().to_owned();
        let index = tempfile::Builder::new()
            .prefix("draft")
            .tempdir_in(&self.dir)
            .map_err(|source| GitError::Folder { path: self.dir.clone(), source })?;
        let with_index = || {
            let mut command = base(&self.dir);
            command.env("GIT_INDEX_FILE", index.path().join("index")).env("GIT_AUTHOR_NAME", by);
            command
        };
        run(with_index(), &["read-tree", from], None).await?;
        run(with_index(), &["update-index", "--add", "--cacheinfo", &format!("100644,{blob},{path}")], None).await?;
        let tree = run(with_index(), &["write-tree"], None).await?;
        let tree = String::from_utf8_lossy(&tree).trim().to_owned();
        let made = run(with_index(), &["commit-tree", &tree, "-p", from, "-F", "-"], Some(message.as_bytes())).await?;
        let made = String::from_utf8_lossy(&made).trim().to_owned();
        // An empty expectation: the branch must not exist there.
        let lease = format!("--force-with-lease=refs/heads/{branch}:");
        let args = ["push", "--quiet", &lease, "--end-of-options", &self.url, &format!("{made}:refs/heads/{branch}")];
        self.outward(&args).await?;
        Ok(made)
    }
}

/// A commit, and who made it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Between {
    pub id: String,
    pub author: String,
    pub mail: String,
    pub title: String,
}

/// Id, author, address and title, a line each.
fn between(text: &str) -> Option<Between> {
    let mut lines = text.splitn(4, '\n').map(|line| line.trim().to_owned());
    let (id, author, mail) = (lines.next().filter(|id| !id.is_empty())?, lines.next()?, lines.next()?);
    Some(Between { id, author, mail, title: lines.next().unwrap_or_default() })
}

/// `MODE TYPE DIGEST\tPATH`
fn listed(line: &[u8]) -> Option<(String, String)> {
    let text = String::from_utf8_lossy(line);
    let (about, path) = text.split_once('\t')?;
    let mut about = about.split(' ');
    let (mode, _, digest) = (about.next()?, about.next()?, about.next()?);
    Some((path.to_owned(), format!("{mode} {digest}")))
}

/// Reads a diff without context: `+++ b/PATH`, then `@@ -A,B +C,D @@`.
fn new_lines(diff: &str) -> BTreeMap<String, Vec<u32>> {
    let mut lines: BTreeMap<String, Vec<u32>> = BTreeMap::new();
    let (mut file, mut in_head) = (None, false);
    for line in diff.lines() {
        if line.starts_with("diff --git ") {
            (file, in_head) = (None, true);
        } else if in_head && let Some(path) = line.strip_prefix("+++ ") {
            file = path.trim_matches('"').strip_prefix("b/").map(|path| path.trim_end_matches('\t').to_owned());
        } else if let Some(rest) = line.strip_prefix("@@ ") {
            in_head = false;
            let added = rest.split(' ').nth(1).and_then(|part| part.strip_prefix('+'));
            let Some((added, file)) = added.zip(file.as_ref()) else { continue };
            let (from, count) = added.split_once(',').unwrap_or((added, "1"));
            let (Ok(from), Ok(count)) = (from.parse::<u32>(), count.parse::<u32>()) else { continue };
            lines.entry(file.clone()).or_default().extend(from..from.saturating_add(count));
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_that_are_new_are_read_off_a_diff() {
        let diff = "diff --git a/src/a.c b/src/a.c\nindex 1..2 100644\n--- a/src/a.c\n+++ b/src/a.c\n@@ -3 +3,2 @@ int main\n-x\n+y\n+++ b/not-a-head\n\
                    @@ -9,2 +10,0 @@\n-a\n-b\ndiff --git a/gone b/gone\n--- a/gone\n+++ /dev/null\n@@ -1 +0,0 @@\n-x\n";
        assert_eq!(new_lines(diff), BTreeMap::from([("src/a.c".to_owned(), vec![3, 4])]));
    }
}
