//! Results of earlier runs that jobs take over: looked for when a job is queued, noted when one has passed.
//!
//! Only what trusted runs did is noted: a proposal from outside may take over their results, and leaves none.

use super::room::Room;
use super::{Gift, RunInfo};
use crate::secrets::from_outside;
use ordotaxis_core::digest::{Before, Parts, differences, key, parts, why_not};
use ordotaxis_core::engine::{Event, Run, State};
use ordotaxis_core::plan::PlannedJob;
use ordotaxis_store::{Records, ReusableRow, StoreError};
use std::collections::BTreeMap;

/// Globs, joined by line ends → path → digest: the files that jobs with `reuse` name.
pub(crate) type Inputs = BTreeMap<String, BTreeMap<String, String>>;

/// How long artifacts must still be kept for their job's result to be taken over: longer than any run's start.
const MARGIN_MS: i64 = 60 * 60 * 1000;
/// How many results of a job are kept in mind.
const MOST: usize = 20;

/// A result that can be taken over.
#[derive(Debug, Clone)]
pub(crate) struct Ready {
    row: ReusableRow,
    parts: Parts,
    gifts: Vec<Gift>,
    kept: Vec<Kept>,
}

/// How long an artifact is kept.
#[derive(Debug, Clone)]
struct Kept {
    name: String,
    until: i64,
    /// For good, as long as it is pinned.
    pinned: bool,
}

impl Ready {
    /// Whether all its artifacts stay until then.
    fn stays_until(&self, moment: i64) -> bool {
        self.kept.iter().all(|kept| kept.pinned || kept.until > moment)
    }
}

/// What is known of a job's reuse, for its row.
#[derive(Debug, Clone, Default)]
pub(super) struct Looked {
    pub(super) work: String,
    pub(super) not_reused: Option<String>,
}

impl Looked {
    /// As it was written down; none where nothing was looked for.
    pub(super) fn of(row: &ordotaxis_store::JobRow) -> Option<Looked> {
        Some(Looked { work: row.work.clone()?, not_reused: row.not_reused.clone() })
    }
}

/// The name of a list of globs.
pub(crate) fn globs_of(job: &PlannedJob) -> Option<String> {
    job.extras.as_ref()?.reuse.as_ref().map(|globs| globs.join("\n"))
}

/// Reads what jobs of a plan could take over.
pub(crate) async fn ready(records: &Records, project_id: i64, pipeline: &str, jobs: &[PlannedJob]) -> Result<Vec<Ready>, StoreError> {
    let mut all = Vec::new();
    for job in jobs.iter().filter(|job| globs_of(job).is_some()) {
        for row in records.reusable(project_id, pipeline, job.id.as_str()).await? {
            let (mut kept, mut gifts) = (Vec::new(), Vec::new());
            for artifact in records.artifacts(row.run_id).await?.into_iter().filter(|artifact| artifact.job == row.job_number) {
                let (until, pinned) = (artifact.kept_until.unwrap_or(i64::MAX), artifact.pinned_by.is_some());
                kept.push(Kept { name: artifact.name.clone(), until, pinned });
                gifts.extend(super::task::gift(artifact));
            }
            // What it gave was swept away: then there is nothing to take over.
            if gifts.len() < given_count(&row) {
                continue;
            }
            let parts = serde_json::from_str(&row.parts).map_err(|_| StoreError::Value("reusable.parts"))?;
            all.push(Ready { row, parts, gifts, kept });
        }
    }
    Ok(all)
}

/// How many artifacts a result had: kept with its numbers, so that a missing one is noticed.
fn given_count(row: &ReusableRow) -> usize {
    let numbers: serde_json::Value = serde_json::from_str(&row.numbers).unwrap_or_default();
    numbers["given"].as_u64().and_then(|count| usize::try_from(count).ok()).unwrap_or(0)
}

fn looked_up(info: &RunInfo, run: &Run, given: &super::lease::Given, job: usize) -> Option<Parts> {
    let plan = run.plan();
    let planned = &plan.jobs[job];
    let globs = globs_of(planned)?;
    if planned.extras.as_ref().is_some_and(|extras| extras.deploys.is_some()) {
        return None;
    }
    let cells = planned.takes.iter().flat_map(|take| (take.job..take.job + take.cells).map(move |from| (take, from)));
    let takes = cells.map(|(take, from)| {
        let content = given.get(&(from, take.artifact.clone())).map(|gift| gift.content.clone());
        (format!("{}/{}", plan.jobs[from].id, take.artifact), content)
    });
    let inputs = plan.occasion.inputs.iter().chain(&run.jobs()[job].inputs).map(|(name, value)| (name.as_str(), value.as_str()));
    let facts = || run.facts_for(job).into_iter().map(|((stage, job, name), value)| (format!("{stage}.{job}.{name}"), Some(value)));
    let before = Before {
        files: info.inputs.get(&globs).cloned().unwrap_or_default(),
        takes: takes.collect(),
        inputs: inputs.collect(),
        facts: if planned.late { facts().collect() } else { Vec::new() },
    };
    Some(parts(plan, planned, &before))
}

impl Room {
    pub(super) fn learn(&mut self, ready: Vec<Ready>) {
        for one in ready {
            self.remember(one);
        }
    }

