//! What a repository has: reached or not, its branches, the pipelines of its main one, or the file that is offered.

use super::commit::first_file_of;
use super::open::FirstLook;
use crate::occasions::in_repository;
use crate::seal::GitLogin;
use ordotaxis_core::first::FirstFile;
use ordotaxis_core::language::Severity;
use ordotaxis_core::plan;
use ordotaxis_git::{Access, Address, GitError, Key, Login, Mirror, Mirrors};
use ordotaxis_wire::look::{FirstFileView, LookedAt, LookedAtFile};
use std::sync::Arc;
use std::time::Duration;

/// How long a repository may take to answer, and to send the newest commit of its main branch.
const PATIENCE: Duration = Duration::from_secs(60);
/// How many branches are told by name.
const BRANCHES: usize = 200;

/// Reads a repository for a look; in words why it cannot be read.
pub(crate) async fn see(look: &FirstLook, git_url: &str, login: Option<GitLogin>) -> Result<LookedAt, String> {
    let _one_at_a_time = look.reading.lock().await;
    let seen = async {
        let mirrors = Mirrors::new(look.folder.path().to_owned());
        let mirror = mirrors.get("repository", git_url, access(look, git_url, login).await?);
        let refs = mirror.look().await?;
        let seen = looked_at(&mirror, &refs.keys().cloned().collect::<Vec<_>>()).await;
        // What was fetched is of no more use, and the next address is another repository.
        let _ = mirrors.remove("repository").await;
        seen
    };
    match tokio::time::timeout(PATIENCE, seen).await {
        Ok(Ok(seen)) => Ok(seen),
        Ok(Err(error)) => Err(format!("the repository cannot be read: {error}")),
        Err(_) => Err(format!("the repository did not answer, or send its newest commit, within {} s", PATIENCE.as_secs())),
    }
}

async fn access(look: &FirstLook, git_url: &str, login: Option<GitLogin>) -> Result<Access, GitError> {
    let is_ssh = matches!(git_url.parse(), Ok(Address::Ssh(_)));
    let key = if is_ssh { Some(Key { private: look.key().await?.private.clone(), known_hosts: look.known_hosts() }) } else { None };
    let logins = login.into_iter().map(|login| Login { origin: login.origin, user: login.user, password: login.password });
    Ok(Access { logins: logins.collect(), key })
}

async fn looked_at(mirror: &Arc<Mirror>, refs: &[String]) -> Result<LookedAt, GitError> {
    let below = |prefix: &str| refs.iter().filter_map(|name| name.strip_prefix(prefix).map(str::to_owned)).collect::<Vec<_>>();
    let (branches, tags) = (below("refs/heads/"), below("refs/tags/"));
    let main_branch = mirror.head_branch().await?.filter(|branch| branches.contains(branch));
    let mut found = LookedAt {
        branches_all: branches.len(),
        tags_all: tags.len(),
        branches: branches.into_iter().take(BRANCHES).collect(),
        main_branch,
        pipelines: Vec::new(),
        first_file: None,
    };
    let Some(branch) = found.main_branch.clone() else { return Ok(found) };
    mirror.fetch_newest(&branch).await?;
    let Some(commit) = mirror.resolve(&branch).await? else { return Ok(found) };
    for (name, path) in in_repository(mirror, &commit).await? {
        let Some(bytes) = mirror.read(&commit, &path).await? else { continue };
        let told = plan::check(&String::from_utf8_lossy(&bytes));
        let errors = told.iter().filter(|one| one.severity == Severity::Error).count();
        found.pipelines.push(LookedAtFile { name, path, errors });
    }
    if found.pipelines.is_empty() {
        found.first_file = Some(view(first_file_of(mirror.clone(), &commit, &branch).await?));
    }
    Ok(found)
}

/// A file that is offered, as people get it.
pub(crate) fn view(file: FirstFile) -> FirstFileView {
    FirstFileView { text: file.text, found: file.found, unsure: file.unsure }
}
