//! The loop: one look after another, whenever a job queued, a runner came or went, or a provider answered, and now and then.

use super::act::{Done, Hands, LookError, carry_out, write};
use super::handle::{Message, Now, PoolNow};
use super::provider::Provider;
use super::settings::{Found, checked, pool_of};
use crate::app::App;
use crate::causes::causes;
use crate::clock;
use crate::settings::Settings;
use ordotaxis_core::pool::{Event, Machine, Pools, Seen, Stage};
use ordotaxis_store::{PoolRow, Records, StoreError};
use ordotaxis_wire::pool::PoolSettings;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::oneshot;
use tokio_util::sync::CancellationToken;

/// How often machines are looked after when nothing rings.
const EVERY: Duration = Duration::from_secs(1);
/// The least time between two looks. One that takes long is followed by a longer rest, so that looking is never most of the work;
/// but not by one for which machines that are to go would be paid.
const REST: Duration = Duration::from_millis(15);
const REST_TIMES: u32 = 5;
const LONGEST_REST: Duration = Duration::from_millis(500);
/// What cannot be written or read is tried again after this.
const TROUBLE: Duration = Duration::from_secs(2);
/// What a machine says of itself is remembered up to this length.
const FOUND: usize = 64 * 1024;
/// Messages that are taken at once.
const BATCH: usize = 256;
/// The word that tells this service's machines from another's.
const MARK: &str = "pools";
/// Its length, and that of what is added to it, in characters of which there are 32.
const MARK_LENGTH: usize = 4;
const NAME_LENGTH: usize = 8;

/// Works as long as the service goes on.
pub(crate) async fn work(app: App) {
    let mut messages = app.pools.receiver.lock().await;
    let mut stirred = app.keeper.stirred();
    let mut task: Option<Task> = None;
    let (mut answers, mut were_set) = (Vec::new(), false);
    loop {
        let looked = async {
            match task.as_mut() {
                Some(task) if were_set => task.set(app.records.pools().await?),
                Some(_) => {}
                None => {
                    let task = task.insert(Task::begin(&app).await?);
                    // What was said, and is not written down, is not on the disk.
                    answers.iter().filter_map(Answer::event).for_each(|event| task.pools.apply(event.clone(), clock::now()));
                }
            }
            were_set = false;
            match task.as_mut() {
                Some(task) => task.look().await,
                None => Ok(()),
            }
        };
        let rest = match looked.await {
            Ok(()) => {
                answers.drain(..).for_each(|answer: Answer| answer.give(task.as_ref()));
                let took = task.as_ref().map_or(Duration::ZERO, |task| task.took);
                (took * REST_TIMES).clamp(REST, LONGEST_REST)
            }
            Err(error) => {
                tracing::warn!(error = causes(&error), "machines could not be looked after; everything is read back");
                task = None; // memory never says more than the disk
                TROUBLE
            }
        };
        let every = match &task {
            None => TROUBLE,
            Some(task) if task.has_any() => EVERY,
            Some(_) => Duration::MAX,
        };
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = tokio::time::sleep(rest) => {}
        }
        let mut batch = Vec::new();
        tokio::select! {
            () = app.stop.cancelled() => return,
            count = messages.recv_many(&mut batch, BATCH) => if count == 0 { return },
            changed = stirred.changed(), if task.as_ref().is_none_or(Task::has_any) => if changed.is_err() { return },
            () = sleep(every) => {}
        }
        for message in batch {
            match message {
                Message::Event(event) => task.iter_mut().for_each(|task| task.pools.apply(event.clone(), clock::now())),
                Message::Said { event, reply } => {
                    task.iter_mut().for_each(|task| task.pools.apply(event.clone(), clock::now()));
                    answers.push(Answer::Said { event, reply });
                }
                Message::Set { reply } => {
                    were_set = true;
                    answers.push(Answer::Set(reply));
                }
            }
        }
    }
}

async fn sleep(length: Duration) {
    if length == Duration::MAX { std::future::pending().await } else { tokio::time::sleep(length).await }
}

/// Who waits until what was said is written down.
enum Answer {
    Said { event: Event, reply: oneshot::Sender<Option<Machine>> },
    Set(oneshot::Sender<()>),
}

impl Answer {
    fn event(&self) -> Option<&Event> {
        match self {
            Answer::Said { event, .. } => Some(event),
            Answer::Set(_) => None,
        }
    }

    fn give(self, task: Option<&Task>) {
        // Whoever asked may have gone; that is theirs to notice.
        match self {
            Answer::Said { event, reply } => drop(reply.send(task.and_then(|task| task.pools.machine(machine_of(&event)).cloned()))),
            Answer::Set(reply) => drop(reply.send(())),
        }
    }
}

fn machine_of(event: &Event) -> &str {
    match event {
        Event::Made { id, .. }
        | Event::Refused { id, .. }
        | Event::Unclear { id, .. }
        | Event::Drained { id }
        | Event::TakenAway { id, .. }
        | Event::Remove { id, .. }
        | Event::Keep { id, .. } => id,
        _ => "",
    }
}

/// One life of the loop: everything in it was read from the disk.
struct Task {
    app: App,
    pools: Pools,
    known: HashMap<String, PoolNow>,
    /// What was found of pools' machines, as it is written down.
    found: HashMap<String, String>,
    /// How long the last look took, without what came of it.
    took: Duration,
    /// Ends what this life has under way when it does.
    stop: CancellationToken,
}

impl Drop for Task {
    fn drop(&mut self) {
        self.stop.cancel();
    }
}

