//! A bare copy of one repository, and what can be asked of it.

use crate::access::{Access, Lent};
use crate::address::Address;
use crate::bare;
use crate::command::{GitError, base, checked, git, is_id, run};
use crate::objects::{Object, Objects, What, tree_entries};
use crate::pointer::Pointer;
use crate::tag::Tag;
use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex as StdMutex};
use tokio::sync::Mutex;

/// The mirrors below one folder, by project name.
pub struct Mirrors {
    folder: PathBuf,
    open: StdMutex<HashMap<String, Arc<Mirror>>>,
}

impl Mirrors {
    /// The mirrors below `folder`; nothing is made or fetched yet.
    pub fn new(folder: PathBuf) -> Self {
        Mirrors { folder, open: StdMutex::default() }
    }

    /// The mirror of a project; made on first use. A changed address keeps what was fetched.
    pub fn get(&self, project: &str, url: &str, access: Access) -> Arc<Mirror> {
        let mut open = self.open.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(known) = open.get(project).filter(|mirror| mirror.url == url && mirror.access == access) {
            return known.clone();
        }
        let dir = self.dir(project);
        let mirror = Arc::new(Mirror {
            dir,
            url: url.to_owned(),
            access,
            // Who fetches by the address or access of before is waited for.
            fetching: open.get(project).map_or_else(Arc::default, |before| before.fetching.clone()),
            objects: Objects::default(),
            tags: Mutex::default(),
            heads: Mutex::default(),
            speaks_new: Mutex::default(),
            pointers: Mutex::default(),
        });
        open.insert(project.to_owned(), mirror.clone());
        mirror
    }

    fn dir(&self, project: &str) -> PathBuf {
        self.folder.join(format!("{project}.git"))
    }

    /// Removes a project's mirror, and those of its submodules: a later project of the same name begins with nothing.
    pub async fn remove(&self, project: &str) -> std::io::Result<()> {
        let inner = format!("{project}+");
        let mut names: Vec<String> = match std::fs::read_dir(&self.folder) {
            Ok(entries) => entries.flatten().filter_map(|entry| entry.file_name().into_string().ok()).collect(),
            Err(_) => Vec::new(),
        };
        names.retain(|name| name.starts_with(&inner));
        for name in names.iter().filter_map(|name| name.strip_suffix(".git")).chain([project]) {
            self.remove_one(name).await?;
        }
        Ok(())
    }

    async fn remove_one(&self, name: &str) -> std::io::Result<()> {
        let known = self.open.lock().unwrap_or_else(std::sync::PoisonError::into_inner).remove(name);
        // Nobody fetches into it meanwhile.
        let _fetching = match &known {
            Some(mirror) => {
                mirror.objects.close().await;
                Some(mirror.fetching.lock().await)
            }
            None => None,
        };
        match tokio::fs::remove_dir_all(self.dir(name)).await {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }
}

/// A bare copy of one project's repository. One fetch at a time; all else reads beside it.
pub struct Mirror {
    pub(crate) dir: PathBuf,
    pub(crate) url: String,
    pub(crate) access: Access,
    pub(crate) fetching: Arc<Mutex<()>>,
    objects: Objects,
    /// As of the last fetch.
    pub(crate) tags: Mutex<Option<Arc<Vec<Tag>>>>,
    /// Commits that branches name, as of the last fetch.
    pub(crate) heads: Mutex<Option<Vec<String>>>,
    /// Whether the other side speaks version 2 of git's protocol.
    pub(crate) speaks_new: Mutex<Option<bool>>,
    /// Of one commit.
    pub(crate) pointers: Mutex<Option<(String, Arc<Vec<Pointer>>)>>,
}

/// What people see of a commit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CommitInfo {
    pub id: String,
    pub title: String,
    /// The whole message, the title included.
    pub message: String,
    pub author: String,
    /// Seconds since 1970, of the committer.
    pub time: i64,
}

impl Mirror {
    /// Where the bare repository is.
    pub fn dir(&self) -> &Path {
        &self.dir
    }

