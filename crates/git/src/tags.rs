//! The tags of a mirror and what they name, read once after each fetch.

use crate::command::{GitError, git};
use crate::mirror::Mirror;
use crate::tag::Tag;
use sha2::{Digest, Sha256};
use std::collections::{HashMap, HashSet};

/// The most tags that are sent with a checkout; the newest come first.
pub(crate) const MOST: usize = 2_000;

/// How many commits are looked through for each step of depth: merges bring several.
const BREADTH: i64 = 64;

impl Mirror {
    /// All tags that name a commit, the newest first, as of the last fetch.
    pub(crate) async fn tags(&self) -> Result<std::sync::Arc<Vec<Tag>>, GitError> {
        let mut known = self.tags.lock().await;
        if let Some(tags) = &*known {
            return Ok(tags.clone());
        }
        let format = "--format=%(objecttype) %(objectname) %(*objecttype) %(*objectname) %(refname:lstrip=2)";
        let out = match self.dir().join("HEAD").exists() {
            true => git(self.dir(), &["for-each-ref", "--sort=-creatordate", format, "refs/tags"]).await?,
            false => Vec::new(),
        };
        let tags = std::sync::Arc::new(String::from_utf8_lossy(&out).lines().filter_map(parse).collect::<Vec<_>>());
        *known = Some(tags.clone());
        Ok(tags)
    }

    /// The tags that name this commit.
    pub async fn tags_of(&self, commit: &str) -> Result<Vec<Tag>, GitError> {
        Ok(self.tags().await?.iter().filter(|tag| tag.commit == commit).take(MOST).cloned().collect())
    }

    /// The tags that name one of the commits within this depth.
    pub async fn tags_within(&self, commit: &str, depth: Option<u32>) -> Result<Vec<Tag>, GitError> {
        let tags = self.tags().await?;
        if depth == Some(1) || tags.is_empty() {
            return self.tags_of(commit).await;
        }
        let most = depth.map_or(i64::from(i32::MAX), |depth| i64::from(depth).saturating_mul(BREADTH).min(i64::from(i32::MAX)));
        let most = format!("--max-count={most}");
        let out = git(self.dir(), &["rev-list", "--parents", &most, "--end-of-options", commit]).await?;
        let text = String::from_utf8_lossy(&out);
        let within = near(&text, commit, depth);
        Ok(tags.iter().filter(|tag| within.contains(tag.commit.as_str())).take(MOST).cloned().collect())
    }

    /// What a checkout of this depth has of tags, as a few letters: others when a tag was set or moved.
    pub async fn tags_mark(&self, commit: &str, depth: Option<u32>) -> Result<String, GitError> {
        let of = match depth {
            Some(1) => self.tags_of(commit).await?,
            _ => self.tags().await?.to_vec(),
        };
        let mut names: Vec<String> = of.iter().map(|tag| format!("{} {}", tag.name, tag.id)).collect();
        names.sort();
        Ok(digest(&names.join("\n")))
    }
}

/// The commits that are fewer than `depth` steps from one; `text` has lines `COMMIT PARENT …`.
fn near<'t>(text: &'t str, from: &'t str, depth: Option<u32>) -> HashSet<&'t str> {
    let parents: HashMap<&str, Vec<&str>> = text
        .lines()
        .filter_map(|line| {
            let mut ids = line.split(' ');
            Some((ids.next()?, ids.collect()))
        })
        .collect();
    let (mut found, mut edge, mut steps) = (HashSet::from([from]), vec![from], 1);
    while !edge.is_empty() && depth.is_none_or(|depth| steps < depth) {
        edge = edge.iter().flat_map(|id| parents.get(id).into_iter().flatten().copied()).filter(|id| found.insert(id)).collect();
        steps += 1;
    }
    found
}

fn digest(text: &str) -> String {
    Sha256::digest(text.as_bytes()).iter().take(8).map(|byte| format!("{byte:02x}")).collect()
}

/// `commit ID   NAME`, or `tag ID commit ID NAME`; what names no commit is passed over.
fn parse(line: &str) -> Option<Tag> {
    let mut words = line.splitn(5, ' ');
    let (kind, id, inner, commit, name) = (words.next()?, words.next()?, words.next()?, words.next()?, words.next()?);
    let commit = match (kind, inner) {
        ("commit", _) => id,
        ("tag", "commit") => commit,
        _ => return None,
    };
    Some(Tag { name: name.to_owned(), id: id.to_owned(), commit: commit.to_owned() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tags_of_both_kinds_are_read() {
        let tag = |name: &str, id: &str, commit: &str| Some(Tag { name: name.into(), id: id.into(), commit: commit.into() });
        assert_eq!(parse("commit aa   v1"), tag("v1", "aa", "aa"));
        assert_eq!(parse("tag bb commit aa release/2"), tag("release/2", "bb", "aa"));
        assert_eq!(parse("blob cc   notes"), None);
        assert_eq!(parse("tag dd tree ee odd"), None);
        let history = "d b c\nc a\nb a\na";
        for (depth, wanted) in [(Some(1), "d"), (Some(2), "dbc"), (Some(3), "dbca"), (None, "dbca")] {
            let found = near(history, "d", depth);
            assert_eq!(found.len(), wanted.len(), "{depth:?}: {found:?}");
            assert!(wanted.chars().all(|id| found.contains(id.to_string().as_str())), "{depth:?}: {found:?}");
        }
        assert_ne!(digest("v1 aa"), digest("v1 ab"));
    }
}
