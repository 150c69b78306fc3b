//! The service's HTTP: one router. People's calls are under `/api/v1` and described by OpenAPI; runners speak under
//! `/runner/v1`, forges under `/hooks/v1`; everything else is the console.

mod badges;
mod body;
mod caller;
mod console;
mod described;
mod edge;
mod error;
mod extract;
mod gate;
mod guesses;
mod health;
mod hooks;
mod keyed;
mod keyed_calls;
mod known;
mod people;
mod refusals;
mod runner;
mod unsubscribe;
mod well_known;

pub(crate) use caller::IDLE_MS;
pub(crate) use guesses::Guesses;
pub(crate) use keyed_calls::KeyedCalls;
pub(crate) use known::Known;
pub(crate) use people::{Shown, Streams, is_person_name};
pub(crate) use refusals::Refusals;

use crate::app::App;
use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::http::{Extensions, HeaderMap, StatusCode, Version, header};
use axum::middleware;
use axum::routing::{get, post};
use tower_http::compression::predicate::{Predicate, SizeAbove};
use tower_http::compression::{CompressionLayer, CompressionLevel};
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;

#[derive(OpenApi)]
#[openapi(
    info(title = "Ordotaxis", description = "Pipelines, their runs and their runners.", version = "1"),
    components(schemas(ordotaxis_wire::problem::Problem, ordotaxis_wire::run::LiveEvent))
)]
struct Description;

fn api() -> OpenApiRouter<App> {
    people::routes(OpenApiRouter::with_openapi(Description::openapi()))
}

/// The API's description, as `/api/openapi.json` serves it.
pub fn openapi() -> String {
    described::completed(api().into_openapi()).to_pretty_json().unwrap_or_default()
}

/// Less than this is not worth packing, in bytes.
const SMALL: u16 = 1024;

/// JSON and texts of some length. A stream of events must not wait in a packer, and files are packed already.
fn compressible() -> impl Predicate {
    let packs = |_: StatusCode, _: Version, headers: &HeaderMap, _: &Extensions| {
        let kind = headers.get(header::CONTENT_TYPE).and_then(|kind| kind.to_str().ok()).unwrap_or_default();
        let text = kind.starts_with("text/") || kind.starts_with("application/json") || kind.starts_with("application/problem+json");
        text && !kind.starts_with("text/event-stream")
    };
    SizeAbove::new(SMALL).and(packs)
}

/// All addresses of the service.
pub(crate) fn router(app: App) -> Router {
    let (people, description) = api().split_for_parts();
    let description = described::completed(description).to_json().unwrap_or_default();
    // From the inside out: who calls is known before anything is kept for a call that is repeated.
    let people = people
        .layer(middleware::from_fn_with_state(app.clone(), keyed::once))
        .layer(middleware::from_fn_with_state(app.clone(), gate::pass))
        .layer(DefaultBodyLimit::max(body::LIMIT))
        // Answers that are text are packed for whoever takes that; streams of events and archives are not.
        .layer(CompressionLayer::new().quality(CompressionLevel::Fastest).compress_when(compressible()));
    Router::new()
        .merge(people)
        .route("/api/openapi.json", get(move |state, parts| health::description(state, parts, description.clone())))
        .route("/hooks/v1/{project}", post(hooks::receive).layer(DefaultBodyLimit::max(hooks::LIMIT)))
        .route("/hooks/v1/{project}/gate", post(hooks::ask).layer(DefaultBodyLimit::max(hooks::LIMIT)))
        .nest("/runner/v1", runner::router())
        .route("/notices/v1/end", get(unsubscribe::look).post(unsubscribe::end))
        .route("/badge/{file}", get(badges::badge))
        .route("/view/{token}/{*path}", get(people::page))
        .route("/.well-known/openid-configuration", get(well_known::discovery))
        .route("/.well-known/jwks.json", get(well_known::keys))
        .route("/keys", get(well_known::statement_keys))
        .route("/healthz", get(health::alive))
        .route("/readyz", get(health::ready))
        .route("/metrics", get(health::metrics))
        .route("/api/{*rest}", axum::routing::any(error::unknown_address))
        .fallback(console::serve)
        .method_not_allowed_fallback(error::unknown_method)
        .layer(middleware::from_fn_with_state(app.clone(), edge::guard))
        .layer(tower_http::timeout::RequestBodyTimeoutLayer::new(body::PAUSE))
        .with_state(app)
}
