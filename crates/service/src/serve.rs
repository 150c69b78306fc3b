//! Starts the service and ends it: the first signal stops taking on work and lets open calls finish within a limit;
//! the second, or the limit, ends at once. Whatever happens, all that was answered is on disk.

use crate::app::{App, Inner};
use crate::causes::causes;
use crate::counters::Counters;
use crate::forge::{self, ProfileError, Profiles};
use crate::identity::{Issuer, Purpose};
use crate::outgoing::client;
use crate::seal::{KeyError, Seal};
use crate::settings::Settings;
use crate::traced::TraceMark;
use crate::{clock, http, keeper, kept, occasions, tasks};
use ordotaxis_core::access::{Action, Limit, Role};
use ordotaxis_git::Mirrors;
use ordotaxis_store::{BlobError, BlobKey, Blobs, Entry, Holder, Logs, NewToken, Place, Records, Secret, StoreError, WriteBack};
use std::future::Future;
use std::path::PathBuf;
use tokio::net::TcpListener;
use tokio::sync::{Notify, Semaphore};
use tokio::task::JoinSet;
use tokio_util::sync::CancellationToken;

/// Why the service did not start, or ended by itself.
#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    #[error("the data folder {} could not be prepared", path.display())]
    Folder {
        path: PathBuf,
        #[source]
        source: std::io::Error,
    },
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("the store of artifacts and caches could not be opened")]
    Blobs(#[from] BlobError),
    #[error(transparent)]
    Key(#[from] KeyError),
    #[error(transparent)]
    Profile(#[from] ProfileError),
    #[error("`{0}` cannot be a person's name: lower-case letters, digits, `-`, `_` and `.`, at most 64")]
    Name(String),
    #[error("the listener has no address")]
    Listener(#[source] std::io::Error),
    #[error(
        "listening at {0} without TLS would show every token to the network; name `[tls]` in the configuration, or the proxy in front as `behind_proxy`"
    )]
    Open(std::net::SocketAddr),
    #[error(transparent)]
    Listening(#[from] crate::listening::ListenError),
    #[error("{0}")]
    Mail(String),
    #[error("the client for outgoing calls could not be made")]
    Client(#[source] reqwest::Error),
}

/// How many files are checked and planned for people at the same time.
const PLANNED_AT_ONCE: usize = 2;

/// The store, with what lay there from before brought over.
async fn blobs(settings: &Settings, records: &Records) -> Result<Blobs, ServeError> {
    let kept = settings.rehearsal.as_ref().and_then(|rehearsal| rehearsal.kept.as_ref());
    let folder = kept.map_or_else(|| settings.data.join("blobs"), |kept| kept.join(kept::BLOBS));
    let key = match &settings.store_key_file {
        Some(path) => Some(BlobKey::read(path).map_err(|source| KeyError::Io { path: path.clone(), source })?),
        None => None,
    };
    let place = settings.objects.clone().map_or_else(|| Place::Local(folder.clone()), Place::Objects);
    let blobs = Blobs::open(&place, key, records.clone()).await?;
    blobs.bring_over(&folder, clock::now()).await?;
    Ok(blobs)
}

/// Nobody else on the machine looks into the data folder.
fn private(folder: &std::path::Path) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    std::fs::create_dir_all(folder)?;
    std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o700))
}

/// The first person, who owns the service, and the token to sign in with.
async fn first_person(records: &Records, name: &str) -> Result<Secret, StoreError> {
    let (token, now) = (Secret::random("oxu"), clock::now());
    let mut tx = records.tx_by_rule("first-start", now).await?;
    let person_id = tx.add_person(name, None).await?;
    tx.set_grant(&Holder::Person(name.to_owned()), None, Some(Role::Owner), "").await?;
    let new = NewToken { person_id, name: "first", secret: token.expose(), limit: &Limit::default(), ends_at: None };
    tx.add_token(&new).await?;
    tx.note(Entry::new(Action::AddPerson, name).after(Role::Owner));
    tx.commit().await?;
    Ok(token)
}

