//! What a runner has of a repository: the packs that it was sent, and checkouts made of them.
//!
//! A store is a bare repository without branches. Commits whose files are all here are named by files in `refs/kept`; those
//! whose parents are not here stand in `shallow`, as git has it. Each checkout has a `.git` of its own whose packs are
//! further links to the store's: a job that has the checkout below an overlay, or as a copy, can change neither.

use crate::bare;
use crate::command::{GitError, base, git, git_with_input, is_id, run};
use crate::pack::HAVES;
use crate::pointer::FIRST;
use crate::receive::{Taking, receive, write};
use crate::tag::Tag;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use tokio::io::AsyncRead;
use tokio::sync::Mutex;

/// With more packs than that they are put together: each is looked through for an object.
const PACKS: usize = 32;
/// Of git-lfs, for a checkout: the pointer's content is read from the folder that a variable names. A file that was
/// committed as it is, without a pointer, stays as it is.
const SMUDGE: &str = r#"f=$(mktemp) && cat > $f && { IFS= read -r first < $f; if [ "$first" = 'VERSION' ]
then cat "$ORDOTAXIS_LARGE/$(sed -n 's/^oid sha256://p' $f)"; else cat $f; fi; }; ended=$?; rm -f $f; exit $ended"#;
/// And back: what `git status` in a job compares with.
const CLEAN: &str =
    r#"f=$(mktemp) && cat > $f && printf 'VERSION\noid sha256:%s\nsize %s\n' $(sha256sum < $f | cut -c1-64) $(wc -c < $f) && rm -f $f"#;

/// The packs of one repository. One is received at a time.
pub struct Store {
    dir: PathBuf,
    lock: Mutex<()>,
}

/// How a commit is checked out.
#[derive(Debug, Clone, Default)]
pub struct Layout<'a> {
    pub commit: &'a str,
    /// What `git remote` says; without a password.
    pub address: &'a str,
    pub tags: &'a [Tag],
    /// Globs from the root: only these files; all when empty.
    pub paths: &'a [String],
    /// Where the contents of large files are, by name; the pointers stay when absent.
    pub large: Option<&'a Path>,
    /// Name, path and address of each submodule that is to be checked out below.
    pub submodules: &'a [(String, String, String)],
}

impl Store {
    /// The store in a folder, which is made on first use.
    pub fn new(dir: PathBuf) -> Store {
        Store { dir, lock: Mutex::new(()) }
    }

    /// Whether a commit and all that was asked for with it are here, or a tag.
    pub fn has(&self, commit: &str) -> bool {
        is_id(commit) && self.kept(commit).is_file()
    }

    fn kept(&self, commit: &str) -> PathBuf {
        self.dir.join("refs/kept").join(commit)
    }

    /// Commits whose files are here, the newest first; and those whose parents are not here.
    pub fn known(&self) -> (Vec<String>, Vec<String>) {
        let entries = std::fs::read_dir(self.dir.join("refs/kept")).into_iter().flatten().flatten();
        let named = entries.filter_map(|entry| Some((entry.metadata().ok()?.modified().ok()?, entry.file_name().into_string().ok()?)));
        let mut kept: Vec<_> = named.filter(|(_, name)| is_id(name)).collect();
        kept.sort_by(|one, other| other.cmp(one));
        let shallows = self.shallows().into_iter().take(HAVES).collect();
        (kept.into_iter().map(|(_, name)| name).take(HAVES).collect(), shallows)
    }

    fn shallows(&self) -> BTreeSet<String> {
        let text = std::fs::read_to_string(self.dir.join("shallow")).unwrap_or_default();
        text.lines().map(str::to_owned).collect()
    }

