//! Reports as pages: an artifact's files under an address of their own, for an hour, to be shown in a frame.
//!
//! What a job wrote is not to be trusted with the console's session. The address carries a random word in place of a
//! session, each page is shut off from the service's origin, and nothing but files of the same artifact can be loaded.

use super::artifacts::{Named, one_file, tree_of};
use crate::app::App;
use crate::clock;
use crate::http::error::ApiError;
use crate::http::extract::Path;
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderValue, header};
use axum::response::Response;
use ordotaxis_store::Secret;
use ordotaxis_wire::artifact::ShownView;
use ordotaxis_wire::problem::Problem;
use std::sync::{Arc, PoisonError};

const SHOWN_MS: i64 = 60 * 60 * 1000;
/// How many are shown at once; the oldest go first.
const MOST: usize = 256;

/// Make an address under which an artifact's files can be seen for an hour.
#[utoipa::path(post, operation_id = "show_artifact", path = "/api/v1/runs/{project}/{number}/artifacts/{job}/{name}/show", params(("project" = String, Path), ("number" = i64, Path), ("job" = String, Path), ("name" = String, Path)), responses((status = 200, body = ShownView), (status = 404, body = Problem)))]
pub(crate) async fn show(State(app): State<App>, Path(named): Path<Named>) -> Result<Json<ShownView>, ApiError> {
    let (_, tree) = tree_of(&app, &named).await?;
    let (word, now) = (Secret::random("oxv").expose().to_owned(), clock::now());
    let mut shown = app.shown.lock().unwrap_or_else(PoisonError::into_inner);
    shown.retain(|_, (until, _)| *until > now);
    if shown.len() >= MOST
        && let Some(oldest) = shown.iter().min_by_key(|(_, (until, _))| *until).map(|(word, _)| word.clone())
    {
        shown.remove(&oldest);
    }
    shown.insert(word.clone(), (now + SHOWN_MS, Arc::new(tree)));
    Ok(Json(ShownView { url: format!("/view/{word}/") }))
}

/// One file of what is shown.
pub(crate) async fn page(State(app): State<App>, Path((word, path)): Path<(String, String)>) -> Result<Response, ApiError> {
    let known = app.shown.lock().unwrap_or_else(PoisonError::into_inner).get(&word).cloned();
    let tree = known.filter(|(until, _)| *until > clock::now()).map(|(_, tree)| tree);
    let tree = tree.ok_or_else(|| ApiError::not_found("address", "this address was for an hour; open the artifact again"))?;
    let mut response = one_file(&app, &tree, &path)?;
    let policy = "sandbox allow-scripts allow-popups; default-src 'self' 'unsafe-inline' 'unsafe-eval' data: blob:; form-action 'none'; \
                  frame-ancestors 'self'";
    response.headers_mut().insert(header::CONTENT_SECURITY_POLICY, HeaderValue::from_static(policy));
    response.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("private, max-age=3600"));
    response.headers_mut().insert(header::REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    Ok(response)
}
