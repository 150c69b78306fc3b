//! The forge's addresses: repositories by git's own smart HTTP, calls of its dialect, what people do, plain pages.

use crate::answer::Answer;
use crate::backend::{self, Call};
use crate::book::{Offered, Proposal};
use crate::calls;
use crate::forge::Forge;
use crate::large;
use crate::meet::meet;
use crate::news::{Move, News};
use crate::page;
use crate::people;
use crate::pushed::named;
use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::{DefaultBodyLimit, Path, RawQuery, State};
use axum::http::{HeaderMap, Method, Response, StatusCode, header};
use axum::middleware;
use axum::response::{Html, IntoResponse};
use axum::routing::{any, get};
use base64::Engine;
use std::collections::{BTreeMap, BTreeSet};
use tokio::net::TcpListener;

impl Forge {
    /// Answers calls until the listener fails.
    pub async fn serve(self, listener: TcpListener) -> std::io::Result<()> {
        axum::serve(listener, self.router()).await
    }

    fn router(self) -> Router {
        let spoken = calls::router(self.dialect).layer(middleware::from_fn_with_state(self.clone(), meet));
        Router::new()
            .route("/", get(front))
            .route("/{name}", get(repository))
            .route("/git/{*path}", any(git).layer(DefaultBodyLimit::disable()))
            .merge(people::router())
            .merge(spoken)
            .with_state(self)
    }

    /// Whether a call may read a repository: HTTP's basic scheme (RFC 7617), user `practice`, the token as password.
    fn may_read(&self, repository: &str, headers: &HeaderMap) -> bool {
        let book = self.book();
        let Some(known) = book.repositories.get(repository).filter(|known| known.private) else { return true };
        let sent = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()?.strip_prefix("Basic "));
        let wanted = base64::engine::general_purpose::STANDARD.encode(format!("practice:{}", known.token));
        sent == Some(wanted.as_str())
    }

    /// Tells of every branch and tag of a push that it changed; proposals follow their branches, and land with what they offer.
    async fn pushed(&self, repository: &str, names: BTreeSet<String>, before: &BTreeMap<String, String>, after: &BTreeMap<String, String>) {
        let changed = names.into_iter().filter(|name| before.get(name) != after.get(name));
        let change = |name: String| Move { before: before.get(&name).cloned(), now: after.get(&name).cloned(), name };
        let moves: Vec<Move> = changed.map(change).collect();
        let Some(commit) = moves.iter().find_map(|one| one.now.as_ref().or(one.before.as_ref())) else { return };
        let by = self.committer(repository, commit).await;
        self.announce(repository, &News::Moved { moves: moves.clone(), by: by.clone() });
        for one in &moves {
            let Some(branch) = one.name.strip_prefix("refs/heads/") else { continue };
            match &one.now {
                Some(commit) => {
                    self.land_with(repository, branch, commit, &by).await;
                    self.changed(repository, branch, commit, &by);
                }
                None => self.close_with(repository, branch, &by),
            }
        }
    }

    fn open_proposals(&self, repository: &str) -> Vec<Proposal> {
        let book = self.book();
        let all = book.repositories.get(repository).map(|known| known.proposals.clone()).unwrap_or_default();
        all.into_iter().filter(|proposal| proposal.state == Offered::Open).collect()
    }

    /// What a branch holds has landed there.
    async fn land_with(&self, repository: &str, branch: &str, commit: &str, by: &str) {
        let dir = self.folder.join(format!("{repository}.git"));
        for proposal in self.open_proposals(repository).into_iter().filter(|proposal| proposal.target == branch) {
            let mut command = tokio::process::Command::new("git");
            command.arg("--git-dir").arg(&dir).args(["merge-base", "--is-ancestor", &proposal.commit, commit]);
            if command.status().await.is_ok_and(|status| status.success()) {
                let _ = self.land(repository, proposal.number, commit, by);
            }
        }
    }

    /// A branch is gone, and what it offered with it.
    fn close_with(&self, repository: &str, branch: &str, by: &str) {
        for proposal in self.open_proposals(repository).into_iter().filter(|proposal| proposal.source == branch) {
            let _ = self.close(repository, proposal.number, by);
        }
    }
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
    // Others may push at the same time: each call tells of its own.
    let pushes = if rest == "git-receive-pack" { named(&body) } else { BTreeSet::new() };
    let before = if pushes.is_empty() { BTreeMap::new() } else { forge.refs(name).await };
    let name = name.to_owned();
    let call = Call { method, path: format!("/{path}"), query: query.unwrap_or_default(), headers, body };
    let Ok(answer) = backend::run(&forge.folder, call).await else { return StatusCode::INTERNAL_SERVER_ERROR.into_response() };
    if !pushes.is_empty() {
        let after = forge.refs(&name).await;
        forge.pushed(&name, pushes, &before, &after).await;
    }
    answer
}

async fn front(State(forge): State<Forge>) -> Html<String> {
    let names: Vec<String> = forge.book().repositories.keys().cloned().collect();
    Html(page::front(&names))
}

async fn repository(State(forge): State<Forge>, Path(name): Path<String>) -> Answer<Html<String>> {
    let known = forge.book().repositories.get(&name).map(|known| known.proposals.clone());
    let proposals = known.ok_or_else(|| (StatusCode::NOT_FOUND, format!("there is no repository {name}\n")))?;
    let refs = forge.refs(&name).await;
    let dir = forge.folder.join(format!("{name}.git"));
    let mut command = tokio::process::Command::new("git");
    command.arg("--git-dir").arg(dir).args(["log", "--branches", "-40", "--format=%H%x09%an%x09%ar%x09%s"]);
    let log = command.output().await.map(|output| output.stdout).unwrap_or_default();
    let mut command = tokio::process::Command::new("git");
    command.arg("--git-dir").arg(forge.folder.join(format!("{name}.git"))).args(["show", "HEAD:README.md"]);
    let readme = command.output().await.map(|output| output.stdout).unwrap_or_default();
    let commits = page::commits(&String::from_utf8_lossy(&log), |id| forge.statuses(&name, id));
    Ok(Html(page::repository(&name, &String::from_utf8_lossy(&readme), &refs, &commits, &proposals)))
}
