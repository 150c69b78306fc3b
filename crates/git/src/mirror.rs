//! A bare copy of one repository, and what can be asked of it.

use crate::address::Address;
use crate::command::{GitError, base, checked, git, git_with_input, run, unless_no};
use std::collections::HashMap;
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
    pub fn get(&self, project: &str, url: &str) -> Arc<Mirror> {
        let mut open = self.open.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(known) = open.get(project).filter(|mirror| mirror.url == url) {
            return known.clone();
        }
        let dir = self.dir(project);
        let mirror = Arc::new(Mirror { dir, url: url.to_owned(), fetching: Mutex::new(()) });
        open.insert(project.to_owned(), mirror.clone());
        mirror
    }
}

impl Mirrors {
    fn dir(&self, project: &str) -> PathBuf {
        self.folder.join(format!("{project}.git"))
    }

    /// Removes a project's mirror: a later project of the same name begins with nothing.
    pub async fn remove(&self, project: &str) -> std::io::Result<()> {
        let known = self.open.lock().unwrap_or_else(std::sync::PoisonError::into_inner).remove(project);
        // Nobody fetches into it meanwhile.
        let _fetching = match &known {
            Some(mirror) => Some(mirror.fetching.lock().await),
            None => None,
        };
        match tokio::fs::remove_dir_all(self.dir(project)).await {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }
}

/// A bare copy of one project's repository. One fetch at a time; all else reads beside it.
pub struct Mirror {
    pub(crate) dir: PathBuf,
    pub(crate) url: String,
    pub(crate) fetching: Mutex<()>,
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

    /// Makes sure that the mirror has `commit`, fetching as little as it can: first the branch, then everything.
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
            && self.fetch_refs(&[&format!("+refs/heads/{0}:refs/heads/{0}", checked(branch)?)]).await.is_ok()
            && self.has(commit).await?
        {
            return Ok(true);
        }
        self.fetch_refs(&["+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"]).await?;
        self.has(commit).await
    }

    /// Fetches all branches and tags; branches gone there go here too.
    pub async fn fetch_all(&self) -> Result<(), GitError> {
        let _one_at_a_time = self.fetching.lock().await;
        self.fetch_refs(&["--prune", "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"]).await
    }

    pub(crate) async fn fetch_refs(&self, refs: &[&str]) -> Result<(), GitError> {
        self.init().await?;
        let (options, refs): (Vec<&str>, Vec<&str>) = refs.iter().partition(|name| name.starts_with("--"));
        let mut args = vec!["fetch", "--quiet", "--no-tags", "--no-write-fetch-head", "--no-auto-maintenance", "--no-recurse-submodules"];
        args.extend(options);
        args.extend(["--end-of-options", &self.url]);
        args.extend(refs);
        run(self.outward(), &args, None).await.map(drop)
    }

    /// A call that speaks with the repository: by the way that its address names and no other.
    pub(crate) fn outward(&self) -> tokio::process::Command {
        let mut command = base(&self.dir);
        if matches!(self.url.parse(), Ok(Address::Local(_))) {
            command.env("GIT_ALLOW_PROTOCOL", "file");
        }
        command
    }

    async fn init(&self) -> Result<(), GitError> {
        if self.dir.join("HEAD").exists() {
            return Ok(());
        }
        tokio::fs::create_dir_all(&self.dir).await.map_err(|source| GitError::Folder { path: self.dir.clone(), source })?;
        git(&self.dir, &["init", "--quiet", "--bare"]).await.map(drop)
    }

    /// Whether the mirror has a commit.
    pub async fn has(&self, commit: &str) -> Result<bool, GitError> {
        match checked(commit) {
            Ok(commit) => Ok(self.object(&format!("{commit}^{{commit}}"), false).await?.is_some()),
            Err(_) => Ok(false),
        }
    }

