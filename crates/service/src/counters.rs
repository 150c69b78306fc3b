//! What is counted since the service started. Each part counts where it happens; `telemetry` shows it. Every label has few
//! values, whatever callers send: routes are templates, methods and states are ours, pools have a limit of their own.

use ordotaxis_core::engine::State;
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::Histogram;
use prometheus_client::registry::Registry;
use std::time::Duration;

/// Upper bounds in seconds of what answers soon, and of what waits.
const SOON: [f64; 8] = [0.001, 0.005, 0.02, 0.1, 0.5, 2.0, 10.0, 30.0];
const WAITS: [f64; 9] = [0.1, 0.5, 2.0, 10.0, 30.0, 120.0, 600.0, 3_600.0, 21_600.0];

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Call {
    route: String,
    method: &'static str,
    class: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Ended {
    state: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Waited {
    waited_for: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Answered {
    answer: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Asked {
    pool: String,
    asked: &'static str,
    answer: &'static str,
}

/// Which way packs go between runners and storage.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Way {
    In,
    Out,
}

/// What jobs wait for before they run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum WaitedFor {
    /// Jobs before it.
    Jobs,
    /// A gate, an environment, a start by hand.
    Gate,
    /// The pause before another try.
    Pause,
    /// A turn that another job had when it queued.
    Turn,
    /// A runner.
    Runner,
}

impl WaitedFor {
    fn word(self) -> &'static str {
        match self {
            WaitedFor::Jobs => "jobs",
            WaitedFor::Gate => "gate",
            WaitedFor::Pause => "pause",
            WaitedFor::Turn => "turn",
            WaitedFor::Runner => "runner",
        }
    }
}

/// Counts since the start. Clones count together.
#[derive(Debug, Clone)]
pub(crate) struct Counters {
    http: Family<Call, Histogram>,
    runs: Family<Ended, Counter>,
    jobs: Family<Ended, Counter>,
    waits: Family<Waited, Histogram>,
    claims: Family<Answered, Counter>,
    batches: Histogram,
    hooks: Family<Answered, Counter>,
    work: Family<Worked, Histogram>,
    pools: Family<Asked, Histogram>,
    ships: Family<To, Counter>,
    ships_refused: Family<To, Counter>,
    ships_trouble: Family<To, Gauge>,
    direct: Family<Went, Counter>,
    sweeps: Counter,
    swept: Counter,
    pub(crate) panics: Counter,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Went {
    way: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct To {
    target: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Worked {
    kind: &'static str,
    end: &'static str,
}

fn soon() -> Histogram {
    Histogram::new(SOON)
}

fn waits() -> Histogram {
    Histogram::new(WAITS)
}

impl Default for Counters {
    fn default() -> Counters {
        let counters = Counters {
            http: Family::new_with_constructor(soon),
            runs: Family::default(),
            jobs: Family::default(),
            waits: Family::new_with_constructor(waits),
            claims: Family::default(),
            batches: soon(),
            hooks: Family::default(),
            work: Family::new_with_constructor(soon),
            pools: Family::new_with_constructor(soon),
            ships: Family::default(),
            ships_refused: Family::default(),
            ships_trouble: Family::default(),
            direct: Family::default(),
            sweeps: Counter::default(),
            swept: Counter::default(),
            panics: Counter::default(),
        };
        [Way::In, Way::Out].into_iter().for_each(|way| counters.direct(way, 0));
        counters
    }
}

/// A method as a label: whatever else a caller sends is `other`.
fn method_word(method: &axum::http::Method) -> &'static str {
    ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"].into_iter().find(|word| *word == method.as_str()).unwrap_or("other")
}

impl Counters {
    /// A call was answered. `route` is its template.
    pub(crate) fn answered(&self, route: String, method: &axum::http::Method, status: axum::http::StatusCode, took: Duration) {
        let class = match status.as_u16() / 100 {
            1 => "1xx",
            2 => "2xx",
            3 => "3xx",
            4 => "4xx",
            _ => "5xx",
        };
        self.http.get_or_create(&Call { route, method: method_word(method), class }).observe(took.as_secs_f64());
    }

    pub(crate) fn run_ended(&self, state: State) {
        self.runs.get_or_create(&Ended { state: state.word() }).inc();
    }

    pub(crate) fn job_ended(&self, state: State) {
        self.jobs.get_or_create(&Ended { state: state.word() }).inc();
    }

    pub(crate) fn waited(&self, waited_for: WaitedFor, took: Duration) {
        self.waits.get_or_create(&Waited { waited_for: waited_for.word() }).observe(took.as_secs_f64());
    }

    /// A runner asked for work.
    pub(crate) fn claimed(&self, leased: bool) {
        self.claims.get_or_create(&Answered { answer: if leased { "lease" } else { "nothing" } }).inc();
    }

    /// The keeper did one batch.
    pub(crate) fn batch(&self, took: Duration) {
        self.batches.observe(took.as_secs_f64());
    }

    pub(crate) fn hook(&self, answer: &'static str) {
        self.hooks.get_or_create(&Answered { answer }).inc();
    }

    /// A piece of work was tried.
    pub(crate) fn worked(&self, kind: &'static str, end: &'static str, took: Duration) {
        self.work.get_or_create(&Worked { kind, end }).observe(took.as_secs_f64());
    }

    /// A pool's provider was asked.
    pub(crate) fn asked(&self, pool: &str, asked: &'static str, answer: &'static str, took: Duration) {
        self.pools.get_or_create(&Asked { pool: pool.to_owned(), asked, answer }).observe(took.as_secs_f64());
    }

    /// So many lines of logs have arrived at a target.
    pub(crate) fn shipped(&self, target: &str, lines: u64) {
        self.ships.get_or_create(&To { target: target.to_owned() }).inc_by(lines);
    }

    /// So many lines were refused by a target, and left out.
    pub(crate) fn ship_refused(&self, target: &str, lines: u64) {
        self.ships_refused.get_or_create(&To { target: target.to_owned() }).inc_by(lines);
    }

    /// Whether a target takes what it is sent.
    pub(crate) fn ship_trouble(&self, target: &str, trouble: bool) {
        self.ships_trouble.get_or_create(&To { target: target.to_owned() }).set(i64::from(trouble));
    }

    /// So many bytes went, or were sent for, without passing through the service.
    pub(crate) fn direct(&self, way: Way, bytes: u64) {
        let way = match way {
            Way::In => "in",
            Way::Out => "out",
        };
        self.direct.get_or_create(&Went { way }).inc_by(bytes);
    }

    /// The store was swept of so many bytes.
    pub(crate) fn swept(&self, bytes: u64) {
        self.sweeps.inc();
        self.swept.inc_by(bytes);
    }

    /// Names everything for whoever reads it.
    pub(crate) fn register(&self, registry: &mut Registry) {
        registry.register("ordotaxis_http_seconds", "Time to answer calls, by route, method and class of status", self.http.clone());
        registry.register("ordotaxis_runs_ended", "Runs that ended, by how", self.runs.clone());
        registry.register("ordotaxis_jobs_ended", "Jobs that ended, by how", self.jobs.clone());
        registry.register("ordotaxis_job_waits_seconds", "Time that jobs waited, by what for", self.waits.clone());
        registry.register("ordotaxis_claims", "Calls of runners for work, by answer", self.claims.clone());
        registry.register("ordotaxis_keeper_batch_seconds", "Time of one batch of the keeper", self.batches.clone());
        registry.register("ordotaxis_hooks", "Webhooks received, by answer", self.hooks.clone());
        registry.register("ordotaxis_work_seconds", "Time of one try of work for the outside, by kind and end", self.work.clone());
        registry.register("ordotaxis_pool_asked_seconds", "Time of providers to answer, by pool, question and answer", self.pools.clone());
        registry.register("ordotaxis_ship_lines", "Lines of logs that arrived where they are sent, by target", self.ships.clone());
        registry.register(
            "ordotaxis_ship_refused",
            "Lines of logs that a target refused, and that were left out",
            self.ships_refused.clone(),
        );
        registry.register("ordotaxis_ship_trouble", "1 while a target does not take what it is sent", self.ships_trouble.clone());
        registry.register(
            "ordotaxis_direct_bytes",
            "Bytes of packs that runners sent to storage themselves, or were given addresses to read, by way",
            self.direct.clone(),
        );
        registry.register("ordotaxis_sweeps", "Sweeps of the store", self.sweeps.clone());
        registry.register("ordotaxis_swept_bytes", "Bytes taken out of the store by sweeps", self.swept.clone());
        registry.register("ordotaxis_panics", "Calls that ended in a panic", self.panics.clone());
    }
}
