//! `serve`: the service, until two signals or one and some patience.

use super::signals::{self, LogForm, reaches, set_up_log};
use crate::failure::{Done, Failure, OK};
use crate::out;
use ordotaxis_service::{Settings, Shutdown, causes, serve as run};
use std::net::SocketAddr;
use std::path::PathBuf;

/// `serve`
#[derive(clap::Args)]
pub(crate) struct ServeOptions {
    /// Where everything that lasts is kept
    #[arg(long, default_value = "./ordotaxis-data")]
    data: PathBuf,
    #[arg(long, default_value = "127.0.0.1:7070")]
    listen: SocketAddr,
    /// What the first person is called, who owns the service; said at the first start only
    #[arg(long, default_value = "owner", value_name = "NAME")]
    owner: String,
    /// A TOML file with further settings
    #[arg(long)]
    config: Option<PathBuf>,
    /// How the log on standard error is written
    #[arg(long, value_enum, default_value_t, env = "ORDOTAXIS_LOG")]
    log: LogForm,
}

pub(super) async fn serve(options: ServeOptions) -> Done {
    let ServeOptions { data, listen, owner, config, log } = options;
    set_up_log(log);
    // What a service writes is its user's alone.
    nix::sys::stat::umask(nix::sys::stat::Mode::from_bits_truncate(0o077));
    let mut settings = Settings { owner, ..Settings::new(data) };
    if let Some(config) = config {
        settings = settings.with_file(config).map_err(|error| Failure::new(2, error.to_string(), "docs/service.md lists all settings"))?;
    }
    let listener = tokio::net::TcpListener::bind(listen)
        .await
        .map_err(|error| Failure::new(3, format!("{listen} cannot be listened on: {error}"), "choose another address with --listen"))?;
    let address = listener.local_addr().map_err(|error| Failure::new(3, error.to_string(), ""))?;
    let scheme = if settings.tls.is_some() { "https" } else { "http" };
    println!("ordotaxis serves at {scheme}://{address}");
    let signals = signals::count(signals::LEAVES)?;
    let shutdown = Shutdown { first: reaches(signals.clone(), 1), second: reaches(signals, 2) };
    let first_token = |token: &str| {
        println!("the owner's token, printed this once: {token}");
        out::remark(format!("  keep it: ordotaxis sign-in --url {scheme}://{address}"));
    };
    run(settings, listener, shutdown, first_token).await.map_err(|error| Failure::new(3, causes(&error), "the service did not start"))?;
    OK
}
