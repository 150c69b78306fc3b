//! `serve`: the service, until two signals or one and some patience.

use super::{Done, Failure, OK};
use crate::out;
use ordotaxis_service::{Settings, Shutdown, serve as run};
use std::io::IsTerminal;
use std::net::SocketAddr;
use std::path::PathBuf;
use tokio::signal::unix::{Signal, SignalKind, signal};
use tokio::sync::watch;

pub(super) async fn serve(data: PathBuf, listen: SocketAddr, config: Option<PathBuf>) -> Done {
    set_up_log();
    // What a service writes is its user's alone.
    nix::sys::stat::umask(nix::sys::stat::Mode::from_bits_truncate(0o077));
    let mut settings = Settings::new(data);
    if let Some(config) = config {
        settings = settings.with_file(config).map_err(|error| Failure::new(2, error.to_string(), "docs/service.md lists all settings"))?;
    }
    let listener = tokio::net::TcpListener::bind(listen)
        .await
        .map_err(|error| Failure::new(3, format!("{listen} cannot be listened on: {error}"), "choose another address with --listen"))?;
    let address = listener.local_addr().map_err(|error| Failure::new(3, error.to_string(), ""))?;
    let scheme = if settings.tls.is_some() { "https" } else { "http" };
    println!("ordotaxis serves at {scheme}://{address}");
    let signals = count_signals()?;
    let shutdown = Shutdown { first: reaches(signals.clone(), 1), second: reaches(signals, 2) };
    let first_token = |token: &str| {
        println!("the owner's token, printed this once: {token}");
        out::remark(format!("  keep it: ordotaxis sign-in --url {scheme}://{address}"));
    };
    run(settings, listener, shutdown, first_token).await.map_err(|error| {
        let mut what = error.to_string();
        let mut source = std::error::Error::source(&error);
        while let Some(cause) = source {
            what = format!("{what}: {cause}");
            source = cause.source();
        }
        Failure::new(3, what, "the service did not start")
    })?;
    OK
}

/// Warnings and errors go to standard error; RUST_LOG asks for more.
pub(super) fn set_up_log() {
    let filter = tracing_subscriber::EnvFilter::try_from_default_env().unwrap_or_else(|_| tracing_subscriber::EnvFilter::new("warn"));
    let _ = tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_ansi(std::io::stderr().is_terminal())
        .with_writer(std::io::stderr)
        .try_init();
}

/// Counts SIGTERM and SIGINT together.
pub(super) fn count_signals() -> Result<watch::Receiver<u32>, Failure> {
    let stream = |kind| signal(kind).map_err(|error| Failure::new(3, format!("signals cannot be received: {error}"), ""));
    let (mut terminate, mut interrupt): (Signal, Signal) = (stream(SignalKind::terminate())?, stream(SignalKind::interrupt())?);
    let (sender, receiver) = watch::channel(0);
    tokio::spawn(async move {
        loop {
            tokio::select! {
                _ = terminate.recv() => {}
                _ = interrupt.recv() => {}
            }
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
