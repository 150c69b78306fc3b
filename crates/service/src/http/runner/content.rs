//! What runners send and fetch: chunks in packs, entries of caches. Every call may be repeated.

use super::attempt::{attempt_id, stale};
use crate::app::App;
use crate::clock;
use crate::http::caller::AsRunner;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use crate::keeper::{CompleteArtifact, Stale};
use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, State};
use axum::http::StatusCode;
use axum::response::IntoResponse;
use axum::routing::post;
use axum::{Json, Router};
use ordotaxis_content::{ChunkId, MAGIC};
use ordotaxis_core::access::Actor;
use ordotaxis_store::{BlobError, NewCache, Project};
use ordotaxis_wire::runner::{AttemptId, CacheEntry, FindCache, FoundCache, GivenArtifact, SaveCache, SavedCache};
use std::collections::HashSet;
use std::sync::Arc;
use tokio_stream::StreamExt;

/// The longest list of names: 32 bytes for each of half a million chunks.
pub(super) const LIST_LIMIT: usize = 16 * 1024 * 1024;
/// The largest list of test cases or findings.
const LEFT_LIMIT: usize = 128 * 1024 * 1024;
/// The longest key of a cache.
const KEY_LIMIT: usize = 512;

/// Addresses for chunks, packs and caches.
pub(super) fn router() -> Router<App> {
    Router::new()
        .route("/attempts/{attempt}/trees/{tree}/chunks", post(fetch).layer(DefaultBodyLimit::max(LIST_LIMIT)))
        .route("/chunks/missing", post(missing).layer(DefaultBodyLimit::max(LIST_LIMIT)))
        .route("/packs", post(take).layer(DefaultBodyLimit::disable()))
        .route("/attempts/{attempt}/caches/find", post(find))
        .route("/attempts/{attempt}/caches/save", post(save))
        .route("/attempts/{attempt}/left", post(super::left::left).layer(DefaultBodyLimit::max(LEFT_LIMIT)))
}

pub(super) fn names(bytes: &[u8]) -> Result<Vec<ChunkId>, ApiError> {
    ChunkId::list(bytes).ok_or_else(|| ApiError::new(StatusCode::BAD_REQUEST, "bad-names", "chunks are named by 32 bytes each"))
}

/// Says for each named chunk with one byte whether it is missing here.
async fn missing(State(app): State<App>, _: AsRunner, body: Bytes) -> Result<Vec<u8>, ApiError> {
    let has = app.blobs.has(&names(&body)?, clock::now());
    Ok(has.into_iter().map(|has| u8::from(!has)).collect())
}

/// The named chunks of a tree that the attempt's job may read, in blocks, as one pack.
async fn fetch(
    State(app): State<App>,
    AsRunner(runner): AsRunner,
    Path((attempt, tree)): Path<(String, String)>,
    body: Bytes,
) -> Result<impl IntoResponse, ApiError> {
    let names = names(&body)?;
    let within = readable(&app, &runner, &attempt, &tree, &names).await?;
    let blocks = app.blobs.blocks(&names, within).await?;
    let magic = tokio_stream::once(Ok::<_, BlobError>(Bytes::from_static(MAGIC)));
    Ok(axum::body::Body::from_stream(magic.chain(blocks)))
}

/// All chunks of a tree, if the runner's attempt may read it, and the named ones are of it.
pub(super) async fn readable(
    app: &App,
    runner: &str,
    attempt: &str,
    tree: &str,
    names: &[ChunkId],
) -> Result<Arc<HashSet<ChunkId>>, ApiError> {
    let attempt = attempt_id(attempt)?;
    if !app.keeper.holders.holds(runner, attempt) {
        return Err(stale(Stale));
    }
    let tree = tree_id(tree, "/tree")?;
    // One answer for what is not there and what is another's: nothing is to be learnt by asking.
    let job = i64::try_from(attempt.job).unwrap_or(i64::MAX);
    // One that goes back reads what it goes back to.
    let run = app.records.goes_back_to(attempt.run, job, attempt.attempt).await?.unwrap_or(attempt.run);
    if !app.records.may_read(run, &tree.to_string()).await? {
        return Err(ApiError::not_found("tree", "the job may read no such tree"));
    }
    let within = app.trees.chunks_of(&app.blobs, tree).await?;
    if names.iter().any(|name| !within.contains(name)) {
        return Err(ApiError::not_found("chunk", "the tree has no such chunk"));
    }
    Ok(within)
}

/// Takes in a pack as it arrives, without holding it whole.
async fn take(State(app): State<App>, _: AsRunner, body: axum::body::Body) -> Result<StatusCode, ApiError> {
    let mut pieces = body.into_data_stream();
    let mut intake = app.blobs.intake().await;
    while let Some(piece) = pieces.next().await {
        let piece = piece.map_err(|_| ApiError::new(StatusCode::BAD_REQUEST, "broken-upload", "the upload broke off; send it again"))?;
        intake.add(piece.into()).await?;
    }
    intake.finish(clock::now()).await?;
    Ok(StatusCode::CREATED)
}