fn terms(settings: &Settings, public_url: &str, traces: Option<TraceMark>) -> keeper::Terms {
    let anyway = settings.rehearsal.as_ref().is_some_and(|rehearsal| rehearsal.anyway);
    keeper::Terms { lease: settings.lease, public_url: public_url.to_owned(), keep: millis(settings.keep), anyway, traces }
}

fn millis(duration: std::time::Duration) -> i64 {
    i64::try_from(duration.as_millis()).unwrap_or(i64::MAX)
}

/// What tells this service's traces from another's, where traces are wanted.
async fn traces(settings: &Settings, records: &Records) -> Result<Option<TraceMark>, StoreError> {
    if settings.traces.is_none() {
        return Ok(None);
    }
    let word: String = (0..16).map(|_| format!("{:02x}", rand::random::<u8>())).collect();
    Ok(Some(TraceMark(records.mark("traces", &word, clock::now()).await?)))
}

/// Everything that goes on by itself, each kept going.
fn workers(app: &App) -> JoinSet<()> {
    let mut workers = JoinSet::new();
    macro_rules! kept {
        ($name:literal, $work:path) => {{
            let (stop, app) = (app.stop.clone(), app.clone());
            workers.spawn(tasks::kept($name, stop, move || $work(app.clone())));
        }};
    }
    kept!("sweep", crate::care::work);
    kept!("move-logs", crate::care::move_logs);
    kept!("drop-plans", crate::care::drop_plans);
    kept!("prune", crate::prune::work);
    kept!("work", crate::work::work);
    kept!("schedules", occasions::schedules);
    kept!("reactions", crate::react::work);
    kept!("poll", forge::poll);
    kept!("landing", crate::landing::work);
    kept!("delivery", crate::delivery::work);
    kept!("pools", crate::pools::work);
    kept!("ship", crate::ship::work);
    kept!("backup", crate::backup::work);
    workers
}

/// When to end: each future resolves at its signal.
pub struct Shutdown<F, S> {
    pub first: F,
    pub second: S,
}

