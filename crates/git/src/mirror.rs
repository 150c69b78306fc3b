//! A bare copy of one repository, and what can be asked of it.

use crate::command::{GitError, base, checked, git, run};
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
    pub fn new(folder: PathBuf) -> Self {
        Mirrors { folder, open: StdMutex::default() }
    }

    /// The mirror of a project; made on first use. A changed address keeps what was fetched.
    pub fn get(&self, project: &str, url: &str) -> Arc<Mirror> {
        let mut open = self.open.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(known) = open.get(project).filter(|mirror| mirror.url == url) {
            return known.clone();
        }
        let dir = self.folder.join(format!("{project}.git"));
        let mirror = Arc::new(Mirror { dir, url: url.to_owned(), fetching: Mutex::new(()) });
        open.insert(project.to_owned(), mirror.clone());
        mirror
    }
}

pub struct Mirror {
    pub(crate) dir: PathBuf,
    pub(crate) url: String,
    pub(crate) fetching: Mutex<()>,
}

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
        if self.has(commit).await {
            return Ok(true);
        }
        let _one_at_a_time = self.fetching.lock().await;
        if self.has(commit).await {
            return Ok(true);
        }
        if let Some(branch) = branch
            && self.fetch_refs(&[&format!("+refs/heads/{0}:refs/heads/{0}", checked(branch)?)]).await.is_ok()
            && self.has(commit).await
        {
            return Ok(true);
        }
        self.fetch_refs(&["+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"]).await?;
        Ok(self.has(commit).await)
    }

    /// Fetches all branches and tags; branches gone there go here too.
    pub async fn fetch_all(&self) -> Result<(), GitError> {
        let _one_at_a_time = self.fetching.lock().await;
        self.fetch_refs(&["--prune", "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"]).await
    }

    pub(crate) async fn fetch_refs(&self, refs: &[&str]) -> Result<(), GitError> {
        self.init().await?;
        let (options, refs): (Vec<&str>, Vec<&str>) = refs.iter().partition(|name| name.starts_with("--"));
        let mut args = vec!["fetch", "--quiet", "--no-tags", "--no-write-fetch-head", "--no-auto-maintenance"];
        args.extend(options);
        args.extend(["--end-of-options", &self.url]);
        args.extend(refs);
        git(&self.dir, &args).await.map(drop)
    }

    async fn init(&self) -> Result<(), GitError> {
        if self.dir.join("HEAD").exists() {
            return Ok(());
        }
        tokio::fs::create_dir_all(&self.dir).await.map_err(|source| GitError::Folder { path: self.dir.clone(), source })?;
        git(&self.dir, &["init", "--quiet", "--bare"]).await.map(drop)
    }

    pub async fn has(&self, commit: &str) -> bool {
        self.dir.join("HEAD").exists() && git(&self.dir, &["cat-file", "-e", &format!("{commit}^{{commit}}")]).await.is_ok()
    }

    /// The full id of a branch, tag or commit that the mirror has.
    pub async fn resolve(&self, name: &str) -> Result<Option<String>, GitError> {
        let name = checked(name)?;
        for candidate in [format!("refs/heads/{name}"), format!("refs/tags/{name}"), name.to_owned()] {
            let wanted = format!("{candidate}^{{commit}}");
            if let Ok(out) = git(&self.dir, &["rev-parse", "--quiet", "--verify", "--end-of-options", &wanted]).await {
                return Ok(Some(String::from_utf8_lossy(&out).trim().to_owned()));
            }
        }
        Ok(None)
    }

    pub async fn branches(&self) -> Result<Vec<String>, GitError> {
        let out = git(&self.dir, &["for-each-ref", "--format=%(refname:lstrip=2)", "refs/heads"]).await?;
        Ok(String::from_utf8_lossy(&out).lines().map(str::to_owned).collect())
    }

    pub async fn commit(&self, id: &str) -> Result<CommitInfo, GitError> {
        let out = git(&self.dir, &["log", "-1", "--format=%H%n%an%n%ct%n%s%n%B", "--end-of-options", checked(id)?]).await?;
        parse_commit(&String::from_utf8_lossy(&out))
            .ok_or_else(|| GitError::Failed { verb: "log".into(), said: "its answer could not be read".into() })
    }

    /// The files right below a folder at a commit (`""` for the root), as paths from the root.
    pub async fn files(&self, commit: &str, folder: &str) -> Result<Vec<String>, GitError> {
        let tree = if folder.is_empty() { commit.to_owned() } else { format!("{commit}:{folder}") };
        let Ok(out) = git(&self.dir, &["ls-tree", "-z", "--name-only", &tree]).await else { return Ok(Vec::new()) };
        let names = out.split(|&byte| byte == 0).filter(|name| !name.is_empty());
        let path = |name: &[u8]| {
            let name = String::from_utf8_lossy(name);
            if folder.is_empty() { name.into_owned() } else { format!("{folder}/{name}") }
        };
        Ok(names.map(path).collect())
    }

    /// A file's bytes at a commit; none when it is not there.
    pub async fn read(&self, commit: &str, path: &str) -> Option<Vec<u8>> {
        git(&self.dir, &["cat-file", "blob", &format!("{commit}:{path}")]).await.ok()
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
