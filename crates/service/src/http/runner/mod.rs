//! The runner protocol. Every call may be repeated; one about an attempt that was given up is answered 409.

mod attempt;
mod content;
mod direct;
mod files;
mod left;

use crate::app::App;
use crate::clock;
use crate::delivery::add_delivery;
use crate::http::caller::AsRunner;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path, Query};
use crate::http::known::Address;
use crate::keeper::{FleetCommand, RunCommand, Stale};
use crate::label::is_label;
use crate::release::add_release;
use crate::secrets::add_secrets;
use attempt::{attempt_id, stale};
use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, State};
use axum::http::StatusCode;
use axum::routing::post;
use axum::{Json, Router};
use ordotaxis_core::access::{Action, Actor};
use ordotaxis_core::pool::Event;
use ordotaxis_store::{Entry, Invited, LogId, Secret};
use ordotaxis_wire::runner::{
    Beat, Beaten, Claim, Claimed, Enrol, Enrolled, Finish, GiveBack, LetGo, LogAnswer, OLDEST, Phases, SignOff, SignOn, SignedOn,
    TakenAway, VERSION,
};
use serde::Deserialize;
use std::time::Duration;
use tokio::sync::oneshot;

/// How long a claim is held open.
const CLAIM_WAIT: Duration = Duration::from_secs(25);
/// The largest piece of a log.
const LOG_LIMIT: usize = 8 * 1024 * 1024;
/// The largest list of phases or artifacts.
const BODY_LIMIT: usize = 8 * 1024 * 1024;

/// All addresses of the protocol of runners.
pub(super) fn router() -> Router<App> {
    Router::new()
        .route("/enrol", post(enrol))
        .route("/sign-on", post(sign_on))
        .route("/sign-off", post(sign_off))
        .route("/taken-away", post(taken_away))
        .route("/claim", post(claim))
        .route("/beat", post(beat))
        .route("/attempts/{attempt}/log", post(log).layer(DefaultBodyLimit::max(LOG_LIMIT)))
        .route("/attempts/{attempt}/phases", post(phases))
        .route("/attempts/{attempt}/finish", post(finish))
        .route("/attempts/{attempt}/give-back", post(give_back))
        .route("/attempts/{attempt}/let-go", post(let_go))
        .merge(content::router())
        .merge(direct::router())
        .merge(files::router())
        .layer(DefaultBodyLimit::max(BODY_LIMIT))
}

/// An invitation becomes a runner with a credential.
async fn enrol(State(app): State<App>, caller: Address, Body(ask): Body<Enrol>) -> Result<Json<Enrolled>, ApiError> {
    app.guesses.check("enrol", caller, &ask.name)?;
    let now = clock::now();
    // The token first: who has none learns nothing of names.
    let refused = || {
        app.guesses.wrong("enrol", caller, &ask.name);
        let detail = "this invitation is not known, has been used, or is past its time; `ordotaxis runner invite` makes a new one";
        ApiError::new(StatusCode::UNAUTHORIZED, "not-invited", detail)
    };
    let Invited { granted, machine } = app.records.invitation(&ask.token, now).await?.ok_or_else(refused)?;
    // A machine's invitation is for its machine alone, as long as that is wanted; and no other runner is called as one.
    let terms = machine.as_ref().and_then(|machine| app.pools.terms(machine));
    if machine.as_ref().is_some_and(|machine| *machine != ask.name) {
        return Err(refused());
    }
    if machine.is_some() && terms.is_none() {
        // It is given up just now, or the service has only just started.
        return Err(ApiError::new(StatusCode::SERVICE_UNAVAILABLE, "not-yet", "nobody waits for this machine now; ask again in a moment"));
    }
    if !is_label(&ask.name) {
        return Err(ApiError::field("/name", "a runner's name is letters, digits, `-`, `_` and `.`, at most 64"));
    }
    let reserved = machine.is_none() && app.records.machine(&ask.name).await?.is_some();
    if reserved || app.records.runner(&ask.name).await?.is_some() {
        return Err(ApiError::new(StatusCode::CONFLICT, "exists", format!("there is already a runner {}; choose another name", ask.name)));
    }
    let credential = Secret::random("oxr");
    let mut tx = app.records.tx(&Actor { address: Some(caller.0.to_string()), ..Actor::runner(&ask.name) }, now).await?;
    if !tx.enrol(&ask.token, &ask.name, credential.expose(), &granted).await? {
        return Err(refused());
    }
    tx.note(Entry::new(Action::EnrolRunner, &ask.name).after(&granted));
    tx.commit().await?;
    Ok(Json(Enrolled { name: ask.name, credential: credential.expose().to_owned(), machine: terms }))
}

