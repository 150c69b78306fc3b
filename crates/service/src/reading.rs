//! How the service reads a project's repository and its submodules: where they are, and with what.
//!
//! A project's users and passwords go to the servers that they were set for, its key to servers that are reached by SSH. A
//! submodule's address is written by whoever may push, so it is held to the same places as a borrowed file's, and its mirror
//! belongs to the project alone: another project that names the same address has to be let in itself.

use crate::app::App;
use crate::clock;
use crate::places;
use ordotaxis_core::language::Depth;
use ordotaxis_git::{Access, Address, GitError, Key, Login, Mirror, Submodule};
use ordotaxis_store::{Project, StoreError, StoredRun};
use ordotaxis_wire::runner::Merge;
use sha2::{Digest, Sha256};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

/// The deepest that submodules have submodules.
const DEEPEST: usize = 8;

/// How long a repository may take to name its main branch.
const PATIENCE: Duration = Duration::from_secs(15);

/// Why a commit's files cannot be had.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ReadingError {
    #[error(transparent)]
    Git(#[from] GitError),
    #[error("the repository does not have commit {0}")]
    NoCommit(String),
    #[error("submodule {path}: {why}")]
    Submodule { path: String, why: String },
}

/// A commit of a repository that the service has.
pub(crate) struct Source {
    pub(crate) mirror: Arc<Mirror>,
    pub(crate) commit: String,
    /// Without a password.
    pub(crate) address: String,
}

/// How many commits of history; all when absent.
pub(crate) fn commits(depth: Depth) -> Option<u32> {
    match depth {
        Depth::Commits(commits) => Some(commits),
        Depth::All => None,
    }
}

impl App {
    /// The mirror of a project's repository, with what the repository asks for.
    pub(crate) fn mirror(&self, project: &Project) -> Arc<Mirror> {
        self.mirrors.get(&project.name, &project.git_url, self.access(project))
    }

    /// What the service reads a project's repositories with.
    fn access(&self, project: &Project) -> Access {
        let outward = self.outward(project);
        let login = |login: &crate::seal::GitLogin| Login {
            origin: login.origin.clone(),
            user: login.user.clone(),
            password: login.password.clone(),
        };
        let mut logins: Vec<Login> = outward.logins.iter().map(login).collect();
        logins.extend(outward.git_password.and_then(|password| of_before(&project.git_url, password)));
        let key = outward.key.map(|key| Key { private: key.private, known_hosts: self.known_hosts(project) });
        if let Some(folder) = key.as_ref().and_then(|key| key.known_hosts.parent()) {
            // Without it ssh could pin nothing; where it cannot be made the call itself says so.
            let _ = std::fs::create_dir_all(folder);
        }
        Access { logins, key }
    }

    /// The branch that a project's repository names as its main one, or a sentence why that is not known.
    pub(crate) async fn head_branch(&self, project: &Project) -> Result<String, String> {
        let mirror = self.mirror(project);
        let found = tokio::time::timeout(PATIENCE, mirror.head_branch()).await;
        match found {
            Ok(Ok(Some(branch))) => Ok(branch),
            Ok(Ok(None)) => Err("the repository names no branch as its main one: it is empty, or its HEAD leads nowhere".to_owned()),
            Ok(Err(error)) => Err(format!("the repository cannot be read: {error}")),
            Err(_) => Err(format!("the repository did not answer within {} s", PATIENCE.as_secs())),
        }
    }

    /// Where a project follows its repository's main branch: the project with what that is now, or what to know where it cannot be read.
    pub(crate) async fn follow_head(&self, project: Project) -> Result<(Project, Option<String>), StoreError> {
        if !project.main_follows {
            return Ok((project, None));
        }
        let branch = match self.head_branch(&project).await {
            Ok(branch) if branch == project.main_branch => return Ok((project, None)),
            Ok(branch) => branch,
            Err(why) => {
                let remark = format!("its main branch is taken to be {} until it can be asked: {why}", project.main_branch);
                return Ok((project, Some(remark)));
            }
        };
        let mut tx = self.records.tx_by_rule("main-branch", clock::now()).await?;
        tx.set_main_branch(project.id, &branch, true).await?;
        tx.commit().await?;
        Ok((Project { main_branch: branch, ..project }, None))
    }

    /// Where the keys of servers are kept that a project is read from by SSH.
    pub(crate) fn known_hosts(&self, project: &Project) -> PathBuf {
        self.settings.data.join("hosts").join(project.id.to_string())
    }

