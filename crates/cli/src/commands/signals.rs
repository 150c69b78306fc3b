//! What the long-running commands share: their log, and signals that are counted.

use crate::failure::Failure;
use ordotaxis_service::OwnSpans;
use std::io::IsTerminal;
use tokio::signal::unix::{Signal, SignalKind, signal};
use tokio::sync::watch;
use tracing_subscriber::Layer;
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::util::SubscriberInitExt;

/// How a log is written.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, clap::ValueEnum)]
pub(super) enum LogForm {
    /// Lines for people
    #[default]
    Text,
    /// A line of JSON each
    Json,
}

/// Warnings and errors go to standard error; RUST_LOG asks for more. A service's own spans go elsewhere, where that is wanted.
pub(super) fn set_up_log(form: LogForm, spans: Option<&OwnSpans>) {
    let filter = tracing_subscriber::EnvFilter::try_from_default_env().unwrap_or_else(|_| tracing_subscriber::EnvFilter::new("warn"));
    // A log that nobody reads any more ends nothing: of its own trouble it would tell where there is none to hear, and fail at that.
    let lines = tracing_subscriber::fmt::layer().with_writer(std::io::stderr).log_internal_errors(false);
    let lines = match form {
        LogForm::Text => lines.with_ansi(std::io::stderr().is_terminal()).boxed(),
        LogForm::Json => lines.json().with_ansi(false).boxed(),
    };
    // One that is there already stays.
    let _ = tracing_subscriber::registry().with(lines.with_filter(filter)).with(spans.map(OwnSpans::layer)).try_init();
}

/// What asks a service or a runner to leave.
pub(super) const LEAVES: &[fn() -> SignalKind] = &[SignalKind::terminate, SignalKind::interrupt];
/// What ends a command: these, and a terminal that is shut.
pub(super) const ENDS: &[fn() -> SignalKind] = &[SignalKind::terminate, SignalKind::interrupt, SignalKind::hangup];

/// Counts signals of these kinds together.
pub(super) fn count(kinds: &[fn() -> SignalKind]) -> Result<watch::Receiver<u32>, Failure> {
    let failed = |error| Failure::new(3, format!("signals cannot be received: {error}"), "");
    let streams: Result<Vec<Signal>, Failure> = kinds.iter().map(|kind| signal(kind()).map_err(failed)).collect();
    let mut streams = streams?;
    let (sender, receiver) = watch::channel(0);
    tokio::spawn(async move {
        loop {
            futures_util::future::select_all(streams.iter_mut().map(|stream| Box::pin(stream.recv()))).await;
            sender.send_modify(|count| *count += 1);
        }
    });
    Ok(receiver)
}

pub(super) async fn reaches(mut signals: watch::Receiver<u32>, count: u32) {
    if signals.wait_for(|seen| *seen >= count).await.is_err() {
        std::future::pending::<()>().await;
    }
}
