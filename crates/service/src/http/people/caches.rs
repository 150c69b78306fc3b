//! Caches of a project: what is in them, and dropping it.

use super::artifacts::folder_view;
use super::projects;
use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Path, Query};
use axum::Json;
use axum::extract::State;
use ordotaxis_core::access::Action;
use ordotaxis_core::language::nearest;
use ordotaxis_store::{CacheRow, Entry};
use ordotaxis_wire::artifact::FolderView;
use ordotaxis_wire::cache::{CacheView, DroppedView};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use serde::Deserialize;
use utoipa::IntoParams;

fn view(row: CacheRow) -> CacheView {
    CacheView {
        key: row.key,
        files: row.files.unsigned_abs(),
        bytes: row.raw_bytes.unsigned_abs(),
        stored_bytes: row.bytes.unsigned_abs(),
        run: row.run,
        job: row.job,
        saved_at: moment(row.saved_at),
        used_at: moment(row.used_at),
        uses: row.uses.unsigned_abs(),
    }
}

/// A project's caches, those used last first.
#[utoipa::path(get, operation_id = "list_caches", path = "/api/v1/projects/{project}/caches", params(("project" = String, Path)), responses((status = 200, body = Vec<CacheView>), (status = 404, body = Problem)))]
pub(crate) async fn list(State(app): State<App>, Path(project): Path<String>) -> Result<Json<Vec<CacheView>>, ApiError> {
    let project = projects::find(&app, &project).await?;
    Ok(Json(app.records.caches(project.id).await?.into_iter().map(view).collect()))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Which {
    /// The entry with this key.
    key: Option<String>,
    /// All entries whose keys begin so.
    beginning: Option<String>,
}

/// Drop one entry, or all whose keys begin alike.
#[utoipa::path(delete, operation_id = "drop_caches", path = "/api/v1/projects/{project}/caches", params(("project" = String, Path), Which), responses((status = 200, body = DroppedView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn drop_some(
    State(app): State<App>,
    caller: Caller,
    Path(name): Path<String>,
    Query(which): Query<Which>,
) -> Result<Json<DroppedView>, ApiError> {
    let project = projects::find(&app, &name).await?;
    let (text, whole) = match (which.key, which.beginning) {
        (Some(key), None) => (key, true),
        (None, Some(beginning)) => (beginning, false),
        _ => return Err(ApiError::field("/key", "say either `key` or `beginning`")),
    };
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    let dropped = tx.drop_caches(project.id, &text, whole).await?;
    tx.note(Entry::new(Action::DropCaches, &text).of(&project.name).after(dropped));
    tx.commit().await?;
    if dropped == 0 && whole {
        return Err(unknown(&app, &name, project.id, &text).await?);
    }
    Ok(Json(DroppedView { dropped }))
}

async fn unknown(app: &App, project: &str, id: i64, key: &str) -> Result<ApiError, ApiError> {
    let rows = app.records.caches(id).await?;
    let hint = match nearest(key, rows.iter().map(|row| row.key.as_str())) {
        Some(near) => format!("did you mean {near}?"),
        None => format!("`ordotaxis cache list {project}` shows what there is"),
    };
    Ok(ApiError::not_found("cache", format!("{project} has no cache {key}; {hint}")))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Place {
    key: String,
    /// A folder of the entry; the outermost when absent.
    folder: Option<String>,
}

/// What lies in one folder of an entry.
#[utoipa::path(get, operation_id = "list_cache_folder", path = "/api/v1/projects/{project}/caches/folder", params(("project" = String, Path), Place), responses((status = 200, body = FolderView), (status = 404, body = Problem)))]
pub(crate) async fn files(
    State(app): State<App>,
    Path(name): Path<String>,
    Query(place): Query<Place>,
) -> Result<Json<FolderView>, ApiError> {
    let project = projects::find(&app, &name).await?;
    let row = match app.records.cache(project.id, &place.key).await? {
        Some(row) => row,
        None => return Err(unknown(&app, &name, project.id, &place.key).await?),
    };
    let id = row.tree.parse().map_err(|_| ApiError::not_found("cache", place.key.clone()))?;
    let tree = app.blobs.tree(&id).await?;
    Ok(Json(folder_view(&tree, place.folder.as_deref().unwrap_or_default())))
}
