//! Keeps the store within its limits: what is past its time, then what was unused longest. A sweep is first a plan that
//! can be looked at; then names are dropped, and then what no name needs.

use crate::ages::Ages;
use crate::app::App;
use crate::causes::causes;
use crate::old::{self, Old};
use crate::{clock, prune};
use ordotaxis_content::ChunkId;
use ordotaxis_core::access::{Action, Actor};
use ordotaxis_store::{BlobError, CacheRow, DueArtifact, Entry, SweepPlan};
use ordotaxis_wire::storage::{SweepView, SweptView};
use ordotaxis_wire::words;
use std::collections::HashSet;
use std::time::{Duration, Instant};

/// Logs that are closed within this are moved together.
const GATHER: Duration = Duration::from_secs(15);
/// How often the service sweeps by itself.
const EVERY: Duration = Duration::from_secs(60 * 60);
/// How often plans in memory are looked through.
const LOOK_AT_PLANS: Duration = Duration::from_secs(15);
/// A cache that nobody used for so long is not going to be.
const UNUSED_MS: i64 = 30 * 24 * 60 * 60 * 1000;

/// What a sweep would do.
pub(crate) struct Plan {
    artifacts: Vec<DueArtifact>,
    caches: Vec<(CacheRow, String)>,
    packs: SweepPlan,
    old: Old,
}

impl Plan {
    fn is_empty(&self) -> bool {
        let packs = &self.packs;
        self.artifacts.is_empty()
            && self.caches.is_empty()
            && !self.old.has_runs()
            && [&packs.dead, &packs.thin, &packs.small].iter().all(|ids| ids.is_empty())
            && packs.stray.is_empty()
    }

    /// What people are shown of it; `done` says whether it was carried out.
    pub(crate) fn view(&self, ages: &Ages, done: bool) -> SweepView {
        let artifact = |due: &DueArtifact| SweptView {
            what: format!("{}/{} {}", due.project, due.number, due.name),
            why: format!("its time was over on {}", clock::words(due.kept_until)),
            bytes: due.raw_bytes.unsigned_abs(),
        };
        let cache =
            |(row, why): &(CacheRow, String)| SweptView { what: row.key.clone(), why: why.clone(), bytes: row.raw_bytes.unsigned_abs() };
        SweepView {
            artifacts: self.artifacts.iter().map(artifact).collect(),
            caches: self.caches.iter().map(cache).collect(),
            runs: self.old.runs(),
            logs: self.old.logs(),
            rows: self.old.rows(ages),
            packs: (self.packs.dead.len() + self.packs.thin.len()) as u64,
            small: self.packs.small.len() as u64,
            strays: self.packs.stray.len() as u64,
            bytes: self.packs.bytes,
            done,
        }
    }
}

/// Looks at everything; changes nothing.
pub(crate) async fn plan(app: &App, now: i64) -> Result<Plan, BlobError> {
    let artifacts = app.records.due_artifacts(now).await?;
    let caches = unwanted(app, now).await?;
    let dropped: Vec<i64> = caches.iter().map(|(row, _)| row.id).collect();
    let kept = app.records.trees_kept_after(&artifacts, &dropped).await?;
    let live: Vec<ChunkId> = kept.iter().filter_map(|tree| tree.parse().ok()).collect();
    let grown = old::plan(app, now).await?;
    let logs = logs(app, &grown.without_logs()).await?;
    Ok(Plan { artifacts, caches, packs: app.blobs.plan_sweep(&live, logs, now).await?, old: grown })
}

/// The chunks of all logs but those of these runs.
async fn logs(app: &App, but: &HashSet<i64>) -> Result<HashSet<ChunkId>, BlobError> {
    let chunks = app.records.log_chunks().await?;
    Ok(chunks.iter().filter(|(_, _, run)| !but.contains(run)).flat_map(|(names, _, _)| ChunkId::list(names).unwrap_or_default()).collect())
}

/// Entries that nobody used for long, and those that the limit has no room for.
async fn unwanted(app: &App, now: i64) -> Result<Vec<(CacheRow, String)>, BlobError> {
    let (_, _, mut stored) = app.blobs.sums();
    let limit = app.settings.store_limit;
    let mut unwanted = Vec::new();
    for row in app.records.unused_caches().await? {
        let unused = now - row.used_at;
        let why = if unused > UNUSED_MS {
            format!("nobody used it for {}", words::duration(unused))
        } else if limit.is_some_and(|limit| stored > limit) {
            format!("the store may hold {}, and this was unused longest", words::bytes(limit.unwrap_or(0)))
        } else {
            continue;
        };
        stored = stored.saturating_sub(row.bytes.unsigned_abs());
        unwanted.push((row, why));
    }
    Ok(unwanted)
}

