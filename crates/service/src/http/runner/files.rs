//! A commit's files for runners: what there is, packs of git's objects, large files. Which commit is the lease's to say.

use super::attempt::{attempt_id, stale};
use crate::app::App;
use crate::http::caller::AsRunner;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use crate::keeper::Stale;
use crate::reading::{ReadingError, Source, commits};
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::IntoResponse;
use axum::routing::post;
use axum::{Json, Router};
use ordotaxis_git::{GitError, PackAsk};
use ordotaxis_store::Project;
use ordotaxis_wire::runner::{AskFiles, AskLarge, AskPack, CommitTag, FilesAbout, InnerModule, LargeFile};
use std::time::Duration;
use tokio_util::io::ReaderStream;

/// What takes longer goes on, and the runner asks again: a submodule that is fetched for the first time, large files.
const HELD: Duration = Duration::from_secs(25);
/// Bytes of a file that are read at once.
const PIECE: usize = 256 * 1024;

/// Addresses for a commit's files.
pub(super) fn router() -> Router<App> {
    Router::new()
        .route("/attempts/{attempt}/files/about", post(about))
        .route("/attempts/{attempt}/files/pack", post(pack))
        .route("/attempts/{attempt}/files/large", post(large))
}

/// What a call is about.
struct Wanted {
    project: Project,
    source: Source,
    /// It is of a proposal from outside.
    outside: bool,
}

/// The commit that an attempt's job is done on, or one of its submodules'.
async fn source(app: &App, runner: &str, attempt: &str, within: &[String]) -> Result<Wanted, ApiError> {
    let attempt = attempt_id(attempt)?;
    if !app.keeper.holders.holds(runner, attempt) {
        return Err(stale(Stale));
    }
    // One that goes back has the files of what it goes back to.
    let job = i64::try_from(attempt.job).unwrap_or(i64::MAX);
    let run = app.records.goes_back_to(attempt.run, job, attempt.attempt).await?.unwrap_or(attempt.run);
    let run = app.records.stored_run(run).await?.ok_or_else(|| stale(Stale))?;
    let project = app.records.project_by_id(run.project_id).await?.ok_or_else(|| stale(Stale))?;
    let plan = app.plan_of(run.id).await?.ok_or_else(|| stale(Stale))?;
    let (app, within, outside) = (app.clone(), within.to_vec(), plan.occasion.is_from_outside());
    patiently(async move {
        let source = app.source(&project, &run, outside, &within).await?;
        Ok(Wanted { project, source, outside })
    })
    .await
}

/// Waits for what fetches from outside, and says to ask again where that takes long: it goes on meanwhile.
async fn patiently<T: Send + 'static>(work: impl Future<Output = Result<T, ReadingError>> + Send + 'static) -> Result<T, ApiError> {
    let work = tokio::spawn(work);
    match tokio::time::timeout(HELD, work).await {
        Ok(done) => done.map_err(std::io::Error::other)?.map_err(refused),
        Err(_) => Err(ApiError::new(StatusCode::SERVICE_UNAVAILABLE, "fetching", "the repository is still being fetched; ask again")),
    }
}

fn refused(error: ReadingError) -> ApiError {
    let away = matches!(&error, ReadingError::Git(GitError::TimedOut { .. } | GitError::Start(_)));
    let status = if away { StatusCode::SERVICE_UNAVAILABLE } else { StatusCode::UNPROCESSABLE_ENTITY };
    ApiError::new(status, "no-files", error.to_string())
}

async fn about(
    State(app): State<App>,
    AsRunner(runner): AsRunner,
    Path(attempt): Path<String>,
    Body(ask): Body<AskFiles>,
) -> Result<Json<FilesAbout>, ApiError> {
    let Wanted { project, source: Source { mirror, commit, address }, outside } = source(&app, &runner, &attempt, &ask.within).await?;
    let tags = mirror.tags_within(&commit, commits(ask.depth)).await.map_err(ReadingError::from).map_err(refused)?;
    let mut answer = FilesAbout { commit, address, apart: outside, ..FilesAbout::default() };
    answer.tags = tags.into_iter().map(|tag| CommitTag { name: tag.name, id: tag.id, commit: tag.commit }).collect();
    if ask.submodules {
        for one in mirror.submodules(&answer.commit).await.map_err(ReadingError::from).map_err(refused)? {
            let refused = |why| refused(ReadingError::Submodule { path: one.path.clone(), why });
            let address = app.address_of(&project, &answer.address, &one).map_err(refused)?;
            answer.submodules.push(InnerModule { name: one.name, path: one.path, address });
        }
    }
    if ask.lfs {
        let commit = answer.commit.clone();
        let pointers = patiently(async move {
            let pointers = mirror.pointers(&commit).await?;
            mirror.need_large(&commit, &pointers).await?;
            Ok(pointers)
        });
        answer.large = pointers.await?.iter().map(|one| LargeFile { oid: one.oid.clone(), bytes: one.bytes }).collect();
    }
    Ok(Json(answer))
}

/// The commit's objects that the runner does not have, as git sends them.
async fn pack(
    State(app): State<App>,
    AsRunner(runner): AsRunner,
    Path(attempt): Path<String>,
    Body(ask): Body<AskPack>,
) -> Result<impl IntoResponse, ApiError> {
    let Source { mirror, commit, .. } = source(&app, &runner, &attempt, &ask.within).await?.source;
    let ask = PackAsk { commit, depth: commits(ask.depth), haves: ask.haves, shallows: ask.shallows };
    let stream = mirror.pack(&ask).await.map_err(ReadingError::from).map_err(refused)?;
    Ok(axum::body::Body::from_stream(ReaderStream::with_capacity(stream, PIECE)))
}

/// A large file that the commit names.
async fn large(
    State(app): State<App>,
    AsRunner(runner): AsRunner,
    Path(attempt): Path<String>,
    Body(ask): Body<AskLarge>,
) -> Result<impl IntoResponse, ApiError> {
    let Source { mirror, commit, .. } = source(&app, &runner, &attempt, &ask.within).await?.source;
    let named = mirror.pointers(&commit).await.map_err(ReadingError::from).map_err(refused)?;
    // One answer for what is not there and what another commit names.
    let unknown = || ApiError::not_found("file", "the commit names no such file");
    let path = named.iter().find(|one| one.oid == ask.oid).and_then(|one| mirror.large(&one.oid)).ok_or_else(unknown)?;
    let file = tokio::fs::File::open(&path).await?;
    Ok(axum::body::Body::from_stream(ReaderStream::with_capacity(file, PIECE)))
}
