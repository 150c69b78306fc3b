//! The newest branches and tags of a mirror, each with the commit that it names.

use crate::command::{GitError, git};
use crate::mirror::Mirror;

/// A branch or a tag.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Named {
    /// Without `refs/heads/` or `refs/tags/`.
    pub name: String,
    pub commit: String,
    /// The commit's first line.
    pub title: String,
    pub author: String,
}

/// Name, object, what a tag points at; then title and author of either. Between them a byte that none of them can hold.
const FORMAT: &str =
    "--format=%(refname:lstrip=2)%00%(objectname)%00%(*objectname)%00%(subject)%00%(authorname)%00%(*subject)%00%(*authorname)";

impl Mirror {
    /// Branches as of the last fetch, the one with the newest commit first.
    pub async fn newest_branches(&self, most: usize) -> Result<Vec<Named>, GitError> {
        self.newest("refs/heads", most).await
    }

    /// Tags as of the last fetch, the one that was made last first.
    pub async fn newest_tags(&self, most: usize) -> Result<Vec<Named>, GitError> {
        self.newest("refs/tags", most).await
    }

    async fn newest(&self, below: &str, most: usize) -> Result<Vec<Named>, GitError> {
        let count = format!("--count={most}");
        let out = git(self.dir(), &["for-each-ref", "--sort=-creatordate", &count, FORMAT, below]).await?;
        Ok(String::from_utf8_lossy(&out).lines().filter_map(parse).collect())
    }
}

/// A tag with a message of its own is told as the commit that it names.
fn parse(line: &str) -> Option<Named> {
    let mut parts = line.split('\0').map(str::to_owned);
    let mut next = || parts.next();
    let (name, object, peeled) = (next()?, next()?, next()?);
    let (title, author, of_title, of_author) = (next()?, next()?, next()?, next()?);
    Some(match peeled.is_empty() {
        true => Named { name, commit: object, title, author },
        false => Named { name, commit: peeled, title: of_title, author: of_author },
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tag_is_told_as_what_it_names() {
        let named = |name: &str, commit: &str, title: &str| Named {
            name: name.into(),
            commit: commit.into(),
            title: title.into(),
            author: "Ines".into(),
        };
        assert_eq!(parse("main\0aa\0\0A gauge\0Ines\0\0"), Some(named("main", "aa", "A gauge")));
        assert_eq!(parse("v1\0bb\0aa\0Release\0\0A gauge\0Ines"), Some(named("v1", "aa", "A gauge")));
        assert_eq!(parse("main\0aa"), None);
        assert_eq!(parse(""), None);
    }
}