/// Serves until shut down. `first_token` is called with the owner's token, once, when the data folder is new; `ready` when calls
/// are about to be answered.
pub async fn serve<F, S>(
    settings: Settings,
    listener: TcpListener,
    shutdown: Shutdown<F, S>,
    first_token: impl FnOnce(&str),
    ready: impl FnOnce(),
) -> Result<(), ServeError>
where
    F: Future<Output = ()> + Send + 'static,
    S: Future<Output = ()> + Send,
{
    let address = listener.local_addr().map_err(ServeError::Listener)?;
    if !address.ip().is_loopback() && settings.tls.is_none() && settings.behind_proxy.is_empty() {
        return Err(ServeError::Open(address));
    }
    let folder_error = |source| ServeError::Folder { path: settings.data.clone(), source };
    private(&settings.data).map_err(folder_error)?;
    let write_back = if settings.backup.is_some() { WriteBack::ByBackup } else { WriteBack::BySqlite };
    let records = Records::open_as(&settings.data, write_back).await?;
    if records.persons().await?.is_empty() {
        if !http::is_person_name(&settings.owner) {
            return Err(ServeError::Name(settings.owner));
        }
        first_token(first_person(&records, &settings.owner).await?.expose());
    }
    let key_file = settings.key_file.clone().unwrap_or_else(|| settings.data.join("secrets.key"));
    let seal = Seal::open(&key_file, records.has_sealed().await?)?;
    let kept = settings.rehearsal.as_ref().and_then(|rehearsal| rehearsal.kept.clone());
    if let Some(kept) = &kept {
        kept::bring(kept, &records).await.map_err(folder_error)?;
    }
    let stop = CancellationToken::new();
    let scheme = if settings.tls.is_some() { "https" } else { "http" };
    let public_url = settings.public_url.clone().unwrap_or_else(|| format!("{scheme}://{address}"));
    let keeper_stop = CancellationToken::new();
    let blobs = blobs(&settings, &records).await?;
    let logs = Logs::open(settings.data.join("logs"), blobs.clone()).map_err(folder_error)?;
    crate::ship::forget_others(&records, &settings.ships, clock::now()).await?;
    let counters = Counters::default();
    let traces = traces(&settings, &records).await?;
    let terms = terms(&settings, &public_url, traces.clone());
    let (keeper, keeper_task) = keeper::start(records.clone(), logs.clone(), terms, counters.clone(), keeper_stop.clone()).await?;
    crate::secrets::seal_projects(&seal, &records).await?;
    crate::pools::take_configured(&records, &settings, clock::now()).await?;
    let app = App::new(Inner {
        seal,
        profiles: Profiles::load(&settings.data.join("profiles"))?,
        polls: Default::default(),
        told: Default::default(),
        notice_http: crate::notices::hook_client(&settings).map_err(ServeError::Client)?,
        post: settings.mail.as_ref().map(crate::notices::Post::new).transpose().map_err(ServeError::Mail)?,
        busy: Default::default(),
        blobs,
        shown: Default::default(),
        logs,
        mirrors: Mirrors::new(settings.data.join("mirrors")),
        looks: crate::looks::FirstLooks::new(settings.data.join("looks")),
        http: client(|with| with.timeout(std::time::Duration::from_secs(30))).map_err(ServeError::Client)?,
        public_url: public_url.clone(),
        records: records.clone(),
        provider_http: client(|with| with.timeout(std::time::Duration::from_secs(10))).map_err(ServeError::Client)?,
        keeper,
        schedules: Notify::new(),
        stop: stop.clone(),
        runner_names: Default::default(),
        plans: Default::default(),
        keyed_calls: Default::default(),
        known: http::Known::new(&public_url, address, &settings.hosts, settings.behind_proxy.clone()),
        guesses: Default::default(),
        refusals: Default::default(),
        sign_ins: Default::default(),
        identity: Issuer::of(Purpose::Identity),
        statements: Issuer::of(Purpose::Statement),
        counters,
        traces,
        planning: std::sync::Arc::new(Semaphore::new(PLANNED_AT_ONCE)),
        streams: Default::default(),
        distances: Default::default(),
        backup: crate::backed_up::Backup::new(clock::now()),
        offers: Default::default(),
        trees: Default::default(),
        pools: Default::default(),
        settings: settings.clone(),
    });
    let workers = workers(&app);
    let handle = axum_server::Handle::new();
    {
        let (stop, handle, drain) = (stop.clone(), handle.clone(), settings.drain);
        tokio::spawn(async move {
            shutdown.first.await;
            stop.cancel();
            handle.graceful_shutdown(Some(drain));
        });
    }
    let serving = tokio::spawn(crate::listening::listen(listener, settings.tls.clone(), http::router(app.clone()), handle.clone())?);
    ready();
    let abort = serving.abort_handle();
    let limit = async {
        stop.cancelled().await;
        tokio::select! {
            () = tokio::time::sleep(settings.drain) => tracing::warn!("open calls did not end in time; ending them"),
            () = shutdown.second => tracing::warn!("second signal: ending at once"),
        }
    };
    tokio::select! {
        _ = serving => {}
        () = limit => abort.abort(),
    }
    stop.cancel();
    keeper_stop.cancel();
    let _ = keeper_task.await;
    let mut workers = workers;
    workers.shutdown().await;
    if let Some(kept) = &kept
        && let Err(error) = kept::leave(&app, kept).await
    {
        tracing::warn!(error = causes(&error), "what jobs cached could not be kept");
    }
    crate::backup::last(&app).await;
    records.close().await;
    Ok(())
}
