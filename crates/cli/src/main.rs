//! The command `ordotaxis`: parses options, calls what does the work, prints. Exit codes: 0 done; 1 the work itself
//! failed; 2 wrong use; 3 the service could not be reached or refused; 130 interrupted.

mod api;
mod commands;
mod options;
mod out;
mod profile;
mod reference;

use clap::Parser;
use commands::Failure;
use options::{Command, Options, RunnerCommand};
use std::process::ExitCode;

fn main() -> ExitCode {
    // The one choice of cryptography for TLS, made before any client or server is. It fails only when made twice.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let options = Options::parse();
    out::set_up(&options);
    // A runner's own mounts must be made before there is a second thread.
    let works = matches!(options.command, Command::Runner { command: RunnerCommand::Work { .. } });
    let rehearses = matches!(options.command, Command::Rehearse { .. });
    let mounts = (works || rehearses) && ordotaxis_runner::own_mounts();
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => return Failure::new(3, format!("the runtime could not be started: {error}"), "try again").report(),
    };
    let done = runtime.block_on(async {
        let long = works || rehearses || matches!(options.command, Command::Serve { .. });
        tokio::select! {
            done = commands::run(options, mounts) => done,
            // Services and runners look at signals themselves.
            _ = tokio::signal::ctrl_c(), if !long => Err(Failure::interrupted()),
        }
    });
    // Blocking reads of standard input must not keep an interrupted command alive.
    runtime.shutdown_background();
    match done {
        Ok(code) => code,
        Err(failure) => failure.report(),
    }
}
