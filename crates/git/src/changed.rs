//! What differs between two commits, and how near they are, read object by object: for a push that is a handful of trees, which
//! costs less than to start a process.

use crate::command::{GitError, checked};
use crate::mirror::Mirror;
use crate::objects::{TreeEntry, tree_entries};
use std::collections::{BTreeMap, BTreeSet};

/// The most paths that are listed; with more, anything may have changed.
const PATHS: usize = 10_000;
/// So many commits are looked at before git itself is asked.
const NEAR: usize = 32;

/// A folder in which two commits differ: its path with a slash, and its tree in each; none where it is not there.
type Pair = (Vec<u8>, Option<String>, Option<String>);

impl Mirror {
    /// The paths in which two commits differ, sorted. None: too many to list.
    pub async fn changed(&self, from: &str, to: &str) -> Result<Option<Vec<String>>, GitError> {
        let mut found = BTreeSet::new();
        let mut open: Vec<Pair> = vec![(Vec::new(), Some(self.tree_of(from).await?), Some(self.tree_of(to).await?))];
        while let Some((folder, from, to)) = open.pop() {
            let (from, to) = (self.entries(from.as_deref()).await?, self.entries(to.as_deref()).await?);
            compare(&folder, from, to, &mut found, &mut open);
            if found.len() > PATHS {
                return Ok(None);
            }
        }
        Ok(Some(found.into_iter().collect()))
    }

    async fn tree_of(&self, commit: &str) -> Result<String, GitError> {
        self.id(&format!("{}^{{tree}}", checked(commit)?)).await?.ok_or_else(|| unread("there is no such commit"))
    }

    async fn entries(&self, tree: Option<&str>) -> Result<Vec<TreeEntry>, GitError> {
        let Some(tree) = tree else { return Ok(Vec::new()) };
        let object = self.object(tree).await?.ok_or_else(|| unread("a folder of the commit is not there"))?;
        tree_entries(&object.bytes).ok_or_else(|| unread("a folder of the commit could not be read"))
    }

    /// Whether `one` is among the nearest of what led to `other`. False says nothing.
    pub(crate) async fn leads_to_soon(&self, one: &str, other: &str) -> Result<bool, GitError> {
        let (mut edge, mut seen) = (vec![other.to_owned()], BTreeSet::new());
        while let Some(id) = edge.pop() {
            if id == one {
                return Ok(true);
            }
            if seen.len() >= NEAR || !seen.insert(id.clone()) {
                continue;
            }
            let Some(object) = self.object(&format!("{id}^{{commit}}")).await? else { continue };
            edge.extend(parents(&object.bytes).rev());
        }
        Ok(false)
    }
}

/// `parent ID` lines of a commit's head, in order.
fn parents(commit: &[u8]) -> impl DoubleEndedIterator<Item = String> {
    let text = String::from_utf8_lossy(commit);
    let head = text.split("\n\n").next().unwrap_or_default();
    let parents: Vec<String> = head.lines().filter_map(|line| line.strip_prefix("parent ")).map(str::to_owned).collect();
    parents.into_iter()
}

fn compare(folder: &[u8], from: Vec<TreeEntry>, to: Vec<TreeEntry>, found: &mut BTreeSet<String>, open: &mut Vec<Pair>) {
    let mut both: BTreeMap<Vec<u8>, [Option<TreeEntry>; 2]> = BTreeMap::new();
    for (side, entries) in [from, to].into_iter().enumerate() {
        for entry in entries {
            let name = entry.name.clone();
            both.entry(name).or_default()[side] = Some(entry);
        }
    }
    for (name, [from, to]) in both {
        if from == to {
            continue;
        }
        let path = [folder, &name].concat();
        let tree = |entry: &Option<TreeEntry>| entry.as_ref().filter(|entry| entry.is_tree()).map(|entry| entry.id.clone());
        let trees = (tree(&from), tree(&to));
        if from.is_some_and(|entry| !entry.is_tree()) || to.is_some_and(|entry| !entry.is_tree()) {
            found.insert(String::from_utf8_lossy(&path).into_owned());
        }
        if trees.0.is_some() || trees.1.is_some() {
            open.push(([&path[..], b"/"].concat(), trees.0, trees.1));
        }
    }
}

fn unread(said: &str) -> GitError {
    GitError::Failed { verb: "cat-file".into(), said: said.to_owned(), code: None }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parents_are_in_the_head_alone() {
        let commit = b"tree t\nparent a\nparent b\nauthor x\n\nparent c\n";
        assert_eq!(parents(commit).collect::<Vec<_>>(), ["a", "b"]);
        assert_eq!(parents(b"tree t\n\nx").count(), 0);
    }
}