/// A runner has started.
async fn sign_on(State(app): State<App>, AsRunner(runner): AsRunner, Body(sign_on): Body<SignOn>) -> Result<Json<SignedOn>, ApiError> {
    if !(OLDEST..=VERSION).contains(&sign_on.version) {
        let age = if sign_on.version < OLDEST {
            "too old: install the service's version of ordotaxis there"
        } else {
            "newer: update the service first"
        };
        let detail = format!(
            "this runner speaks version {} of the protocol, the service versions {OLDEST} to {VERSION}; the runner is {age}",
            sign_on.version
        );
        return Err(ApiError::new(StatusCode::BAD_REQUEST, "other-version", detail));
    }
    let words = sign_on.system.iter().chain(sign_on.labels.iter().flatten());
    if !words.clone().all(|word| is_label(word)) || words.count() > 256 || sign_on.fence.len() > 1000 || sign_on.session.len() > 128 {
        return Err(ApiError::field("/labels", "labels are letters, digits, `-`, `_` and `.`, at most 64, and at most 256 of them"));
    }
    let granted = app.records.runner(&runner).await?.ok_or_else(|| stale(Stale))?.granted;
    let labels = app.keeper.ask(|reply| FleetCommand::SignOn { runner, sign_on, granted, reply }).await?;
    let ms = |duration: Duration| u64::try_from(duration.as_millis()).unwrap_or(u64::MAX);
    Ok(Json(SignedOn { labels, beat_ms: ms(app.settings.beat), lease_ms: ms(app.settings.lease) }))
}

