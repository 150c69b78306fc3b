//! Artifacts: what a run's jobs have given, whole or file by file.

use super::views::find_run;
use crate::app::App;
use crate::causes::causes;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Path, Query};
use crate::keeper::RunCommand;
use axum::Json;
use axum::body::Body;
use axum::extract::State;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bytes::Bytes;
use ordotaxis_content::{
    ChunkId, Entry as FileEntry, ExportError, Kind, ReadChunks, Tree, digest_text, export_file, export_tar, export_zip,
};
use ordotaxis_core::access::Action;
use ordotaxis_core::language::{JobId, nearest};
use ordotaxis_store::{Blobs, Entry, StoredArtifact};
use ordotaxis_wire::artifact::{ArtifactView, FileView, FolderView, SubfolderView};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::io::Write;
use tokio::sync::mpsc;
use tokio_stream::wrappers::ReceiverStream;
use utoipa::IntoParams;

/// All artifacts of a run, each as people see it and as it is stored.
pub(crate) async fn of_run(app: &App, project: &str, number: i64) -> Result<Vec<(ArtifactView, StoredArtifact)>, ApiError> {
    let run = find_run(app, project, number).await?;
    let Some(plan) = app.plan_of(run.id).await? else { return Ok(Vec::new()) };
    let rows = app.records.artifacts(run.id).await?;
    let with_view = |row: StoredArtifact| {
        let job = plan.jobs.get(usize::try_from(row.job).ok()?)?;
        Some((view(project, number, &job.id, &row), row))
    };
    Ok(rows.into_iter().filter_map(with_view).collect())
}

fn view(project: &str, number: i64, job: &JobId, row: &StoredArtifact) -> ArtifactView {
    ArtifactView {
        url: format!("/api/v1/runs/{project}/{number}/artifacts/{job}/{}", row.name),
        job: job.clone(),
        name: row.name.clone(),
        digest: row.digest.clone(),
        bytes: row.raw_bytes.unsigned_abs(),
        stored_bytes: row.bytes.unsigned_abs(),
        files: row.files.unsigned_abs(),
        kept_until: row.kept_until.filter(|_| row.pinned_by.is_none()).map(moment),
        pinned_by: row.pinned_by.clone(),
    }
}

/// Names one artifact in an address.
pub(super) type Named = (String, i64, String, String);

async fn find(app: &App, (project, number, job, name): &Named) -> Result<(ArtifactView, StoredArtifact), ApiError> {
    let run = find_run(app, project, *number).await?;
    if let Some(plan) = app.plan_of(run.id).await?
        && let Some(at) = plan.jobs.iter().position(|planned| planned.id.as_str() == job)
        && let Some(row) = app.records.artifact(run.id, i64::try_from(at).unwrap_or(i64::MAX), name).await?
    {
        return Ok((view(project, *number, &plan.jobs[at].id, &row), row));
    }
    let all = of_run(app, project, *number).await?;
    let known: Vec<String> = all.iter().map(|(view, _)| format!("{}/{}", view.job, view.name)).collect();
    let wanted = format!("{job}/{name}");
    let hint = match nearest(&wanted, known.iter().map(String::as_str)) {
        Some(near) => format!("did you mean {near}?"),
        None if known.is_empty() => "it has none, or they were swept away when their time was over".to_owned(),
        None => format!("it has: {}", known.iter().take(20).cloned().collect::<Vec<_>>().join(", ")),
    };
    Err(ApiError::not_found("artifact", format!("{project}/{number} has no artifact {wanted}; {hint}")))
}

/// One artifact as it is stored.
pub(super) async fn row_of(app: &App, named: &Named) -> Result<StoredArtifact, ApiError> {
    Ok(find(app, named).await?.1)
}