impl Task {
    async fn begin(app: &App) -> Result<Task, LookError> {
        let mark = app.records.mark(MARK, &random_word(MARK_LENGTH), clock::now()).await?;
        let mut task = Task {
            app: app.clone(),
            pools: Pools::new(&mark, app.records.machines_there().await?),
            known: HashMap::new(),
            found: HashMap::new(),
            took: Duration::ZERO,
            stop: app.stop.child_token(),
        };
        task.set(app.records.pools().await?);
        Ok(task)
    }

    /// Takes over what pools there are. What is under way with any of them goes on.
    fn set(&mut self, rows: Vec<PoolRow>) {
        self.known.clear();
        self.found.clear();
        let mut pools = Vec::new();
        for row in rows {
            let settings: Result<PoolSettings, _> = serde_json::from_str(&row.settings);
            let settings = settings.map_err(|error| error.to_string());
            let good =
                settings.and_then(|settings| checked(&settings).map(|checked| (settings, checked)).map_err(|error| error.to_string()));
            match good {
                Ok((settings, checked)) => {
                    let pool = pool_of(&row, &checked);
                    let provider = Arc::new(Provider::of(&row.name, &settings, &self.app.settings));
                    self.found.extend(row.found.clone().map(|found| (row.name.clone(), found)));
                    pools.push(pool.clone());
                    self.known.insert(row.name.clone(), PoolNow { row, settings, pool, provider });
                }
                Err(why) => tracing::error!(pool = row.name, why, "a pool's settings cannot be used by this version; it does nothing"),
            }
        }
        self.pools.set_pools(pools);
    }

    fn hands(&self) -> Hands<'_> {
        Hands { app: &self.app, pools: &self.pools, known: &self.known, stop: &self.stop }
    }

    fn has_any(&self) -> bool {
        !self.known.is_empty()
    }

    /// One look: what is wanted and who is there; what to do is written down, done, and shown.
    async fn look(&mut self) -> Result<(), LookError> {
        if !self.has_any() {
            self.publish();
            return Ok(());
        }
        let begun = Instant::now();
        let snapshot = self.app.keeper.snapshot().await?;
        let (wants, seen, now) = (snapshot.wants(), snapshot.seen_runners(), clock::now());
        let effects = self.pools.look(&wants, &seen, &snapshot.left, now, || random_word(NAME_LENGTH));
        let machines = self.pools.take_changed();
        let found = self.newly_found(&machines, &seen);
        let invitations = write(&self.hands(), &machines, &effects, &found, now).await?;
        let ended = self.pools.machines().any(|machine| machine.stage == Stage::Gone);
        self.publish();
        self.took = begun.elapsed();
        for Done { id } in carry_out(&self.hands(), effects, invitations).await? {
            self.pools.apply(Event::Drained { id }, now);
        }
        if ended {
            self.pools.forget_gone();
            let there: Vec<String> = self.pools.pools().iter().map(|pool| pool.name.clone()).collect();
            self.known.retain(|name, _| there.contains(name));
            self.publish();
        }
        Ok(())
    }

    /// What machines that have just come offer, where that is news of their pool. One that was made by older settings says nothing.
    fn newly_found(&mut self, machines: &[Machine], seen: &[Seen]) -> BTreeMap<String, String> {
        let mut found = BTreeMap::new();
        for machine in machines.iter().filter(|machine| matches!(machine.stage, Stage::Registered | Stage::Busy)) {
            let Some(runner) = seen.iter().find(|seen| seen.offer.name == machine.id) else { continue };
            let Some(pool) = self.known.get(&machine.pool).filter(|pool| pool.row.set_at <= machine.wanted_at) else { continue };
            let text = serde_json::to_string(&Found::of(&runner.offer)).unwrap_or_default();
            if text.len() <= FOUND && self.found.get(&pool.row.name) != Some(&text) {
                self.pools.found(&machine.pool, &runner.offer);
                self.found.insert(machine.pool.clone(), text.clone());
                found.insert(machine.pool.clone(), text);
            }
        }
        found
    }

    fn publish(&mut self) {
        for pool in self.pools.pools() {
            if let Some(known) = self.known.get_mut(&pool.name) {
                known.pool = pool.clone();
            }
        }
        let machines = self.pools.machines().map(|machine| (machine.id.clone(), machine.clone())).collect();
        let mut pools: Vec<PoolNow> = self.known.values().cloned().collect();
        pools.sort_by(|a, b| a.row.name.cmp(&b.row.name));
        self.app.pools.publish(Now { pools, machines });
        self.app.keeper.pools.set(self.pools.outlooks().clone());
    }
}

/// Letters and digits that nobody takes for others.
fn random_word(length: usize) -> String {
    const LETTERS: &[u8; 32] = b"abcdefghjkmnpqrstuvwxyz023456789";
    (0..length).map(|_| char::from(LETTERS[usize::from(rand::random::<u8>() & 31)])).collect()
}

/// Writes down the pools of the configuration. One that is not there any more ends.
pub(crate) async fn take_configured(records: &Records, settings: &Settings, now: i64) -> Result<(), StoreError> {
    let known = records.pools().await?;
    let mut tx = records.tx_by_rule("configuration", now).await?;
    for (name, wanted) in &settings.pools {
        let text = serde_json::to_string(wanted).map_err(|_| StoreError::Value("pools.settings"))?;
        let same = known.iter().any(|row| row.name == *name && row.settings == text && row.from_file && !row.ended);
        if !same {
            tx.set_pool(name, &text, true, "configuration").await?;
        }
    }
    for row in known.iter().filter(|row| row.from_file && !row.ended && !settings.pools.contains_key(&row.name)) {
        tx.end_pool(&row.name).await?;
    }
    tx.commit().await
}