    /// Makes sure that the mirror has `commit`, fetching as little as it can: first the branch, then everything, then by name.
    /// Gives false when the repository does not have it.
    pub async fn need(&self, commit: &str, branch: Option<&str>) -> Result<bool, GitError> {
        checked(commit)?;
        if self.has(commit).await? {
            return Ok(true);
        }
        let _one_at_a_time = self.fetching.lock().await;
        if self.has(commit).await? {
            return Ok(true);
        }
        if let Some(branch) = branch
            && self.fetch_quickly(commit, branch).await
        {
            return Ok(true);
        }
        if let Some(branch) = branch
            && self.fetch_refs(&[&format!("+refs/heads/{0}:refs/heads/{0}", checked(branch)?)]).await.is_ok()
            && self.has(commit).await?
        {
            return Ok(true);
        }
        self.fetch_refs(&["+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"]).await?;
        if self.has(commit).await? {
            return Ok(true);
        }
        // On no branch any more; many servers give it by its name all the same.
        Ok(is_id(commit) && self.fetch_refs(&[commit]).await.is_ok() && self.has(commit).await?)
    }

    /// Makes sure that the mirror has a tag as it was when it named this commit, or as it is now.
    pub async fn need_tag(&self, tag: &str, commit: &str) -> Result<(), GitError> {
        let full = format!("refs/tags/{}", checked(tag)?);
        if self.id(&format!("{full}^{{commit}}")).await?.as_deref() == Some(commit) {
            return Ok(());
        }
        let _one_at_a_time = self.fetching.lock().await;
        self.fetch_refs(&[&format!("+{full}:{full}")]).await
    }

    /// Fetches all branches and tags; branches gone there go here too.
    pub async fn fetch_all(&self) -> Result<(), GitError> {
        let _one_at_a_time = self.fetching.lock().await;
        self.fetch_refs(&["--prune", "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"]).await
    }

    /// Fetches the newest commit of a branch alone, with its files and without its history.
    pub async fn fetch_newest(&self, branch: &str) -> Result<(), GitError> {
        let _one_at_a_time = self.fetching.lock().await;
        let refs = format!("+refs/heads/{0}:refs/heads/{0}", checked(branch)?);
        self.fetch_refs(&["--depth=1", "--no-tags", &refs]).await
    }

    pub(crate) async fn fetch_refs(&self, refs: &[&str]) -> Result<(), GitError> {
        bare::make(&self.dir).await?;
        let (options, refs): (Vec<&str>, Vec<&str>) = refs.iter().partition(|name| name.starts_with("--"));
        // Tags that name what is fetched come along.
        let mut args = vec!["fetch", "--quiet", "--no-write-fetch-head", "--no-auto-maintenance", "--no-recurse-submodules", "--force"];
        args.extend(&options);
        args.extend(["--end-of-options", &self.url]);
        args.extend(refs);
        let done = self.outward(&args).await;
        // Notes are neither; what is known of branches and tags stays known.
        if !options.contains(&"--no-tags") {
            self.tags.lock().await.take();
            self.heads.lock().await.take();
        }
        done.map(drop)
    }

    /// A call that speaks with the repository: by the way that its address names and no other, with what it asks for.
    pub(crate) async fn outward(&self, args: &[&str]) -> Result<Vec<u8>, GitError> {
        let (command, _lent) = self.outward_command()?;
        run(command, args, None).await
    }

    pub(crate) fn outward_command(&self) -> Result<(tokio::process::Command, Lent), GitError> {
        let mut command = base(&self.dir);
        let address: Option<Address> = self.url.parse().ok();
        if matches!(address, Some(Address::Local(_))) {
            command.env("GIT_ALLOW_PROTOCOL", "file");
        }
        let lent = self.access.lend(&mut command, address.as_ref(), &self.dir)?;
        Ok((command, lent))
    }

    /// The branch that the repository itself takes for its main one; none where it does not say.
    pub async fn head_branch(&self) -> Result<Option<String>, GitError> {
        bare::make(&self.dir).await?;
        let out = self.outward(&["ls-remote", "--symref", "--end-of-options", &self.url, "HEAD"]).await?;
        Ok(parse_head_branch(&String::from_utf8_lossy(&out)))
    }

