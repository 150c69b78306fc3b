//! What every part of the service can reach.

use crate::forge::{Polls, Profiles};
use crate::keeper::Keeper;
use crate::plans::Plans;
use crate::seal::Seal;
use crate::settings::Settings;
use ordotaxis_core::plan::Plan;
use ordotaxis_git::Mirrors;
use ordotaxis_store::{Blobs, Logs, Records, StoreError};
use std::collections::HashMap;
use std::ops::Deref;
use std::sync::{Arc, Mutex as StdMutex, RwLock};
use tokio::sync::{Notify, Semaphore};
use tokio_util::sync::CancellationToken;

/// All that handlers, reactions and work share. Clones are the same service.
#[derive(Clone)]
pub(crate) struct App(Arc<Inner>);

/// The parts. None of them calls back into what is above it.
pub(crate) struct Inner {
    pub(crate) settings: Settings,
    pub(crate) public_url: String,
    pub(crate) records: Records,
    pub(crate) blobs: Blobs,
    pub(crate) logs: Logs,
    /// Addresses under which artifacts are shown for a while.
    pub(crate) shown: StdMutex<crate::http::Shown>,
    pub(crate) seal: Seal,
    pub(crate) mirrors: Mirrors,
    /// Repositories that are looked at before they are projects.
    pub(crate) looks: crate::looks::FirstLooks,
    pub(crate) profiles: Profiles,
    /// When commits were told their runs' states.
    pub(crate) told: crate::work::Told,
    /// How looking at repositories goes.
    pub(crate) polls: Polls,
    pub(crate) keeper: Keeper,
    /// Rings when schedules were set.
    pub(crate) schedules: Notify,
    /// For calls to forges: it follows no redirects, since what opens one would go along.
    pub(crate) http: reqwest::Client,
    /// For webhooks of projects: what it may reach is limited.
    pub(crate) notice_http: reqwest::Client,
    /// The way to the mail server; none: no mail is sent.
    pub(crate) post: Option<crate::notices::Post>,
    /// Receivers of notices that are being told something.
    pub(crate) busy: crate::notices::Busy,
    /// For the provider that persons sign in at: it follows no redirects.
    pub(crate) provider_http: reqwest::Client,
    /// Ends everything that would go on by itself: workers, open streams, held calls.
    pub(crate) stop: CancellationToken,
    /// Runner names by credential digest, so that their many calls need no query.
    pub(crate) runner_names: RwLock<HashMap<String, String>>,
    /// Plans of runs that were looked at lately; a plan never changes.
    pub(crate) plans: Plans,
    /// Calls with an Idempotency-Key that go on.
    pub(crate) keyed_calls: crate::http::KeyedCalls,
    /// Names and proxies that are known.
    pub(crate) known: crate::http::Known,
    pub(crate) guesses: crate::http::Guesses,
    pub(crate) refusals: crate::http::Refusals,
    /// Sign-ins at a provider that go on.
    pub(crate) sign_ins: crate::sign_in::SignIns,
    pub(crate) identity: crate::identity::Issuer,
    /// Signs what is said of artifacts.
    pub(crate) statements: crate::identity::Issuer,
    /// What is counted since the start.
    pub(crate) counters: crate::counters::Counters,
    /// Where traces are wanted: what tells them from another service's.
    pub(crate) traces: Option<crate::traced::TraceMark>,
    /// Files that are being checked and planned for people.
    pub(crate) planning: Arc<Semaphore>,
    /// How far commits are behind others.
    pub(crate) distances: crate::delivery::Distances,
    /// Open live streams, by person.
    pub(crate) streams: crate::http::Streams,
    /// Runners on demand.
    pub(crate) pools: crate::pools::Pools,
    /// How far the service's own backup goes.
    pub(crate) backup: crate::backed_up::Backup,
    /// Places in storage that runners were given.
    pub(crate) offers: crate::offers::Offers,
    /// Chunks of trees that are being fetched.
    pub(crate) trees: crate::trees::Trees,
}

impl App {
    /// A run's plan; none for a run that could not be planned.
    pub(crate) async fn plan_of(&self, run: i64) -> Result<Option<Arc<Plan>>, StoreError> {
        self.plans.of(&self.records, run).await
    }

    pub(crate) fn new(inner: Inner) -> App {
        App(Arc::new(inner))
    }
}

impl Deref for App {
    type Target = Inner;

    fn deref(&self) -> &Inner {
        &self.0
    }
}