    /// Takes in what [`crate::Mirror::pack`] sent for a commit, and the tags that came with it. Not more than `limit` bytes.
    pub async fn take(&self, commit: &str, tags: &[&str], from: &mut (impl AsyncRead + Unpin), limit: u64) -> Result<(), GitError> {
        if let Some(bad) = tags.iter().chain([&commit]).find(|id| !is_id(id)) {
            return Err(GitError::BadName { name: (*bad).to_owned() });
        }
        let _one_at_a_time = self.lock.lock().await;
        bare::make(&self.dir).await?;
        let mut shallows = self.shallows();
        receive(&self.dir, from, &mut shallows, Taking { limit, lasts: false }).await?;
        self.write("shallow", &shallows.iter().map(|id| format!("{id}\n")).collect::<String>())?;
        for id in tags.iter().chain([&commit]) {
            self.write(&format!("refs/kept/{id}"), &format!("{id}\n"))?;
        }
        if self.packs()?.len() > PACKS {
            git(&self.dir, &["repack", "-d", "-q", "--geometric=2"]).await?;
        }
        Ok(())
    }

    /// Throws away what is here: after a crash of the machine it may be damaged, and all of it can be had again.
    pub async fn clear(&self) -> Result<(), GitError> {
        let _one_at_a_time = self.lock.lock().await;
        match std::fs::remove_dir_all(&self.dir) {
            Err(source) if source.kind() != std::io::ErrorKind::NotFound => Err(GitError::Folder { path: self.dir.clone(), source }),
            _ => Ok(()),
        }
    }

    fn write(&self, name: &str, text: &str) -> Result<(), GitError> {
        write(&self.dir.join(name), text)
    }

    fn packs(&self) -> Result<Vec<PathBuf>, GitError> {
        let folder = self.dir.join("objects/pack");
        let entries = std::fs::read_dir(&folder).map_err(|source| GitError::Folder { path: folder, source })?;
        let is_pack = |path: &PathBuf| path.extension().is_some_and(|extension| extension == "pack");
        Ok(entries.flatten().map(|entry| entry.path()).filter(is_pack).collect())
    }

    /// Writes the commit's files, clean, into an empty folder, with a `.git` that needs nothing else.
    pub async fn check_out(&self, layout: &Layout<'_>, into: &Path) -> Result<(), GitError> {
        let dot = into.join(".git");
        {
            let _nobody_repacks = self.lock.lock().await;
            self.link_packs(&dot.join("objects/pack"))?;
        }
        for folder in ["refs/heads", "refs/tags", "info"] {
            let path = dot.join(folder);
            std::fs::create_dir_all(&path).map_err(|source| GitError::Folder { path, source })?;
        }
        write(&dot.join("HEAD"), &format!("{}\n", layout.commit))?;
        write(&dot.join("config"), &config(layout))?;
        write(&dot.join("packed-refs"), &packed_refs(&self.present(layout).await?))?;
        let shallows = self.shallows();
        if shallows.contains(layout.commit) {
            write(&dot.join("shallow"), &format!("{}\n", layout.commit))?;
        } else if !shallows.is_empty() {
            write(&dot.join("shallow"), &shallows.iter().map(|id| format!("{id}\n")).collect::<String>())?;
        }
        if !layout.paths.is_empty() {
            write(&dot.join("info/sparse-checkout"), &layout.paths.iter().map(|glob| format!("/{glob}\n")).collect::<String>())?;
        }
        let mut command = base(&dot);
        command.arg("--work-tree").arg(into).args(["-c", "checkout.workers=2"]);
        if let Some(large) = layout.large {
            command
                .args(["-c", &format!("filter.lfs.smudge={}", SMUDGE.replace("VERSION", FIRST)), "-c", "filter.lfs.required=true"])
                .env("ORDOTAXIS_LARGE", large);
        }
        run(command, &["read-tree", "--reset", "-u", layout.commit], None).await.map(drop)
    }

