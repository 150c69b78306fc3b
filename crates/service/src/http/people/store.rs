//! The store as a whole: is it sound, and what in it is no longer needed?

use crate::app::App;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::Body;
use crate::{care, clock};
use axum::Json;
use axum::extract::State;
use ordotaxis_wire::storage::Sweep;
use ordotaxis_wire::storage::{DamageView, SweepView, VerifiedView};

/// Read everything that is stored, and say what is damaged. Logs that wait to be stored are stored first.
#[utoipa::path(post, operation_id = "verify_store", path = "/api/v1/store/verify", responses((status = 200, body = VerifiedView)))]
pub(crate) async fn verify(State(app): State<App>) -> Result<Json<VerifiedView>, ApiError> {
    app.logs.move_closed(clock::now()).await?;
    let verified = app.blobs.verify(clock::now()).await?;
    let broken = care::broken(&app).await?;
    let damage = |damage: ordotaxis_store::Damage| DamageView { pack: damage.pack, why: damage.why, chunks: damage.chunks as u64 };
    Ok(Json(VerifiedView {
        packs: verified.packs as u64,
        chunks: verified.chunks as u64,
        bytes: verified.bytes,
        damaged: verified.damaged.into_iter().map(damage).collect(),
        broken,
    }))
}

/// What is no longer needed: shown, or with `apply` taken away.
#[utoipa::path(post, operation_id = "sweep_store", path = "/api/v1/store/sweep", request_body = Sweep, responses((status = 200, body = SweepView)))]
pub(crate) async fn sweep(State(app): State<App>, caller: Caller, Body(ask): Body<Sweep>) -> Result<Json<SweepView>, ApiError> {
    let plan = care::plan(&app, clock::now()).await?;
    let done = ask.apply;
    let view = plan.view(&app.settings.ages, done);
    if done {
        care::carry_out(&app, &caller.actor, plan, clock::now()).await?;
    }
    Ok(Json(view))
}