async fn sign_off(State(app): State<App>, AsRunner(runner): AsRunner, Body(ask): Body<SignOff>) -> Result<StatusCode, ApiError> {
    app.keeper.ask(|reply| FleetCommand::SignOff { runner, session: ask.session, reply }).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// A runner's machine is about to go: it takes nothing more, and its pool makes another.
async fn taken_away(State(app): State<App>, AsRunner(runner): AsRunner, Body(ask): Body<TakenAway>) -> Result<StatusCode, ApiError> {
    let holding = Beat { session: ask.session, holding: Vec::new() };
    let beat = |reply| FleetCommand::Beat { runner: runner.clone(), beat: holding, reply };
    app.keeper.ask(beat).await?.map_err(stale)?; // it is this runner, as it is now
    let by = Some("its machine is being taken away".to_owned());
    app.keeper.ask(|reply| FleetCommand::Drain { runner: runner.clone(), by, reply }).await?;
    // Answered once it is written down: until then the runner stays. Of one that is no pool's machine there is nothing to write.
    app.pools.say(Event::TakenAway { id: runner, why: "its provider takes it away".into() }).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Holds the call open until there is work for the slot, or some time has passed.
async fn claim(State(app): State<App>, AsRunner(runner): AsRunner, Body(ask): Body<Claim>) -> Result<Json<Claimed>, ApiError> {
    let (reply, answer) = oneshot::channel();
    let (name, slot) = (runner.clone(), ask.slot);
    app.keeper.tell(FleetCommand::Claim { runner, session: ask.session, slot, reply }).await?;
    tokio::select! {
        answer = answer => {
            let claimed = answer.map_err(|_| crate::keeper::Away)?.map_err(stale)?;
            app.counters.claimed(claimed.lease.is_some());
            Ok(Json(with_secrets(&app, claimed).await?))
        }
        () = tokio::time::sleep(CLAIM_WAIT) => {
            // A lease given at this very moment stays the slot's and is in the answer to its next claim.
            app.keeper.tell(FleetCommand::Unclaim { runner: name, slot }).await?;
            app.counters.claimed(false);
            Ok(Json(Claimed::default()))
        }
        () = app.stop.cancelled() => Err(crate::keeper::Away.into()),
    }
}

async fn beat(State(app): State<App>, AsRunner(runner): AsRunner, Body(beat): Body<Beat>) -> Result<Json<Beaten>, ApiError> {
    let ask = |runner: String, beat: Beat| app.keeper.ask(|reply| FleetCommand::Beat { runner, beat, reply });
    let (beaten, news) = ask(runner.clone(), beat.clone()).await?.map_err(stale)?;
    if !beaten.stop.is_empty() || !beaten.unknown.is_empty() {
        return Ok(Json(beaten));
    }
    // Held until the next beat is due, so that a stop reaches the runner at once.
    tokio::select! {
        () = news.notified() => Ok(Json(ask(runner, beat).await?.map_err(stale)?.0)),
        () = tokio::time::sleep(app.settings.beat) => Ok(Json(beaten)),
        () = app.stop.cancelled() => Ok(Json(beaten)),
    }
}

#[derive(Deserialize)]
struct At {
    offset: u64,
    /// When it was read there, in milliseconds since 1970; now when absent.
    at: Option<i64>,
    /// The log of this helper in place of the job's own.
    beside: Option<String>,
}

async fn log(
    State(app): State<App>,
    AsRunner(runner): AsRunner,
    Path(attempt): Path<String>,
    Query(at): Query<At>,
    body: Bytes,
) -> Result<Json<LogAnswer>, ApiError> {
    let attempt = attempt_id(&attempt)?;
    if !app.keeper.holders.holds(&runner, attempt) {
        return Err(stale(Stale));
    }
    let logs = app.logs.clone();
    let own = LogId::new(attempt.run, attempt.job, attempt.attempt);
    let id = match &at.beside {
        None => own,
        Some(name) => own.beside(name).ok_or_else(|| ApiError::not_found("log", format!("no helper can be called {name}")))?,
    };
    let read_at = at.at.unwrap_or_else(clock::now);
    let write = move || logs.append(&id, at.offset, read_at, &body);
    let offset = tokio::task::spawn_blocking(write).await.map_err(std::io::Error::other)??;
    Ok(Json(LogAnswer { offset }))
}

async fn phases(
    State(app): State<App>,
    AsRunner(runner): AsRunner,
    Path(attempt): Path<String>,
    Body(ask): Body<Phases>,
) -> Result<StatusCode, ApiError> {
    let attempt = attempt_id(&attempt)?;
    app.keeper.ask(|reply| RunCommand::Phases { runner, attempt, phases: ask.phases, reply }).await?.map_err(stale)?;
    Ok(StatusCode::NO_CONTENT)
}

async fn finish(
    State(app): State<App>,
    AsRunner(runner): AsRunner,
    Path(attempt): Path<String>,
    Body(finish): Body<Finish>,
) -> Result<Json<Claimed>, ApiError> {
    let attempt = attempt_id(&attempt)?;
    // A repeat of what was said already changes nothing and is answered; a result of what it never had is refused.
    let job = i64::try_from(attempt.job).unwrap_or(i64::MAX);
    let its_own =
        app.keeper.holders.holds(&runner, attempt) || app.records.ended_attempt(attempt.run, job, attempt.attempt, &runner).await?;
    if !its_own {
        return Err(stale(Stale));
    }
    // Held until the names are written, so that no sweep comes between.
    let naming = app.blobs.naming().await;
    let artifacts = content::artifacts(&app, &finish.artifacts).await?;
    let finish = Box::new(finish);
    let claimed = app.keeper.ask(|reply| RunCommand::Finish { runner, attempt, finish, artifacts, reply }).await?.map_err(stale)?;
    drop(naming);
    let claimed = with_secrets(&app, claimed).await?;
    app.logs.wake();
    Ok(Json(claimed))
}

/// Adds the secrets that each lease names.
async fn with_secrets(app: &App, mut claimed: Claimed) -> Result<Claimed, ApiError> {
    for lease in claimed.lease.iter_mut().chain(&mut claimed.ahead) {
        // First what the job is, then the secrets that it names.
        add_delivery(app, lease).await?;
        add_release(app, lease).await?;
        add_secrets(app, lease).await?;
    }
    Ok(claimed)
}

/// A runner cannot go on with an attempt.
async fn let_go(
    State(app): State<App>,
    AsRunner(runner): AsRunner,
    Path(attempt): Path<String>,
    Body(ask): Body<LetGo>,
) -> Result<StatusCode, ApiError> {
    let attempt = attempt_id(&attempt)?;
    app.keeper.ask(|reply| RunCommand::LetGo { runner, attempt, ask, reply }).await?.map_err(stale)?;
    Ok(StatusCode::NO_CONTENT)
}

/// A slot gives back what it was leased ahead of time and has not begun.
async fn give_back(
    State(app): State<App>,
    AsRunner(runner): AsRunner,
    Path(attempt): Path<String>,
    Body(ask): Body<GiveBack>,
) -> Result<StatusCode, ApiError> {
    let attempt = attempt_id(&attempt)?;
    app.keeper.ask(|reply| RunCommand::GiveBack { runner, attempt, ask, reply }).await?.map_err(stale)?;
    Ok(StatusCode::NO_CONTENT)
}
