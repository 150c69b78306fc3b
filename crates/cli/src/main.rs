//! The command `ordotaxis`: parses options, calls what does the work, prints. Exit codes: 0 done; 1 the work itself
//! failed; 2 wrong use; 3 the service could not be reached or refused; 130 interrupted.

mod api;
mod commands;
mod failure;
mod fence;
mod global;
mod out;
mod profile;
mod reach;
mod reference;
mod written;

use clap::Parser;
use commands::Options;
use failure::{Failure, OK};
use std::process::ExitCode;

/// For SQLite as well as for our own code. The system's allocator keeps most of what a large run needed once, in arenas of
/// every thread; this one gives it back. `.cargo/config.toml` says how soon.
#[global_allocator]
static ALLOCATOR: tikv_jemallocator::Jemalloc = tikv_jemallocator::Jemalloc;

fn main() -> ExitCode {
    // The one choice of cryptography for TLS, made before any client or server is. It fails only when made twice.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let options = Options::parse();
    out::set_up(&options.global);
    // A runner's own mounts must be made before there is a second thread.
    let mounts = options.runs_jobs() && ordotaxis_runner::own_mounts();
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => return Failure::new(3, format!("the runtime could not be started: {error}"), "try again").report(),
    };
    let done = runtime.block_on(async {
        let long = options.minds_signals();
        tokio::select! {
            biased;
            done = commands::run(options, mounts) => done,
            // Services and runners look at signals themselves.
            _ = tokio::signal::ctrl_c(), if !long => Err(Failure::interrupted()),
            () = written::broken(), if !long => OK,
        }
    });
    // Blocking reads of standard input must not keep an interrupted command alive.
    runtime.shutdown_background();
    let done = done.and_then(|code| match written::trouble() {
        Some(error) => Err(unwritten(error)),
        None => Ok(code),
    });
    match done {
        Ok(code) => code,
        Err(failure) => failure.report(),
    }
}

fn unwritten(error: &std::io::Error) -> Failure {
    Failure::new(1, format!("what was to be printed could not be written: {error}"), "make room where it goes, and ask again")
}