    /// What every branch and tag of the repository names now, by full name; nothing is fetched.
    pub async fn look(&self) -> Result<BTreeMap<String, String>, GitError> {
        if let Some(refs) = self.look_quickly().await {
            return Ok(refs);
        }
        bare::make(&self.dir).await?;
        let out = self.outward(&["ls-remote", "--refs", "--heads", "--tags", "--end-of-options", &self.url]).await?;
        let lines = String::from_utf8_lossy(&out).into_owned();
        let read = |line: &str| line.split_once('\t').map(|(id, name)| (name.to_owned(), id.to_owned()));
        Ok(lines.lines().filter_map(read).collect())
    }

    /// Whether the mirror has a commit.
    pub async fn has(&self, commit: &str) -> Result<bool, GitError> {
        match checked(commit) {
            Ok(commit) => Ok(self.id(&format!("{commit}^{{commit}}")).await?.is_some()),
            Err(_) => Ok(false),
        }
    }

    /// An object's id; none when there is none of that name.
    pub(crate) async fn id(&self, name: &str) -> Result<Option<String>, GitError> {
        Ok(self.objects.get(&self.dir, name, What::About).await?.map(|object| object.id))
    }

    /// An object, whole; none when there is none of that name.
    pub(crate) async fn object(&self, name: &str) -> Result<Option<Object>, GitError> {
        self.objects.get(&self.dir, name, What::Whole).await
    }

    /// The full id of a branch, tag or commit that the mirror has.
    pub async fn resolve(&self, name: &str) -> Result<Option<String>, GitError> {
        let name = checked(name)?;
        for candidate in [format!("refs/heads/{name}"), format!("refs/tags/{name}"), name.to_owned()] {
            if let Some(id) = self.id(&format!("{candidate}^{{commit}}")).await? {
                return Ok(Some(id));
            }
        }
        Ok(None)
    }

    /// The names of all branches, without `refs/heads/`, as of the last fetch.
    pub async fn branches(&self) -> Result<Vec<String>, GitError> {
        let out = git(&self.dir, &["for-each-ref", "--format=%(refname:lstrip=2)", "refs/heads"]).await?;
        Ok(String::from_utf8_lossy(&out).lines().map(str::to_owned).collect())
    }

    /// What a commit says of itself. An error when the mirror does not have it.
    pub async fn commit(&self, id: &str) -> Result<CommitInfo, GitError> {
        let unread = |said: &str| GitError::Failed { verb: "cat-file".into(), said: said.into(), code: None };
        let object = self.object(&format!("{}^{{commit}}", checked(id)?)).await?.ok_or_else(|| unread("there is no such commit"))?;
        CommitInfo::parse(&object.id, &object.bytes).ok_or_else(|| unread("the commit could not be read"))
    }

    /// The files and folders right below a folder at a commit (`""` for the root), as paths from the root.
    pub async fn files(&self, commit: &str, folder: &str) -> Result<Vec<String>, GitError> {
        let unread = || GitError::Failed { verb: "cat-file".into(), said: format!("the folder `{folder}` could not be read"), code: None };
        let Some(object) = self.object(&format!("{}:{folder}", checked(commit)?)).await? else {
            // A folder that is not there lists nothing; only a commit that cannot be read is an error.
            return if !folder.is_empty() && self.has(commit).await? { Ok(Vec::new()) } else { Err(unread()) };
        };
        if object.kind != "tree" {
            return Ok(Vec::new());
        }
        let entries = tree_entries(&object.bytes).ok_or_else(unread)?;
        let below = if folder.is_empty() { String::new() } else { format!("{folder}/") };
        Ok(entries.iter().map(|entry| format!("{below}{}", String::from_utf8_lossy(&entry.name))).collect())
    }

