//! The service's HTTP: one router. People's calls are under `/api/v1` and described by OpenAPI; runners speak under
//! `/runner/v1`, forges under `/hooks/v1`; everything else is the console.

mod artifacts;
mod auth;
mod board;
mod caches;
mod compare;
mod connections;
mod console;
mod content;
mod described;
mod edge;
mod error;
mod extract;
mod health;
mod hooks;
mod keyed;
mod live;
mod logs;
mod messages;
mod pipelines;
mod projects;
mod protocol;
mod results;
mod runners;
mod runs;
mod secrets;
mod session;
mod show;
mod store;
mod views;

pub(crate) use connections::sealed_as;
pub(crate) use edge::{Guesses, Known, Panics};
pub(crate) use keyed::KeyedCalls;
pub(crate) use live::Streams;
pub(crate) use show::Shown;

use crate::app::App;
use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::middleware;
use axum::routing::{get, post};
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

/// How long a body may pause on its way.
const BODY_PAUSE: std::time::Duration = std::time::Duration::from_secs(30);
/// The largest body of a call that is not a log or a blob.
const BODY_LIMIT: usize = 1024 * 1024;

#[derive(OpenApi)]
#[openapi(
    info(title = "Ordotaxis", description = "Pipelines, their runs and their runners.", version = "1"),
    components(schemas(ordotaxis_wire::problem::Problem, ordotaxis_wire::view::LiveEvent))
)]
struct Description;

fn api() -> OpenApiRouter<App> {
    OpenApiRouter::with_openapi(Description::openapi())
        .routes(routes!(session::sign_in, session::sign_out))
        .routes(routes!(session::me))
        .routes(routes!(session::link))
        .routes(routes!(board::board))
        .routes(routes!(projects::list, projects::add))
        .routes(routes!(projects::show, projects::remove))
        .routes(routes!(projects::set_outside))
        .routes(routes!(messages::list))
        .routes(routes!(messages::again))
        .routes(routes!(runs::allow))
        .routes(routes!(runs::start))
        .routes(routes!(runs::list))
        .routes(routes!(runs::show))
        .routes(routes!(runs::newest))
        .routes(routes!(runs::plan))
        .routes(routes!(runs::why))
        .routes(routes!(runs::stop))
        .routes(routes!(runs::again))
        .routes(routes!(runs::start_job))
        .routes(routes!(connections::list))
        .routes(routes!(connections::set, connections::remove))
        .routes(routes!(secrets::list))
        .routes(routes!(secrets::set, secrets::remove))
        .routes(routes!(pipelines::schema))
        .routes(routes!(pipelines::check))
        .routes(routes!(pipelines::list))
        .routes(routes!(pipelines::draft))
        .routes(routes!(pipelines::versions, pipelines::store))
        .routes(routes!(logs::read))
        .routes(routes!(logs::lines))
        .routes(routes!(logs::search))
        .routes(routes!(artifacts::list))
        .routes(routes!(artifacts::fetch))
        .routes(routes!(artifacts::folder))
        .routes(routes!(artifacts::file))
        .routes(routes!(artifacts::pin, artifacts::unpin))
        .routes(routes!(show::show))
        .routes(routes!(results::of_run))
        .routes(routes!(results::run_findings))
        .routes(routes!(results::flaky))
        .routes(routes!(results::history))
        .routes(routes!(results::numbers))
        .routes(routes!(compare::compare))
        .routes(routes!(caches::list, caches::drop_some))
        .routes(routes!(caches::files))
        .routes(routes!(store::verify))
        .routes(routes!(store::sweep))
        .routes(routes!(runners::list))
        .routes(routes!(runners::drain))
        .routes(routes!(runners::queue))
        .routes(routes!(runners::set, runners::remove))
        .routes(routes!(runners::invite))
        .routes(routes!(live::live))
}

/// The API's description, as `/api/openapi.json` serves it.
pub fn openapi() -> String {
    described::completed(api().into_openapi()).to_pretty_json().unwrap_or_default()
}

pub(crate) fn router(app: App) -> Router {
    let (people, description) = api().split_for_parts();
    let description = described::completed(description).to_json().unwrap_or_default();
    let people = people.layer(middleware::from_fn_with_state(app.clone(), keyed::once)).layer(DefaultBodyLimit::max(BODY_LIMIT));
    Router::new()
        .merge(people)
        .route("/api/openapi.json", get(move |state, parts| health::description(state, parts, description.clone())))
        .route("/hooks/v1/{project}", post(hooks::receive).layer(DefaultBodyLimit::max(BODY_LIMIT)))
        .nest("/runner/v1", protocol::router())
        .route("/view/{token}/{*path}", get(show::page))
        .route("/healthz", get(health::alive))
        .route("/readyz", get(health::ready))
        .route("/metrics", get(health::metrics))
        .route("/api/{*rest}", axum::routing::any(error::unknown_address))
        .fallback(console::serve)
        .method_not_allowed_fallback(error::unknown_method)
        .layer(middleware::from_fn_with_state(app.clone(), edge::guard))
        .layer(tower_http::timeout::RequestBodyTimeoutLayer::new(BODY_PAUSE))
        .with_state(app)
}
