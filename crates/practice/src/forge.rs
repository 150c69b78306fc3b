//! The practice forge: repositories on disk, hooks and statuses in one JSON file beside them.

use crate::backend::{self, Call};
use crate::hook::{Hook, deliver};
use crate::large;
use crate::page;
use crate::status::Status;
use axum::body::{Body, Bytes};
use axum::extract::{DefaultBodyLimit, Path, RawQuery, State};
use axum::http::{HeaderMap, Method, Response, StatusCode, header};
use axum::response::{Html, IntoResponse};
use axum::routing::{any, get, post, put};
use axum::{Json, Router};
use base64::Engine;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::net::TcpListener;

/// Why the forge's book could not be read or written.
#[derive(Debug, thiserror::Error)]
pub enum ForgeError {
    #[error("{}: {source}", path.display())]
    Io { path: PathBuf, source: std::io::Error },
    #[error("{} is damaged", path.display())]
    Form { path: PathBuf, source: serde_json::Error },
}

#[derive(Debug, Default, Serialize, Deserialize)]
struct Book {
    repositories: BTreeMap<String, Repository>,
}

#[derive(Debug, Default, Serialize, Deserialize)]
struct Repository {
    token: String,
    /// Only who is `practice` with the token as password may read it.
    #[serde(default)]
    private: bool,
    hook: Option<Hook>,
    #[serde(default)]
    proposals: Vec<Proposal>,
    /// By commit, all in the order they came.
    statuses: BTreeMap<String, Vec<Status>>,
}

/// A change offered from one branch to another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Proposal {
    #[serde(default)]
    number: usize,
    title: String,
    source: String,
    /// It stands for one that comes from another repository.
    #[serde(default)]
    outside: bool,
    target: String,
    #[serde(default)]
    landed: bool,
}

/// The forge: repositories in a folder, and a book of their hooks, proposals and statuses. Clones share both.
#[derive(Clone)]
pub struct Forge {
    folder: PathBuf,
    url: String,
    book: Arc<Mutex<Book>>,
    /// How many statuses are refused before the next is taken; for tests of those who send.
    refuse: Arc<Mutex<u32>>,
    client: reqwest::Client,
}

#[derive(Deserialize)]
struct NewRepository {
    name: String,
    #[serde(default)]
    private: bool,
    /// Its token, say that of another repository which the same people may read; a new one when absent.
    #[serde(default)]
    token: Option<String>,
}

#[derive(Serialize)]
struct RepositoryView {
    name: String,
    git_url: String,
    page: String,
    token: String,
}

impl Forge {
    /// Opens the forge kept in `folder`; `url` is how others reach it.
    pub fn open(folder: PathBuf, url: String) -> Result<Forge, ForgeError> {
        std::fs::create_dir_all(&folder).map_err(|source| ForgeError::Io { path: folder.clone(), source })?;
        let path = folder.join("forge.json");
        let book = match std::fs::read_to_string(&path) {
            Ok(text) => serde_json::from_str(&text).map_err(|source| ForgeError::Form { path, source })?,
            Err(_) => Book::default(),
        };
        Ok(Forge { folder, url, book: Arc::new(Mutex::new(book)), refuse: Arc::default(), client: reqwest::Client::new() })
    }

    /// Answers calls until the listener fails.
    pub async fn serve(self, listener: TcpListener) -> std::io::Result<()> {
        axum::serve(listener, self.router()).await
    }

    fn router(self) -> Router {
        Router::new()
            .route("/", get(front))
            .route("/{name}", get(repository))
            .route("/git/{*path}", any(git).layer(DefaultBodyLimit::disable()))
            .route("/api/repositories", post(create))
            .route("/api/repositories/{name}/hook", put(set_hook))
            .route("/api/repositories/{name}/proposals", post(propose))
            .route("/api/repositories/{name}/commits/{commit}/statuses", post(add_status).get(statuses))
            .with_state(self)
    }

    fn book(&self) -> MutexGuard<'_, Book> {
        self.book.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn save(&self, book: &Book) {
        let text = serde_json::to_string_pretty(book).unwrap_or_default();
        let (staging, path) = (self.folder.join("forge.json.new"), self.folder.join("forge.json"));
        if let Err(error) = std::fs::write(&staging, text).and_then(|()| std::fs::rename(staging, path)) {
            tracing::error!(%error, "the forge could not write its book");
        }
    }

