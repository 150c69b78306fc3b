//! `serve`: the service, until two signals or one and some patience.

use super::signals::{self, LogForm, reaches, set_up_log};
use crate::failure::{Done, Failure, OK};
use crate::out;
use crate::written;
use ordotaxis_service::{OwnSpans, Settings, Shutdown, causes, serve as run};
use std::io::Write;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};

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
    /// Where the first owner's token is written, for this user alone, in place of being printed
    #[arg(long, value_name = "FILE")]
    token_to: Option<PathBuf>,
    /// A TOML file with further settings
    #[arg(long)]
    config: Option<PathBuf>,
    /// How the log on standard error is written
    #[arg(long, value_enum, default_value_t, env = "ORDOTAXIS_LOG")]
    log: LogForm,
}

pub(super) async fn serve(options: ServeOptions) -> Done {
    let ServeOptions { data, listen, owner, token_to, config, log } = options;
    // What a service writes is its user's alone.
    nix::sys::stat::umask(nix::sys::stat::Mode::from_bits_truncate(0o077));
    let mut settings = Settings { owner, ..Settings::new(data) };
    if let Some(config) = config {
        settings = settings.with_file(config).map_err(|error| Failure::new(2, error.to_string(), "docs/service.md lists all settings"))?;
    }
    let spans = OwnSpans::begin(&settings);
    set_up_log(log, spans.as_ref());
    let listener = tokio::net::TcpListener::bind(listen)
        .await
        .map_err(|error| Failure::new(3, format!("{listen} cannot be listened on: {error}"), "choose another address with --listen"))?;
    let address = listener.local_addr().map_err(|error| Failure::new(3, error.to_string(), ""))?;
    let scheme = if settings.tls.is_some() { "https" } else { "http" };
    let signals = signals::count(signals::LEAVES)?;
    let shutdown = Shutdown { first: reaches(signals.clone(), 1), second: reaches(signals, 2) };
    let first_token = |token: &str| {
        if let Some(path) = token_to {
            match keep_token(&path, token) {
                Ok(()) => out::print(format!("the owner's token is in {}: sign in with it, then delete the file", path.display())),
                Err(error) => {
                    tell(&format!("{} could not be written ({error}); the owner's token, printed this once: {token}\n", path.display()));
                }
            }
            return;
        }
        tell(&format!("the owner's token, printed this once: {token}\n"));
        out::remark(format!("  keep it: ordotaxis sign-in --url {scheme}://{address}"));
    };
    let ready = || out::print(format!("ordotaxis serves at {scheme}://{address}"));
    let done = run(settings, listener, shutdown, first_token, ready).await;
    if let Some(spans) = spans {
        spans.end().await;
    }
    done.map_err(|error| Failure::new(3, causes(&error), "the service did not start"))?;
    OK
}

/// Says what is said only once, on standard error where standard output is shut: without its token nobody could ever sign in.
fn tell(line: &str) {
    if !written::text(line) {
        written::aside(line);
    }
}

/// Writes a token for this user alone, whole or not at all.
fn keep_token(path: &Path, token: &str) -> std::io::Result<()> {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut file = tempfile::NamedTempFile::new_in(folder)?;
    writeln!(file, "{token}")?;
    file.as_file().sync_all()?;
    file.persist(path)?;
    Ok(())
}