fn tree_id(text: &str, pointer: &str) -> Result<ChunkId, ApiError> {
    text.parse().map_err(|_| ApiError::field(pointer, format!("`{text}` names no tree: that is 64 hexadecimal digits")))
}

/// Looks through what a result says it has given. Call it while names are held.
pub(super) async fn artifacts(app: &App, given: &[GivenArtifact]) -> Result<Vec<CompleteArtifact>, ApiError> {
    let mut artifacts = Vec::with_capacity(given.len());
    for artifact in given {
        let id = tree_id(&artifact.tree, "/artifacts")?;
        let tree = app.blobs.complete(&id, clock::now()).await.map_err(|error| unfit(&artifact.name, error))?;
        let number = |number: u64| i64::try_from(number).unwrap_or(i64::MAX);
        artifacts.push(CompleteArtifact {
            name: artifact.name.clone(),
            tree: artifact.tree.clone(),
            digest: tree.digest().unwrap_or_default(),
            content: ChunkId(tree.content()).to_string(),
            files: number(tree.files()),
            raw_bytes: number(tree.bytes()),
            bytes: number(artifact.bytes),
        });
    }
    Ok(artifacts)
}

/// Storage that is away may come back; every other error lies in what was sent.
fn unfit(name: &str, error: BlobError) -> ApiError {
    if error.is_passing() { error.into() } else { ApiError::field("/artifacts", format!("artifact {name} cannot be kept: {error}")) }
}

/// The project of an attempt, its run's name, its job, and whether it is from outside.
async fn about(app: &App, runner: &str, attempt: AttemptId) -> Result<(Project, String, String, bool), ApiError> {
    if !app.keeper.holders.holds(runner, attempt) {
        return Err(stale(Stale));
    }
    let gone = || stale(Stale);
    let stored = app.records.stored_run(attempt.run).await?.ok_or_else(gone)?;
    let project = app.records.project_by_id(stored.project_id).await?.ok_or_else(gone)?;
    let plan = app.plan_of(attempt.run).await?.ok_or_else(gone)?;
    let job = plan.jobs.get(attempt.job).ok_or_else(gone)?.id.to_string();
    let run = format!("{}/{}", project.name, stored.number);
    Ok((project, run, job, plan.occasion.is_from_outside()))
}

/// The entry of a cache for a job, if the job may have one.
async fn find(
    State(app): State<App>,
    AsRunner(runner): AsRunner,
    Path(attempt): Path<String>,
    Body(ask): Body<FindCache>,
) -> Result<Json<FoundCache>, ApiError> {
    let (project, _, _, outside) = about(&app, &runner, attempt_id(&attempt)?).await?;
    let mut tx = app.records.tx(&Actor::runner(&runner), clock::now()).await?;
    let row = tx.find_cache(project.id, &ask.key, &ask.otherwise).await?;
    tx.commit().await?;
    let entry = row.map(|row| CacheEntry { key: row.key, tree: row.tree, run: row.run });
    Ok(Json(FoundCache { entry, may_save: !outside }))
}

async fn save(
    State(app): State<App>,
    AsRunner(runner): AsRunner,
    Path(attempt): Path<String>,
    Body(ask): Body<SaveCache>,
) -> Result<Json<SavedCache>, ApiError> {
    let (project, run, job, outside) = about(&app, &runner, attempt_id(&attempt)?).await?;
    if outside {
        let detail = "a proposal from outside reads its target's caches and saves nothing in them";
        return Err(ApiError::new(StatusCode::FORBIDDEN, "from-outside", detail));
    }
    if ask.key.is_empty() || ask.key.len() > KEY_LIMIT || ask.key.chars().any(char::is_control) {
        return Err(ApiError::field("/key", format!("a cache's key is 1 to {KEY_LIMIT} characters, none of them a control character")));
    }
    let id = tree_id(&ask.tree, "/tree")?;
    let _naming = app.blobs.naming().await;
    let tree = app.blobs.complete(&id, clock::now()).await.map_err(|error| unfit(&ask.key, error))?;
    let number = |number: u64| i64::try_from(number).unwrap_or(i64::MAX);
    let new = NewCache {
        project_id: project.id,
        key: &ask.key,
        tree: &ask.tree,
        files: number(tree.files()),
        raw_bytes: number(tree.bytes()),
        bytes: number(ask.bytes),
        run: &run,
        job: &job,
    };
    let mut tx = app.records.tx(&Actor::runner(&runner), clock::now()).await?;
    let saved = tx.add_cache(&new).await?;
    tx.commit().await?;
    Ok(Json(SavedCache { saved }))
}