    /// Whether a call may read a repository: HTTP's basic scheme (RFC 7617), user `practice`, the token as password.
    fn may_read(&self, repository: &str, headers: &HeaderMap) -> bool {
        let book = self.book();
        let Some(known) = book.repositories.get(repository).filter(|known| known.private) else { return true };
        let sent = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()?.strip_prefix("Basic "));
        let wanted = base64::engine::general_purpose::STANDARD.encode(format!("practice:{}", known.token));
        sent == Some(wanted.as_str())
    }

    /// Refuses the next `count` statuses.
    pub fn refuse_statuses(&self, count: u32) {
        *self.refuse.lock().unwrap_or_else(PoisonError::into_inner) = count;
    }

    /// All statuses a commit got, oldest first.
    pub fn statuses(&self, repository: &str, commit: &str) -> Vec<Status> {
        self.book().repositories.get(repository).and_then(|known| known.statuses.get(commit)).cloned().unwrap_or_default()
    }

    async fn refs(&self, repository: &str) -> BTreeMap<String, String> {
        let dir = self.folder.join(format!("{repository}.git"));
        let mut command = tokio::process::Command::new("git");
        command.arg("--git-dir").arg(dir).args(["for-each-ref", "--format=%(refname) %(objectname)"]);
        let output = command.output().await.map(|output| output.stdout).unwrap_or_default();
        let text = String::from_utf8_lossy(&output).into_owned();
        text.lines().filter_map(|line| line.split_once(' ')).map(|(name, id)| (name.to_owned(), id.to_owned())).collect()
    }

    /// Who made a commit: the practice forge has no accounts, so that is who pushed.
    async fn committer(&self, repository: &str, commit: &str) -> String {
        let dir = self.folder.join(format!("{repository}.git"));
        let mut command = tokio::process::Command::new("git");
        command.arg("--git-dir").arg(dir).args(["log", "-1", "--format=%cn", commit]);
        let output = command.output().await.map(|output| output.stdout).unwrap_or_default();
        String::from_utf8_lossy(&output).trim().to_owned()
    }

    /// Tells the hook of every branch and tag that a push changed.
    async fn announce(&self, repository: &str, before: &BTreeMap<String, String>, after: &BTreeMap<String, String>) {
        let hook = self.book().repositories.get(repository).and_then(|known| known.hook.clone());
        let Some(hook) = hook else { return };
        for (name, commit) in after.iter().filter(|(name, commit)| before.get(*name) != Some(commit)) {
            let (event, key, short) = match (name.strip_prefix("refs/heads/"), name.strip_prefix("refs/tags/")) {
                (Some(branch), _) => ("push", "branch", branch),
                (_, Some(tag)) => ("tag", "tag", tag),
                _ => continue,
            };
            let by = self.committer(repository, commit).await;
            let old = before.get(name).cloned().unwrap_or_default();
            let body =
                serde_json::json!({ "event": event, key: short, "commit": commit, "before": old, "repository": repository, "by": by });
            tokio::spawn(deliver(self.client.clone(), hook.clone(), body));
            if event == "push" {
                self.announce_proposals(repository, &hook, short, commit, &by);
            }
        }
    }
}

impl Forge {
    /// A push to a branch that is proposed offers its new commit.
    fn announce_proposals(&self, repository: &str, hook: &Hook, branch: &str, commit: &str, by: &str) {
        let proposals = self.book().repositories.get(repository).map(|known| known.proposals.clone()).unwrap_or_default();
        for proposal in proposals.iter().filter(|proposal| proposal.source == branch && !proposal.landed) {
            tokio::spawn(deliver(self.client.clone(), hook.clone(), offered(repository, proposal, commit, by)));
        }
    }
}

fn offered(repository: &str, proposal: &Proposal, commit: &str, by: &str) -> serde_json::Value {
    serde_json::json!({
        "event": "proposal",
        "repository": repository,
        "number": proposal.number,
        "title": proposal.title,
        "source": proposal.source,
        "outside": proposal.outside,
        "target": proposal.target,
        "commit": commit,
        "by": by,
    })
}

type Answer<T> = Result<T, (StatusCode, String)>;

fn unknown(name: &str) -> (StatusCode, String) {
    (StatusCode::NOT_FOUND, format!("there is no repository {name}\n"))
}

async fn create(State(forge): State<Forge>, Json(ask): Json<NewRepository>) -> Answer<Json<RepositoryView>> {
    let plain = !ask.name.is_empty() && ask.name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_');
    if !plain {
        return Err((StatusCode::UNPROCESSABLE_ENTITY, "a repository's name is letters, digits, - and _\n".into()));
    }
    let dir = forge.folder.join(format!("{}.git", ask.name));
    if !dir.exists() {
        let made =
            tokio::process::Command::new("git").args(["init", "--quiet", "--bare", "--initial-branch=main"]).arg(&dir).status().await;
        if !made.is_ok_and(|status| status.success()) {
            return Err((StatusCode::INTERNAL_SERVER_ERROR, "git init failed\n".into()));
        }
    }
    let mut book = forge.book();
    let token = ask.token.unwrap_or_else(|| format!("practice-{:016x}", rand::random::<u64>()));
    let known =
        book.repositories.entry(ask.name.clone()).or_insert_with(|| Repository { token, private: ask.private, ..Repository::default() });
    let view = RepositoryView {
        git_url: format!("{}/git/{}.git", forge.url, ask.name),
        page: format!("{}/{}", forge.url, ask.name),
        token: known.token.clone(),
        name: ask.name,
    };
    forge.save(&book);
    Ok(Json(view))
}