/// Drops the names, then what no name needs any more. What is used again by then stays.
pub(crate) async fn carry_out(app: &App, by: &Actor, plan: Plan, now: i64) -> Result<(), BlobError> {
    let mut tx = app.records.tx(by, now).await?;
    for due in &plan.artifacts {
        tx.drop_artifact(due).await?;
    }
    for (row, _) in &plan.caches {
        tx.drop_unused_cache(row).await?;
    }
    let swept = serde_json::json!({ "artifacts": plan.artifacts.len(), "caches": plan.caches.len() });
    tx.note(Entry::new(Action::SweepStore, "store").after(swept));
    tx.commit().await?;
    old::drop_runs(app, by, &plan.old, now).await?;
    prune::prune(app, now).await?;
    // Looked at once more: a name may have been given to the same tree since.
    let live: Vec<ChunkId> = app.records.named_trees().await?.iter().filter_map(|(tree, _)| tree.parse().ok()).collect();
    let packs = app.blobs.plan_sweep(&live, logs(app, &HashSet::new()).await?, now).await?;
    let bytes = packs.bytes;
    app.blobs.sweep(&packs, now).await?;
    app.counters.swept(bytes);
    Ok(())
}

/// Leaves in the store what caches need, and nothing else; then as many of them as the limit has room for.
pub(crate) async fn leave_caches(app: &App, by: &Actor, now: i64) -> Result<(), BlobError> {
    sweep_to_caches(app, now).await?;
    let unwanted = unwanted(app, now).await?;
    if unwanted.is_empty() {
        return Ok(());
    }
    let mut tx = app.records.tx(by, now).await?;
    for (row, _) in &unwanted {
        tx.drop_unused_cache(row).await?;
    }
    tx.commit().await?;
    sweep_to_caches(app, now).await
}

async fn sweep_to_caches(app: &App, now: i64) -> Result<(), BlobError> {
    let rows = app.records.unused_caches().await?;
    let live: Vec<ChunkId> = rows.iter().filter_map(|row| row.tree.parse().ok()).collect();
    let packs = app.blobs.plan_sweep(&live, HashSet::new(), now).await?;
    app.blobs.sweep(&packs, now).await
}

/// Names of what is not whole.
pub(crate) async fn broken(app: &App) -> Result<Vec<String>, BlobError> {
    let mut broken = Vec::new();
    for (tree, what) in app.records.named_trees().await? {
        let Ok(id) = tree.parse() else { continue };
        match app.blobs.complete(&id, 0).await {
            Ok(_) => {}
            Err(error) if error.is_passing() => return Err(error),
            Err(error) => broken.push(format!("{what}: {error}")),
        }
    }
    for (names, what, _) in app.records.log_chunks().await? {
        let names = ChunkId::list(&names).unwrap_or_default();
        if let Some(gone) = app.blobs.has(&names, 0).iter().position(|has| !has) {
            broken.push(format!("{what}: {}", BlobError::NoChunk(names[gone])));
        }
    }
    Ok(broken)
}

/// Moves logs that were closed into the store, some at a time, as long as the service goes on.
pub(crate) async fn move_logs(app: App) {
    if let Err(error) = app.logs.look_for_closed().await {
        tracing::warn!(error = causes(&error), "logs that were not yet moved into the store stay where they are until the next start");
    }
    loop {
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = async { app.logs.closed().await; tokio::time::sleep(GATHER).await } => {}
        }
        if let Err(error) = app.logs.move_closed(clock::now()).await {
            tracing::warn!(error = causes(&error), "logs could not be moved into the store; they stay as they are, and it is tried again");
        }
    }
}

/// Drops plans from memory that nobody has asked for lately.
pub(crate) async fn drop_plans(app: App) {
    while app.stop.run_until_cancelled(tokio::time::sleep(LOOK_AT_PLANS)).await.is_some() {
        app.plans.drop_unused(Instant::now());
    }
}

/// Sweeps now and then, as long as the service goes on.
pub(crate) async fn work(app: App) {
    loop {
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = tokio::time::sleep(EVERY) => {}
        }
        let now = clock::now();
        let swept = async {
            let plan = plan(&app, now).await?;
            if plan.is_empty() { Ok(()) } else { carry_out(&app, &Actor::rule("sweep"), plan, now).await }
        };
        if let Err(error) = swept.await {
            tracing::warn!(error = causes(&error), "the store could not be swept; the next sweep tries again");
        }
    }
}
