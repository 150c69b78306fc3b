//! Packs that go between runners and storage by themselves: here runners get addresses for them, and say what they put.

use super::content::{LIST_LIMIT, names, readable};
use crate::app::App;
use crate::clock;
use crate::counters::Way;
use crate::http::caller::AsRunner;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, State};
use axum::http::StatusCode;
use axum::routing::post;
use axum::{Json, Router};
use ordotaxis_wire::runner::{AskPut, PackPiece, PackPut, PutPlace, ReadPlaces};

/// Addresses for places.
pub(super) fn router() -> Router<App> {
    Router::new()
        .route("/attempts/{attempt}/trees/{tree}/places", post(read_places).layer(DefaultBodyLimit::max(LIST_LIMIT)))
        .route("/packs/places", post(put_place))
        .route("/packs/places/{name}", post(was_put))
}

/// Where a pack may be put.
async fn put_place(State(app): State<App>, AsRunner(runner): AsRunner, Body(ask): Body<AskPut>) -> Result<Json<PutPlace>, ApiError> {
    let open = app.blobs.is_direct();
    if !open || !app.offers.has_room(&runner) {
        return Ok(Json(PutPlace { open, put: None }));
    }
    let put = app.blobs.put_at(ask.bytes).await?.map(|at| PackPut { name: at.name, url: at.url });
    if let Some(put) = &put {
        app.offers.give(put.name.clone(), &runner, ask.bytes);
    }
    Ok(Json(PutPlace { open, put }))
}

/// A pack was put where its runner was told. It is looked through as any other before it counts.
async fn was_put(State(app): State<App>, AsRunner(runner): AsRunner, Path(name): Path<String>) -> Result<StatusCode, ApiError> {
    let detail = "no such place was given out, or it was used or is past its time; send the pack here";
    let bytes = app.offers.take(&name, &runner).ok_or_else(|| ApiError::not_found("place", detail))?;
    let added = app.blobs.take_put(&name, bytes, clock::now()).await?;
    app.counters.direct(Way::In, added.bytes);
    Ok(StatusCode::CREATED)
}

/// Where the named chunks of a tree can be read that the attempt's job may read.
async fn read_places(
    State(app): State<App>,
    AsRunner(runner): AsRunner,
    Path((attempt, tree)): Path<(String, String)>,
    body: Bytes,
) -> Result<Json<ReadPlaces>, ApiError> {
    let names = names(&body)?;
    let within = readable(&app, &runner, &attempt, &tree, &names).await?;
    let pieces = app.blobs.pieces_at(&names, &within).await?;
    let bytes = pieces.iter().flatten().map(|piece| piece.range.end - piece.range.start).sum();
    app.counters.direct(Way::Out, bytes);
    let piece = |at: ordotaxis_store::PieceAt| PackPiece { url: at.url, from: at.range.start, last: at.range.end - 1 };
    let pieces = pieces.map(|pieces| pieces.into_iter().map(piece).collect());
    Ok(Json(ReadPlaces { open: app.blobs.is_direct(), pieces }))
}