    /// All files of a commit by their paths, `most` at most; true for those that their owner may run. Links and submodules are none.
    pub async fn all_files(&self, commit: &str, most: usize) -> Result<BTreeMap<String, bool>, GitError> {
        let out = git(&self.dir, &["ls-tree", "-r", "-z", "--full-tree", "--end-of-options", checked(commit)?]).await?;
        let read = |entry: &[u8]| {
            let entry = std::str::from_utf8(entry).ok()?;
            let (about, path) = entry.split_once('\t')?;
            let mode = about.split(' ').next()?;
            matches!(mode, "100644" | "100755").then(|| (path.to_owned(), mode == "100755"))
        };
        Ok(out.split(|byte| *byte == 0).filter_map(read).take(most).collect())
    }

    /// A file's bytes at a commit; none when it is not there.
    pub async fn read(&self, commit: &str, path: &str) -> Result<Option<Vec<u8>>, GitError> {
        let found = self.object(&format!("{}:{path}", checked(commit)?)).await?;
        Ok(found.filter(|object| object.kind == "blob").map(|object| object.bytes))
    }
}

impl CommitInfo {
    /// A commit as git keeps it: lines `NAME VALUE`, an empty line, the message.
    fn parse(id: &str, bytes: &[u8]) -> Option<CommitInfo> {
        let text = String::from_utf8_lossy(bytes);
        let (head, message) = text.split_once("\n\n").unwrap_or((&text, ""));
        let field = |name: &str| head.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(' '));
        // `NAME <ADDRESS> SECONDS ZONE`
        let author = field("author")?.rsplit_once(" <").map_or("", |(name, _)| name);
        let time = field("committer")?.rsplit(' ').nth(1)?.parse().ok()?;
        let message = message.trim_start_matches('\n').trim_end();
        // As `git log` has it: the first paragraph in one line.
        let title: Vec<&str> = message.lines().take_while(|line| !line.trim().is_empty()).map(str::trim).collect();
        Some(CommitInfo { id: id.to_owned(), author: author.to_owned(), time, title: title.join(" "), message: message.to_owned() })
    }
}

/// `ref: refs/heads/NAME\tHEAD`
fn parse_head_branch(text: &str) -> Option<String> {
    let line = text.lines().find_map(|line| line.strip_prefix("ref: refs/heads/"))?;
    Some(line.strip_suffix("\tHEAD")?.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_commit_is_read_as_git_keeps_it() {
        let raw = "tree aa\nparent bb\nauthor Odd Tide <odd@saltmarsh.example> 1700000000 +0100\ncommitter Ines <i@x> 1700000001 -0500\n\
                   gpgsig -----BEGIN\n author\n\nFirst line\nof the title\n\nThe rest.\n";
        let commit = CommitInfo::parse("cc", raw.as_bytes()).unwrap();
        assert_eq!((commit.author.as_str(), commit.time), ("Odd Tide", 1_700_000_001));
        assert_eq!((commit.title.as_str(), commit.message.as_str()), ("First line of the title", "First line\nof the title\n\nThe rest."));
        assert!(CommitInfo::parse("cc", b"tree aa\n\nx").is_none());
        assert_eq!(CommitInfo::parse("cc", b"author  <> 1 +0\ncommitter  <> 2 +0\n").unwrap().title, "");
    }

    #[test]
    fn a_mirror_with_another_access_waits_for_who_fetches_with_the_one_before() {
        let mirrors = Mirrors::new("nowhere".into());
        let before = mirrors.get("almanac", "/srv/almanac.git", Access::default());
        let moved = mirrors.get("almanac", "/srv/moved.git", Access::default());
        assert!(Arc::ptr_eq(&before.fetching, &moved.fetching) && !Arc::ptr_eq(&before, &moved));
        let other = mirrors.get("tidegauge", "/srv/almanac.git", Access::default());
        assert!(!Arc::ptr_eq(&before.fetching, &other.fetching));
    }

    #[test]
    fn the_main_branch_is_what_head_names() {
        assert_eq!(parse_head_branch("ref: refs/heads/release/next\tHEAD\nabc\tHEAD\n").as_deref(), Some("release/next"));
        assert_eq!(parse_head_branch("abc\tHEAD\n"), None);
        assert_eq!(parse_head_branch(""), None);
    }
}
