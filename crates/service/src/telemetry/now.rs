//! What is so at the moment of the scrape.

use super::bounded::bounded;
use crate::app::App;
use crate::clock;
use crate::keeper::{Away, Snapshot};
use ordotaxis_core::pool::Stage;
use ordotaxis_store::WorkCount;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::Registry;
use std::collections::BTreeMap;
use std::sync::atomic::AtomicU64;

/// So many sets of labels that queued jobs want, and pools, have series of their own.
const SETS: usize = 50;
const POOLS: usize = 200;

/// Numbers by the values of labels.
type Labels = Vec<(&'static str, String)>;
type Numbers = Family<Labels, Gauge>;
type Exact = Family<Labels, Gauge<f64, AtomicU64>>;

/// Adds what is so now to a registry.
struct Now(Registry);

impl Now {
    fn number(&mut self, name: &str, help: &str, value: impl TryInto<i64>) {
        let gauge = Gauge::<i64>::default();
        gauge.set(value.try_into().unwrap_or(i64::MAX));
        self.0.register(name, help, gauge);
    }

    fn numbers(&mut self, name: &str, help: &str, values: impl IntoIterator<Item = (Labels, i64)>) {
        let family = Numbers::default();
        for (labels, value) in values {
            family.get_or_create(&labels).set(value);
        }
        self.0.register(name, help, family);
    }

    fn seconds(&mut self, name: &str, help: &str, values: impl IntoIterator<Item = (Labels, i64)>) {
        let family = Exact::default();
        for (labels, ms) in values {
            family.get_or_create(&labels).set(seconds(ms));
        }
        self.0.register(name, help, family);
    }
}

#[expect(clippy::cast_precision_loss, reason = "no wait is long enough to lose a millisecond of it")]
fn seconds(ms: i64) -> f64 {
    ms.max(0) as f64 / 1_000.0
}

/// Everything that is so now. What the database cannot say at the moment is left out.
pub(super) async fn registry(app: &App) -> Result<Registry, Away> {
    let mut now = Now(Registry::default());
    let snapshot = app.keeper.snapshot().await?;
    runs(&mut now, &snapshot);
    fleet(&mut now, &snapshot);
    pools(&mut now, app);
    let (packs, chunks, bytes) = app.blobs.sums();
    now.number("ordotaxis_store_packs", "Packs in the store", packs);
    now.number("ordotaxis_store_chunks", "Different chunks in the store", chunks);
    now.number("ordotaxis_store_bytes", "Bytes of the store as they lie there", bytes);
    if let Ok(named) = app.records.named_bytes().await {
        now.number(
            "ordotaxis_store_named_bytes",
            "Bytes of artifacts and caches as jobs see them, before what is alike is kept once",
            named,
        );
    }
    if let Some((free, size)) = disk(app) {
        now.number("ordotaxis_disk_free_bytes", "Bytes free where the data folder lies", free);
        now.number("ordotaxis_disk_size_bytes", "Size of the disk where the data folder lies", size);
    }
    work(&mut now, app).await;
    ships(&mut now, app).await;
    if app.settings.backup.is_some() {
        let behind = (Vec::new(), app.backup.behind(clock::now()));
        now.seconds("ordotaxis_backup_behind_seconds", "Time since everything was in the service's own backup", [behind]);
    }
    let version: Labels = vec![("version", env!("CARGO_PKG_VERSION").to_owned())];
    now.numbers("ordotaxis_build", "1; the version that runs", [(version, 1)]);
    Ok(now.0)
}

fn runs(now: &mut Now, snapshot: &Snapshot) {
    now.number("ordotaxis_runs", "Runs that go on", snapshot.runs_count());
    let states = snapshot.counts().into_iter();
    let states = states.map(|(state, count)| (vec![("state", state.word().to_owned())], i64::try_from(count).unwrap_or(i64::MAX)));
    now.numbers("ordotaxis_jobs", "Jobs of runs that go on, by state", states);
    let (mut counts, mut oldest) = (BTreeMap::new(), BTreeMap::new());
    for (labels, since) in snapshot.queued_by_labels() {
        let name = labels.join(",");
        *counts.entry(name.clone()).or_insert(0) += 1;
        let age = snapshot.age(since);
        oldest.entry(name).and_modify(|known: &mut i64| *known = age.max(*known)).or_insert(age);
    }
    let of = |values: Vec<(String, i64)>| values.into_iter().map(|(name, value)| (vec![("labels", name)], value));
    now.numbers("ordotaxis_queue", "Queued jobs, by the labels they want", of(bounded(counts, SETS, |a, b| a + b)));
    now.seconds(
        "ordotaxis_queue_oldest_seconds",
        "Age of the oldest queued job, by the labels it wants",
        of(bounded(oldest, SETS, i64::max)),
    );
}

fn fleet(now: &mut Now, snapshot: &Snapshot) {
    let (busy, slots) = snapshot.slots();
    now.number("ordotaxis_runners", "Connected runners", snapshot.runner_count());
    now.number("ordotaxis_slots", "Slots of connected runners", slots);
    now.number("ordotaxis_slots_busy", "Slots with a job", busy);
}

fn pools(now: &mut Now, app: &App) {
    let known = app.pools.now();
    let pools = known.pools.iter().take(POOLS);
    let label = |name: &str| ("pool", name.to_owned());
    let mut machines: BTreeMap<(&str, &'static str), i64> = BTreeMap::new();
    for pool in pools.clone() {
        for stage in [Stage::Wanted, Stage::Made, Stage::Registered, Stage::Busy, Stage::Leaving] {
            machines.insert((&pool.row.name, stage.word()), 0);
        }
    }
    for machine in known.machines.values() {
        if let Some(count) = machines.get_mut(&(machine.pool.as_str(), machine.stage.word())) {
            *count += 1;
        }
    }
    let machines = machines.into_iter().map(|((pool, stage), count)| (vec![label(pool), ("stage", stage.to_owned())], count));
    now.numbers("ordotaxis_pool_machines", "Machines of pools, by stage", machines);
    let most = pools.clone().map(|pool| (vec![label(&pool.row.name)], i64::try_from(pool.pool.rules.most).unwrap_or(i64::MAX)));
    now.numbers("ordotaxis_pool_most", "The most machines that a pool may have", most);
    let troubled = |pool: &crate::pools::PoolNow| pool.pool.trouble.is_some() || pool.pool.unlisted.is_some();
    let trouble = pools.map(|pool| (vec![label(&pool.row.name)], i64::from(troubled(pool))));
    now.numbers("ordotaxis_pool_trouble", "1 while a pool's provider does not do what it is asked", trouble);
}

async fn work(now: &mut Now, app: &App) {
    let at = clock::now();
    if let Ok(unsent) = app.records.unsent_messages(at).await {
        now.number("ordotaxis_outbox_unsent", "Messages not yet accepted outside", unsent);
    }
    let Ok(counts) = app.records.work_counts().await else { return };
    let kind = |row: &WorkCount| ("kind", row.kind.clone());
    let rows = counts.iter().map(|row| (vec![kind(row), ("state", row.state.clone())], row.count));
    now.numbers("ordotaxis_work", "Work for the outside that waits or was given up, by kind", rows);
    let waiting = counts.iter().filter(|row| row.state == "waiting");
    let oldest = waiting.map(|row| (vec![kind(row)], at - row.oldest_at));
    now.seconds("ordotaxis_work_oldest_seconds", "Age of the oldest work that waits, by kind", oldest);
}

async fn ships(now: &mut Now, app: &App) {
    let (at, Ok(behind)) = (clock::now(), app.records.ships_behind().await) else { return };
    let of = |row: &ordotaxis_store::BehindRow| vec![("target", row.target.clone())];
    now.numbers("ordotaxis_ship_logs", "Logs of which not all has arrived, by target", behind.iter().map(|row| (of(row), row.logs)));
    let ages = behind.iter().map(|row| (of(row), row.ended_at.map_or(0, |ended| at - ended)));
    now.seconds("ordotaxis_ship_behind_seconds", "Age of the oldest log that has ended and not arrived, by target", ages);
}

/// Bytes free for the service, and the size, of the disk that the data folder lies on.
fn disk(app: &App) -> Option<(u64, u64)> {
    let found = nix::sys::statvfs::statvfs(&app.settings.data).ok()?;
    let unit = found.fragment_size();
    Some((found.blocks_available().saturating_mul(unit), found.blocks().saturating_mul(unit)))
}
