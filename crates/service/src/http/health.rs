//! For machines that watch: alive, ready, and numbers in the OpenMetrics text format.

use crate::app::App;
use crate::keeper::Command;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use std::fmt::Write;

pub(super) async fn alive() -> &'static str {
    "alive\n"
}

pub(super) async fn ready(State(app): State<App>) -> (StatusCode, &'static str) {
    let keeper = app.keeper.ask(|reply| Command::Counts { reply }).await.is_ok();
    if keeper && app.records.ready().await { (StatusCode::OK, "ready\n") } else { (StatusCode::SERVICE_UNAVAILABLE, "not ready\n") }
}

pub(super) async fn metrics(State(app): State<App>) -> impl IntoResponse {
    let mut out = String::new();
    let counts = app.keeper.ask(|reply| Command::Counts { reply }).await.unwrap_or_default();
    out.push_str("# TYPE ordotaxis_jobs gauge\n# HELP ordotaxis_jobs Jobs of runs that go on, by state.\n");
    for (state, count) in counts {
        let _ = writeln!(out, "ordotaxis_jobs{{state=\"{}\"}} {count}", state.word());
    }
    let runners = app.keeper.ask(|reply| Command::Runners { reply }).await.unwrap_or_default();
    let slots: u32 = runners.iter().map(|runner| runner.slots).sum();
    let busy: usize = runners.iter().map(|runner| runner.doing.len()).sum();
    let unsent = app.records.unsent_messages().await.unwrap_or_default();
    for (name, help, value) in [
        ("ordotaxis_runners", "Connected runners.", runners.len().to_string()),
        ("ordotaxis_slots", "Slots of connected runners.", slots.to_string()),
        ("ordotaxis_slots_busy", "Slots with a job.", busy.to_string()),
        ("ordotaxis_outbox_unsent", "Messages not yet accepted outside.", unsent.to_string()),
    ] {
        let _ = write!(out, "# TYPE {name} gauge\n# HELP {name} {help}\n{name} {value}\n");
    }
    out.push_str("# EOF\n");
    ([(header::CONTENT_TYPE, "application/openmetrics-text; version=1.0.0; charset=utf-8")], out)
}