async fn set_hook(State(forge): State<Forge>, Path(name): Path<String>, Json(hook): Json<Hook>) -> Answer<StatusCode> {
    let mut book = forge.book();
    book.repositories.get_mut(&name).ok_or_else(|| unknown(&name))?.hook = Some(hook);
    forge.save(&book);
    Ok(StatusCode::NO_CONTENT)
}

/// Offers a branch to another one, and calls the webhook.
async fn propose(State(forge): State<Forge>, Path(name): Path<String>, Json(mut proposal): Json<Proposal>) -> Answer<Json<Proposal>> {
    let refs = forge.refs(&name).await;
    let tip = |branch: &str| refs.get(&format!("refs/heads/{branch}")).cloned();
    let missing = |branch: &str| (StatusCode::UNPROCESSABLE_ENTITY, format!("there is no branch {branch}\n"));
    let commit = tip(&proposal.source).ok_or_else(|| missing(&proposal.source))?;
    tip(&proposal.target).ok_or_else(|| missing(&proposal.target))?;
    let hook = {
        let mut book = forge.book();
        let known = book.repositories.get_mut(&name).ok_or_else(|| unknown(&name))?;
        proposal.number = known.proposals.len() + 1;
        known.proposals.push(proposal.clone());
        let hook = known.hook.clone();
        forge.save(&book);
        hook
    };
    if let Some(hook) = hook {
        let by = forge.committer(&name, &commit).await;
        tokio::spawn(deliver(forge.client.clone(), hook, offered(&name, &proposal, &commit, &by)));
    }
    Ok(Json(proposal))
}

async fn add_status(
    State(forge): State<Forge>,
    Path((name, commit)): Path<(String, String)>,
    headers: HeaderMap,
    Json(status): Json<Status>,
) -> Answer<StatusCode> {
    {
        let mut refuse = forge.refuse.lock().unwrap_or_else(PoisonError::into_inner);
        if *refuse > 0 {
            *refuse -= 1;
            return Err((StatusCode::SERVICE_UNAVAILABLE, "the practice forge was told to refuse this\n".into()));
        }
    }
    let mut book = forge.book();
    let known = book.repositories.get_mut(&name).ok_or_else(|| unknown(&name))?;
    let sent = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()).and_then(|value| value.strip_prefix("Bearer "));
    if sent != Some(known.token.as_str()) {
        return Err((StatusCode::UNAUTHORIZED, "this is not the repository's token\n".into()));
    }
    known.statuses.entry(commit).or_default().push(status);
    forge.save(&book);
    Ok(StatusCode::CREATED)
}

async fn statuses(State(forge): State<Forge>, Path((name, commit)): Path<(String, String)>) -> Json<Vec<Status>> {
    Json(forge.statuses(&name, &commit))
}

async fn git(
    State(forge): State<Forge>,
    Path(path): Path<String>,
    RawQuery(query): RawQuery,
    method: Method,
    headers: HeaderMap,
    body: Bytes,
) -> Response<Body> {
    let Some((name, rest)) = path.split_once(".git/") else { return StatusCode::NOT_FOUND.into_response() };
    if !forge.may_read(name, &headers) {
        return (StatusCode::UNAUTHORIZED, [(header::WWW_AUTHENTICATE, "Basic realm=\"practice\"")]).into_response();
    }
    if let Some(rest) = rest.strip_prefix("info/lfs/") {
        let base = format!("{}/git/{name}.git/info/lfs", forge.url);
        return large::answer(&forge.folder.join(format!("{name}.lfs")), &base, &method, rest, &body);
    }
    let pushes = rest == "git-receive-pack";
    let before = if pushes { forge.refs(name).await } else { BTreeMap::new() };
    let name = name.to_owned();
    let call = Call { method, path: format!("/{path}"), query: query.unwrap_or_default(), headers, body };
    let Ok(answer) = backend::run(&forge.folder, call).await else { return StatusCode::INTERNAL_SERVER_ERROR.into_response() };
    if pushes {
        let after = forge.refs(&name).await;
        forge.announce(&name, &before, &after).await;
    }
    answer
}

async fn front(State(forge): State<Forge>) -> Html<String> {
    let names: Vec<String> = forge.book().repositories.keys().cloned().collect();
    Html(page::front(&names))
}

async fn repository(State(forge): State<Forge>, Path(name): Path<String>) -> Answer<Html<String>> {
    if !forge.book().repositories.contains_key(&name) {
        return Err(unknown(&name));
    }
    let refs = forge.refs(&name).await;
    let dir = forge.folder.join(format!("{name}.git"));
    let mut command = tokio::process::Command::new("git");
    command.arg("--git-dir").arg(dir).args(["log", "--branches", "-40", "--format=%H%x09%an%x09%ar%x09%s"]);
    let log = command.output().await.map(|output| output.stdout).unwrap_or_default();
    let commits = page::commits(&String::from_utf8_lossy(&log), |id| forge.statuses(&name, id));
    Ok(Html(page::repository(&name, &refs, &commits)))
}