/// The tree of an artifact.
pub(crate) async fn tree_of(app: &App, named: &Named) -> Result<(ArtifactView, Tree), ApiError> {
    let (view, row) = find(app, named).await?;
    let id: ChunkId = row.tree.as_deref().and_then(|tree| tree.parse().ok()).ok_or_else(|| {
        ApiError::not_found("artifact", format!("artifact {} is an archive of an earlier version that could not be brought over", row.name))
    })?;
    Ok((view, app.blobs.tree(&id).await?))
}

/// What a run's jobs have given so far.
#[utoipa::path(get, operation_id = "list_artifacts", path = "/api/v1/runs/{project}/{number}/artifacts", params(("project" = String, Path), ("number" = i64, Path)), responses((status = 200, body = Vec<ArtifactView>), (status = 404, body = Problem)))]
pub(crate) async fn list(
    State(app): State<App>,
    Path((project, number)): Path<(String, i64)>,
) -> Result<Json<Vec<ArtifactView>>, ApiError> {
    Ok(Json(of_run(&app, &project, number).await?.into_iter().map(|(view, _)| view).collect()))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Form {
    /// `tar.zst` (when absent) or `zip`.
    form: Option<String>,
}

/// One artifact as an archive.
#[utoipa::path(get, operation_id = "fetch_artifact", path = "/api/v1/runs/{project}/{number}/artifacts/{job}/{name}", params(("project" = String, Path), ("number" = i64, Path), ("job" = String, Path), ("name" = String, Path), Form), responses((status = 200, description = "the archive", content_type = "application/zstd"), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn fetch(
    State(app): State<App>,
    Path(named): Path<Named>,
    Query(form): Query<Form>,
) -> Result<impl IntoResponse, ApiError> {
    let zip = match form.form.as_deref() {
        None | Some("tar.zst") => false,
        Some("zip") => true,
        Some(other) => return Err(ApiError::field("/form", format!("there is no form {other}; there are tar.zst and zip"))),
    };
    let (view, tree) = tree_of(&app, &named).await?;
    let (kind, ending) = if zip { ("application/zip", "zip") } else { ("application/zstd", "tar.zst") };
    let (project, number, job, name) = &named;
    let file: String = format!("{project}-{number}-{job}-{name}").replace(|c: char| !c.is_ascii_alphanumeric() && !"-_.".contains(c), "_");
    let headers = [
        (header::CONTENT_TYPE, kind.to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{file}.{ending}\"")),
        (header::ETAG, format!("\"{}-{ending}\"", view.digest)),
    ];
    let write = move |chunks: &mut dyn ReadChunks, out: &mut dyn Write| {
        if zip {
            return export_zip(&tree, chunks, out);
        }
        let mut encoder = zstd::Encoder::new(out, 3)?;
        encoder.include_checksum(true)?;
        export_tar(&tree, chunks, &mut encoder)?;
        encoder.finish()?;
        Ok(())
    };
    Ok((headers, written(app.blobs.clone(), write)))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Below {
    /// A folder of the artifact; the outermost when absent.
    folder: Option<String>,
}

/// What lies in one folder of an artifact.
#[utoipa::path(get, operation_id = "list_artifact_folder", path = "/api/v1/runs/{project}/{number}/artifacts/{job}/{name}/folder", params(("project" = String, Path), ("number" = i64, Path), ("job" = String, Path), ("name" = String, Path), Below), responses((status = 200, body = FolderView), (status = 404, body = Problem)))]
pub(crate) async fn folder(
    State(app): State<App>,
    Path(named): Path<Named>,
    Query(below): Query<Below>,
) -> Result<Json<FolderView>, ApiError> {
    let (_, tree) = tree_of(&app, &named).await?;
    Ok(Json(folder_view(&tree, below.folder.as_deref().unwrap_or_default())))
}