    /// An object by its name, with what is in it or without; none when there is none of that name.
    async fn object(&self, name: &str, whole: bool) -> Result<Option<Vec<u8>>, GitError> {
        if !self.dir.join("HEAD").exists() {
            return Ok(None);
        }
        let verb = if whole { "--batch" } else { "--batch-check" };
        let out = git_with_input(&self.dir, &["cat-file", verb], format!("{name}\n").as_bytes()).await?;
        let unread = || GitError::Failed { verb: "cat-file".into(), said: "its answer could not be read".into(), code: None };
        // `ID TYPE SIZE`, then as many bytes and a line end; or `NAME missing`.
        let end = out.iter().position(|byte| *byte == b'\n').ok_or_else(unread)?;
        let head = String::from_utf8_lossy(&out[..end]).into_owned();
        if head.ends_with(" missing") || head.ends_with(" ambiguous") {
            return Ok(None);
        }
        if !whole {
            return Ok(Some(Vec::new()));
        }
        let size: usize = head.rsplit(' ').next().and_then(|size| size.parse().ok()).ok_or_else(unread)?;
        out.get(end + 1..end + 1 + size).map(|bytes| Some(bytes.to_vec())).ok_or_else(unread)
    }

    /// The full id of a branch, tag or commit that the mirror has.
    pub async fn resolve(&self, name: &str) -> Result<Option<String>, GitError> {
        let name = checked(name)?;
        if !self.dir.join("HEAD").exists() {
            return Ok(None);
        }
        for candidate in [format!("refs/heads/{name}"), format!("refs/tags/{name}"), name.to_owned()] {
            let wanted = format!("{candidate}^{{commit}}");
            let found = git(&self.dir, &["rev-parse", "--quiet", "--verify", "--end-of-options", &wanted]).await;
            if let Some(out) = unless_no(found)? {
                return Ok(Some(String::from_utf8_lossy(&out).trim().to_owned()));
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
        let out = git(&self.dir, &["log", "-1", "--format=%H%n%an%n%ct%n%s%n%B", "--end-of-options", checked(id)?]).await?;
        parse_commit(&String::from_utf8_lossy(&out)).ok_or_else(|| GitError::Failed {
            verb: "log".into(),
            said: "its answer could not be read".into(),
            code: None,
        })
    }

    /// The files right below a folder at a commit (`""` for the root), as paths from the root.
    pub async fn files(&self, commit: &str, folder: &str) -> Result<Vec<String>, GitError> {
        // A path that the tree does not have lists nothing; only a commit that cannot be read is an error.
        let below = format!("{folder}/");
        let mut args = vec!["ls-tree", "-z", "--name-only", "--full-tree", checked(commit)?];
        if !folder.is_empty() {
            args.extend(["--", &below]);
        }
        let out = git(&self.dir, &args).await?;
        let names = out.split(|&byte| byte == 0).filter(|name| !name.is_empty());
        let path = |name: &[u8]| String::from_utf8_lossy(name).into_owned();
        Ok(names.map(path).collect())
    }

    /// A file's bytes at a commit; none when it is not there.
    pub async fn read(&self, commit: &str, path: &str) -> Result<Option<Vec<u8>>, GitError> {
        if path.contains('\n') {
            return Ok(None);
        }
        self.object(&format!("{}:{path}", checked(commit)?), true).await
    }

    /// Writes a commit's files, clean, into an empty folder.
    pub async fn unpack(&self, commit: &str, into: &Path) -> Result<(), GitError> {
        let mut command = base(&self.dir);
        let index = into.with_extension("index");
        command.arg("--work-tree").arg(into).env("GIT_INDEX_FILE", &index);
        let done =
            run(command, &["-c", "checkout.workers=2", "-c", "core.bare=false", "read-tree", "--reset", "-u", checked(commit)?], None)
                .await;
        let _ = tokio::fs::remove_file(&index).await;
        done.map(drop)
    }
}

fn parse_commit(text: &str) -> Option<CommitInfo> {
    let mut lines = text.splitn(5, '\n');
    let mut next = || lines.next().map(str::to_owned);
    let (id, author, time) = (next()?, next()?, next()?.parse().ok()?);
    Some(CommitInfo { id, author, time, title: next().unwrap_or_default(), message: next().unwrap_or_default().trim_end().to_owned() })
}
