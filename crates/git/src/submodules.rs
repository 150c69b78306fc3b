//! The submodules that a commit names: in `.gitmodules` where they are, in the tree at which commit.

use crate::command::{GitError, git};
use crate::mirror::Mirror;
use crate::objects::tree_entries;
use std::collections::BTreeMap;

/// The most submodules that a commit may have.
const MOST: usize = 256;

/// One submodule of a commit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Submodule {
    pub name: String,
    /// From the root of the repository.
    pub path: String,
    /// As the file writes it: whole, or from where the repository itself is.
    pub url: String,
    pub commit: String,
}

impl Mirror {
    /// The submodules of a commit, by path: those with an address and a commit.
    pub async fn submodules(&self, commit: &str) -> Result<Vec<Submodule>, GitError> {
        let Some(file) = self.object(&format!("{commit}:.gitmodules")).await?.filter(|object| object.kind == "blob") else {
            return Ok(Vec::new());
        };
        let listed = git(self.dir(), &["config", "-z", "--list", "--no-includes", "--blob", &file.id]).await?;
        let mut found = Vec::new();
        for (name, (path, url)) in sections(&listed).into_iter().take(MOST) {
            if let Some(commit) = self.named_commit(commit, &path).await? {
                found.push(Submodule { name, path, url, commit });
            }
        }
        found.sort_by(|one, other| one.path.cmp(&other.path));
        Ok(found)
    }

    /// The commit that a tree has at a path; none where there is something else.
    async fn named_commit(&self, commit: &str, path: &str) -> Result<Option<String>, GitError> {
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
        let Some(tree) = self.object(&format!("{commit}:{folder}")).await?.filter(|object| object.kind == "tree") else {
            return Ok(None);
        };
        let entries = tree_entries(&tree.bytes).unwrap_or_default();
        Ok(entries.into_iter().find(|entry| entry.mode == "160000" && entry.name == name.as_bytes()).map(|entry| entry.id))
    }
}

/// `submodule.NAME.KEY` line end VALUE zero, again and again → name → path and address.
fn sections(listed: &[u8]) -> BTreeMap<String, (String, String)> {
    let mut found: BTreeMap<String, (Option<String>, Option<String>)> = BTreeMap::new();
    for entry in listed.split(|byte| *byte == 0) {
        let text = String::from_utf8_lossy(entry);
        let Some((key, value)) = text.split_once('\n') else { continue };
        let Some((name, key)) = key.strip_prefix("submodule.").and_then(|rest| rest.rsplit_once('.')) else { continue };
        let section = found.entry(name.to_owned()).or_default();
        match key {
            "path" if is_inner(value) => section.0 = Some(value.to_owned()),
            "url" => section.1 = Some(value.to_owned()),
            _ => {}
        }
    }
    found.into_iter().filter_map(|(name, (path, url))| Some((name, (path?, url?)))).collect()
}

/// A path below the root that leads nowhere else.
fn is_inner(path: &str) -> bool {
    !path.is_empty() && path.split('/').all(|part| !matches!(part, "" | "." | "..") && !part.eq_ignore_ascii_case(".git"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sections_need_both_and_lead_nowhere_else() {
        let listed = b"submodule.keel.path\ndeps/keel\0submodule.keel.url\n../keel.git\0submodule.a.b.path\nx\0submodule.a.b.url\nhttps://h.example/x\0\
                       submodule.out.path\n../out\0submodule.out.url\nx\0submodule.half.path\nhalf\0core.bare\ntrue\0submodule.git.path\na/.GIT/hooks\0\
                       submodule.git.url\ny\0submodule.rooted.path\n/etc\0submodule.rooted.url\nz\0";
        let found = sections(listed);
        let names: Vec<&str> = found.keys().map(String::as_str).collect();
        assert_eq!(names, ["a.b", "keel"]);
        assert_eq!(found["keel"], ("deps/keel".to_owned(), "../keel.git".to_owned()));
    }
}