/// What lies right in one folder of a tree, folders with their sums.
pub(super) fn folder_view(tree: &Tree, folder: &str) -> FolderView {
    let folder = folder.trim_matches('/');
    let beginning = if folder.is_empty() { String::new() } else { format!("{folder}/") };
    let (mut folders, mut files) = (BTreeMap::<String, SubfolderView>::new(), Vec::new());
    for entry in tree.entries() {
        let name = entry.name();
        let Some(rest) = name.strip_prefix(&beginning) else { continue };
        let bytes = if let Kind::File { size, .. } = entry.kind { size } else { 0 };
        let counts = u64::from(!matches!(entry.kind, Kind::Folder { .. }));
        let sub = match rest.split_once('/') {
            Some((sub, _)) => sub,
            None if counts == 0 => rest,
            None => {
                files.push(file_view(entry));
                continue;
            }
        };
        let known = folders.entry(sub.to_owned()).or_insert_with(|| SubfolderView { name: sub.to_owned(), files: 0, bytes: 0 });
        known.files += counts;
        known.bytes += bytes;
    }
    FolderView { folder: folder.to_owned(), folders: folders.into_values().collect(), files }
}

fn file_view(entry: &FileEntry) -> FileView {
    let (mode, bytes, digest, link) = match &entry.kind {
        Kind::File { mode, size, sha256, .. } => (*mode, *size, sha256.as_ref().map(digest_text), None),
        Kind::Link { target } => (0o777, 0, None, Some(String::from_utf8_lossy(target).into_owned())),
        Kind::Folder { mode } => (*mode, 0, None, None),
    };
    FileView { path: entry.name(), mode: format!("{mode:04o}"), bytes, digest, link }
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Wanted {
    /// The file's path in the artifact.
    path: String,
}

/// One file of an artifact.
#[utoipa::path(get, operation_id = "fetch_artifact_file", path = "/api/v1/runs/{project}/{number}/artifacts/{job}/{name}/file", params(("project" = String, Path), ("number" = i64, Path), ("job" = String, Path), ("name" = String, Path), Wanted), responses((status = 200, description = "the file", content_type = "application/octet-stream"), (status = 404, body = Problem)))]
pub(crate) async fn file(State(app): State<App>, Path(named): Path<Named>, Query(wanted): Query<Wanted>) -> Result<Response, ApiError> {
    let (_, tree) = tree_of(&app, &named).await?;
    one_file(&app, &tree, &wanted.path)
}

/// Answers with one file of a tree. Whatever it is, a browser that opens it lets it do nothing here.
pub(super) fn one_file(app: &App, tree: &Tree, path: &str) -> Result<Response, ApiError> {
    let entry = tree.entries().iter().find(|entry| entry.path == path.as_bytes() && matches!(entry.kind, Kind::File { .. }));
    let entry = entry.cloned().ok_or_else(|| {
        let names: Vec<String> = tree.entries().iter().take(10_000).map(FileEntry::name).collect();
        let hint = nearest(path, names.iter().map(String::as_str)).map(|near| format!("; did you mean {near}?")).unwrap_or_default();
        ApiError::not_found("file", format!("the artifact has no file {path}{hint}"))
    })?;
    let Kind::File { size, sha256, .. } = &entry.kind else { return Err(ApiError::not_found("file", path)) };
    let kind = mime_guess::from_path(path).first_or_octet_stream();
    let text = kind.type_() == "text" || matches!(kind.subtype().as_str(), "json" | "javascript" | "xml");
    let mut headers = vec![
        (header::CONTENT_TYPE, if text { format!("{kind}; charset=utf-8") } else { kind.to_string() }),
        (header::CONTENT_LENGTH, size.to_string()),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff".to_owned()),
        (header::CONTENT_SECURITY_POLICY, "sandbox".to_owned()),
    ];
    headers.extend(sha256.as_ref().map(|digest| (header::ETAG, format!("\"{}\"", digest_text(digest)))));
    let body = written(app.blobs.clone(), move |chunks, out| export_file(&entry, chunks, out));
    let mut response = body.into_response();
    for (name, value) in headers {
        if let Ok(value) = HeaderValue::from_str(&value) {
            response.headers_mut().insert(name, value);
        }
    }
    Ok(response)
}

/// Keep an artifact for good.
#[utoipa::path(put, operation_id = "pin_artifact", path = "/api/v1/runs/{project}/{number}/artifacts/{job}/{name}/pin", params(("project" = String, Path), ("number" = i64, Path), ("job" = String, Path), ("name" = String, Path)), responses((status = 200, body = ArtifactView), (status = 404, body = Problem)))]
pub(crate) async fn pin(State(app): State<App>, caller: Caller, Path(named): Path<Named>) -> Result<Json<ArtifactView>, ApiError> {
    set_pin(&app, &caller, &named, true).await
}

/// Let an artifact go when its time is over.
#[utoipa::path(delete, operation_id = "unpin_artifact", path = "/api/v1/runs/{project}/{number}/artifacts/{job}/{name}/pin", params(("project" = String, Path), ("number" = i64, Path), ("job" = String, Path), ("name" = String, Path)), responses((status = 200, body = ArtifactView), (status = 404, body = Problem)))]
pub(crate) async fn unpin(State(app): State<App>, caller: Caller, Path(named): Path<Named>) -> Result<Json<ArtifactView>, ApiError> {
    set_pin(&app, &caller, &named, false).await
}

/// Pins or lets go, in the records and in the keeper.
async fn set_pin(app: &App, caller: &Caller, named: &Named, pinned: bool) -> Result<Json<ArtifactView>, ApiError> {
    let (_, row) = find(app, named).await?;
    let tell = |pinned| {
        let (run, job, name) = (row.run_id, row.job, row.name.clone());
        app.keeper.ask(move |reply| RunCommand::Pinned { run, job, name, pinned, reply })
    };
    if !pinned && let Some(version) = app.records.release_of_artifact(row.run_id, row.job, &row.name).await? {
        let why = format!("artifact {} belongs to release {version}, and is kept for good", row.name);
        return Err(ApiError::new(StatusCode::CONFLICT, "released", why));
    }
    // What is let go may be swept at once: nothing may count on it from here on.
    if !pinned {
        tell(false).await?;
    }
    let (project, number, job, name) = named;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.pin_artifact(row.run_id, row.job, &row.name, pinned.then(|| caller.name())).await?;
    tx.note(Entry::new(Action::PinArtifact, format!("{project}/{number} {job}/{name}")).of(project).after(pinned));
    tx.commit().await?;
    if pinned {
        tell(true).await?;
    }
    Ok(Json(find(app, named).await?.0))
}

/// Reads chunks for code that cannot wait otherwise.
struct Reader {
    blobs: Blobs,
    runtime: tokio::runtime::Handle,
}

impl ReadChunks for Reader {
    fn chunk(&mut self, id: &ChunkId) -> std::io::Result<Vec<u8>> {
        self.runtime.block_on(self.blobs.chunk(id)).map_err(std::io::Error::other)
    }
}

/// A body that is written while it is sent. When a part cannot be read it breaks off, which its reader notices.
fn written(blobs: Blobs, write: impl FnOnce(&mut dyn ReadChunks, &mut dyn Write) -> Result<(), ExportError> + Send + 'static) -> Body {
    let (sender, receiver) = mpsc::channel(4);
    let runtime = tokio::runtime::Handle::current();
    tokio::task::spawn_blocking(move || {
        let mut out = std::io::BufWriter::with_capacity(128 * 1024, Sending(sender.clone()));
        let mut reader = Reader { blobs, runtime };
        let done = write(&mut reader, &mut out).and_then(|()| Ok(out.flush()?));
        if let Err(error) = done {
            tracing::warn!(error = causes(&error), "what was asked for could not be sent whole");
            let _ = sender.blocking_send(Err(std::io::Error::other(error.to_string())));
        }
    });
    Body::from_stream(ReceiverStream::new(receiver))
}

struct Sending(mpsc::Sender<std::io::Result<Bytes>>);

impl Write for Sending {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let gone = |_| std::io::Error::from(std::io::ErrorKind::BrokenPipe);
        self.0.blocking_send(Ok(Bytes::copy_from_slice(bytes))).map_err(gone)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}