    /// The tags that are here: one that was set later on a commit within the history may not have come along.
    async fn present(&self, layout: &Layout<'_>) -> Result<Vec<Tag>, GitError> {
        if layout.tags.iter().all(|tag| tag.commit == layout.commit) {
            return Ok(layout.tags.to_vec());
        }
        let asked: String = layout.tags.iter().map(|tag| format!("{}\n", tag.id)).collect();
        let out = git_with_input(&self.dir, &["cat-file", "--batch-check"], asked.as_bytes()).await?;
        let text = String::from_utf8_lossy(&out);
        let here: BTreeSet<&str> = text.lines().filter(|line| !line.ends_with(" missing")).filter_map(|line| line.get(..40)).collect();
        Ok(layout.tags.iter().filter(|tag| here.contains(tag.id.as_str())).cloned().collect())
    }

    fn link_packs(&self, to: &Path) -> Result<(), GitError> {
        let failed = |path: &Path| {
            let path = path.to_owned();
            move |source| GitError::Folder { path, source }
        };
        std::fs::create_dir_all(to).map_err(failed(to))?;
        for pack in self.packs()? {
            for path in [pack.with_extension("idx"), pack] {
                let link = to.join(path.file_name().unwrap_or_default());
                std::fs::hard_link(&path, &link).or_else(|_| std::fs::copy(&path, &link).map(drop)).map_err(failed(&link))?;
            }
        }
        Ok(())
    }
}

/// The tags as git packs them: sorted by name.
fn packed_refs(tags: &[Tag]) -> String {
    let fits = |tag: &&Tag| is_id(&tag.id) && !tag.name.chars().any(|c| c.is_control() || c == ' ');
    let mut lines: Vec<String> = tags.iter().filter(fits).map(|tag| format!("{} refs/tags/{}\n", tag.id, tag.name)).collect();
    lines.sort_by(|one, other| one[40..].cmp(&other[40..]));
    lines.concat()
}

/// Only what a file's size and time say tells git whether it was changed: inodes and owners are others below an overlay. What
/// the machine's own configuration says of attributes does not hold here.
fn config(layout: &Layout<'_>) -> String {
    let mut text = String::from(
        "[core]\n\trepositoryformatversion = 0\n\tfilemode = true\n\tbare = false\n\tcheckStat = minimal\n\ttrustctime = false\n\
         \tattributesFile = /dev/null\n[gc]\n\tauto = 0\n",
    );
    if !layout.paths.is_empty() {
        text += "[core]\n\tsparseCheckout = true\n\tsparseCheckoutCone = false\n";
    }
    text += &format!("[remote \"origin\"]\n\turl = {}\n\tfetch = +refs/heads/*:refs/remotes/origin/*\n", quoted(layout.address));
    if layout.large.is_some() {
        text += &format!("[filter \"lfs\"]\n\tclean = {}\n\tsmudge = cat\n", quoted(&CLEAN.replace("VERSION", FIRST)));
    }
    for (name, _, address) in layout.submodules {
        text += &format!("[submodule {}]\n\tactive = true\n\turl = {}\n", quoted(name), quoted(address));
    }
    text
}

/// A value as git's files have it (git-config).
fn quoted(text: &str) -> String {
    let mut quoted = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => quoted.extend(['\\', c]),
            '\n' => quoted.push_str("\\n"),
            c if c.is_control() => {}
            c => quoted.push(c),
        }
    }
    quoted + "\""
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_others_wrote_stays_one_value() {
        assert_eq!(quoted("a\"]\n[core]\n\thooksPath = \"x\\"), "\"a\\\"]\\n[core]\\nhooksPath = \\\"x\\\\\"");
        let tag = |name: &str, id: &str| Tag { name: name.into(), id: id.into(), commit: id.into() };
        let id = "0".repeat(40);
        let tags = [tag("v2", &id), tag("v1", &id), tag("v3\nx", &id), tag("v4", "short")];
        assert_eq!(packed_refs(&tags), format!("{id} refs/tags/v1\n{id} refs/tags/v2\n"));
    }
}