    fn remember(&mut self, one: Ready) {
        let known = self.reusable.entry((one.row.project_id, one.row.pipeline.clone(), one.row.job.clone())).or_default();
        known.retain(|other| other.row.key != one.row.key);
        let at = known.partition_point(|other| other.row.at > one.row.at);
        known.insert(at, one);
        known.truncate(MOST);
    }

    /// An artifact was pinned, or let go: what is kept in mind of it must not outlive it.
    pub(super) fn pinned(&mut self, run: i64, job: i64, name: &str, pinned: bool) {
        for ready in self.reusable.values_mut().flatten().filter(|ready| (ready.row.run_id, ready.row.job_number) == (run, job)) {
            ready.kept.iter_mut().filter(|kept| kept.name == name).for_each(|kept| kept.pinned = pinned);
        }
    }

    /// Takes over results for jobs that were just queued, and for those that this queues in turn.
    pub(super) fn reuse(&mut self, now: i64) {
        while let Some((id, job)) = self.just_queued.pop() {
            self.try_reuse(id, job, now);
        }
    }

    fn try_reuse(&mut self, id: i64, job: usize, now: i64) {
        let Some(going) = self.runs.get(&id) else { return };
        let state = &going.run.jobs()[job];
        if state.state != State::Queued || state.attempt > 0 && !state.fresh && state.retries > 0 {
            return;
        }
        let Some(parts) = looked_up(&going.info, &going.run, &going.given, job) else { return };
        let (work, fresh) = (key(&parts), state.fresh);
        let plan = going.run.plan().clone();
        let known = self.reusable.get(&(going.info.project_id, plan.pipeline.clone(), plan.jobs[job].id.to_string()));
        let known = known.map(Vec::as_slice).unwrap_or_default();
        let same = known.iter().find(|ready| ready.row.key == work);
        let found = same.filter(|ready| !fresh && ready.stays_until(now + MARGIN_MS)).cloned();
        let not_reused = match (&found, same, known.first()) {
            (Some(_), ..) => None,
            _ if fresh => Some("asked for with nothing kept from before".to_owned()),
            (None, Some(same), _) => Some(format!("what it gave in {} is not kept long enough any more", same.row.run)),
            (None, None, Some(last)) => Some(why_not(&differences(&last.parts, &parts), &last.row.run)),
            (None, None, None) => Some("no earlier run has passed it".to_owned()),
        };
        if let Some(going) = self.runs.get_mut(&id) {
            going.looked.insert(job, Looked { work, not_reused });
        }
        self.touched.jobs.insert((id, job));
        let Some(ready) = found else { return };
        for gift in ready.gifts {
            self.keep_gift(id, job, Gift { bytes: 0, ..gift }, now);
        }
        let read = |text: &str| serde_json::from_str(text).unwrap_or_default();
        let numbers: BTreeMap<String, serde_json::Value> = serde_json::from_str(&ready.row.numbers).unwrap_or_default();
        let numbers = numbers.into_iter().filter_map(|(name, value)| Some((name, serde_json::from_value(value).ok()?))).collect();
        let event = Event::Reused { job, from: ready.row.run.clone(), facts: read(&ready.row.facts), numbers };
        if self.apply(id, &event, now).is_ok() {
            let number = i64::try_from(job).unwrap_or(i64::MAX);
            self.touched.rows.taken_over.push((id, number, ready.row.run_id, ready.row.job_number));
        }
    }

    /// Notes the result of a job that has passed, for later runs.
    pub(super) fn note_result(&mut self, id: i64, job: usize, now: i64) {
        let Some(going) = self.runs.get(&id) else { return };
        if from_outside(&going.run.plan().occasion) {
            return;
        }
        let Some(parts) = looked_up(&going.info, &going.run, &going.given, job) else { return };
        let (plan, state) = (going.run.plan(), &going.run.jobs()[job]);
        let gifts: Vec<Gift> = going.given.iter().filter(|((giver, _), _)| *giver == job).map(|(_, gift)| gift.clone()).collect();
        let mut numbers = serde_json::to_value(&state.numbers).unwrap_or_default();
        numbers["given"] = gifts.len().into();
        let keep = |name: &str| {
            let give = plan.jobs[job].gives.iter().find(|give| give.artifact == name);
            give.and_then(|give| give.keep_ms).and_then(|ms| i64::try_from(ms).ok()).unwrap_or(self.keep)
        };
        let row = ReusableRow {
            project_id: going.info.project_id,
            pipeline: plan.pipeline.clone(),
            job: plan.jobs[job].id.to_string(),
            key: key(&parts),
            parts: serde_json::to_string(&parts).unwrap_or_default(),
            run_id: id,
            job_number: i64::try_from(job).unwrap_or(i64::MAX),
            run: going.name(),
            facts: serde_json::to_string(&state.facts).unwrap_or_default(),
            numbers: numbers.to_string(),
            at: now,
        };
        let kept = |gift: &Gift| Kept { name: gift.name.clone(), until: now.saturating_add(keep(&gift.name)), pinned: false };
        let kept = gifts.iter().map(kept).collect();
        self.touched.rows.reusable.push(row.clone());
        self.remember(Ready { row, parts, gifts, kept });
    }
}