    /// A run's commit, or that of a submodule of it, fetched where it is not here yet.
    pub(crate) async fn source(
        &self,
        project: &Project,
        run: &StoredRun,
        outside: bool,
        within: &[String],
    ) -> Result<Source, ReadingError> {
        let mirror = self.mirror(project);
        let merge: Option<Merge> = run.merged.as_deref().and_then(|text| serde_json::from_str(text).ok());
        if !has_commit(&mirror, run, merge.as_ref()).await? {
            return Err(ReadingError::NoCommit(run.commit_id.clone()));
        }
        let mut source = Source { mirror, commit: run.commit_id.clone(), address: project.git_url.clone() };
        // From outside, only what the branch that it is aimed at has is read with the project's own rights.
        let mut trusted = match (&merge, outside) {
            (Some(merge), true) => Some(merge.base.clone()),
            _ => None,
        };
        for (depth, path) in within.iter().enumerate() {
            let refused = |why: String| ReadingError::Submodule { path: path.clone(), why };
            if depth >= DEEPEST {
                return Err(refused(format!("it lies deeper than {DEEPEST} submodules")));
            }
            let all = source.mirror.submodules(&source.commit).await?;
            let found = all.into_iter().find(|one| one.path == *path).ok_or_else(|| refused("the commit names none there".into()))?;
            if let Some(base) = &trusted
                && !source.mirror.submodules(base).await?.iter().any(|one| one.url == found.url)
            {
                return Err(refused("a proposal from outside cannot add a repository that the project does not read already".into()));
            }
            source = self.inner(project, &source, &found).await.map_err(refused)?;
            trusted = None;
        }
        Ok(source)
    }

    /// A submodule's repository, with the commit that is named.
    async fn inner(&self, project: &Project, outer: &Source, found: &Submodule) -> Result<Source, String> {
        let address = self.address_of(project, &outer.address, found)?;
        let digest: String = Sha256::digest(address.as_bytes()).iter().take(10).map(|byte| format!("{byte:02x}")).collect();
        let mirror = self.mirrors.get(&format!("{}+{digest}", project.name), &address, self.access(project));
        match mirror.need(&found.commit, None).await {
            Ok(true) => Ok(Source { mirror, commit: found.commit.clone(), address }),
            Ok(false) => Err(format!("{address} does not have commit {}", found.commit)),
            Err(error) => Err(format!("{address} cannot be read: {error}")),
        }
    }

    /// The whole address of a submodule, if it may be read.
    pub(crate) fn address_of(&self, project: &Project, outer: &str, found: &Submodule) -> Result<String, String> {
        let outer: Address = outer.parse().map_err(|error: ordotaxis_git::AddressError| error.to_string())?;
        let address = outer.joined(&found.url).map_err(|error| format!("`{}`: {error}", found.url))?.to_string();
        places::may_borrow(&self.settings, &address, &project.git_url)?;
        Ok(address)
    }
}

/// Whether the mirror has a run's commit; one that merges a proposal is made where it is not there any more.
async fn has_commit(mirror: &Mirror, run: &StoredRun, merge: Option<&Merge>) -> Result<bool, GitError> {
    let Some(merge) = merge else { return mirror.need(&run.commit_id, run.branch.as_deref()).await };
    if mirror.has(&run.commit_id).await? {
        return Ok(true);
    }
    let both = mirror.need(&merge.base, None).await? && mirror.need(&merge.head, None).await?;
    Ok(both && mirror.merged(&merge.base, &merge.head).await?.as_ref() == Ok(&run.commit_id))
}

/// The password that stood in an address, with the user that stands there still.
fn of_before(git_url: &str, password: String) -> Option<Login> {
    let origin = git_url.parse::<Address>().ok()?.origin()?;
    let (_, rest) = git_url.split_once("://")?;
    let (user, _) = rest.split('/').next()?.rsplit_once('@')?;
    Some(Login { origin, user: user.to_owned(), password })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_password_of_before_goes_with_its_user_to_its_server() {
        let login = of_before("https://odd@forge.saltmarsh.example:8443/x.git", "salt".into()).unwrap();
        assert_eq!((login.origin.as_str(), login.user.as_str()), ("https://forge.saltmarsh.example:8443", "odd"));
        assert!(of_before("git@forge.saltmarsh.example:x", "salt".into()).is_none());
        assert!(of_before("https://forge.saltmarsh.example/x@y", "salt".into()).is_none());
    }
}
