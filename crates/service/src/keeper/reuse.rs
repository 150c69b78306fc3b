//! Results of earlier runs that jobs take over: looked for when a job is queued, noted when one has passed.
//!
//! Only what trusted runs did is noted: a proposal from outside may take over their results, and leaves none.

use super::artifact::CompleteArtifact;
use super::ready::{Kept, Looked, MARGIN_MS, Ready, globs_of, looked_up};
use super::room::Room;
use ordotaxis_core::digest::{differences, key, why_not};
use ordotaxis_core::engine::{Event, State};
use ordotaxis_store::ReusableRow;
use std::collections::BTreeMap;

/// How many results of a job are remembered.
const MOST: usize = 20;

impl Room {
    /// Results of earlier runs, from now on ready to be taken over.
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

    /// An artifact was pinned, or let go: what is remembered of it must not outlive it.
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
        let Some(live) = self.runs.get(&id) else { return };
        let state = &live.run.jobs()[job];
        if state.state() != State::Queued || state.attempt > 0 && !state.fresh && state.retries > 0 {
            return;
        }
        let Some(parts) = looked_up(&live.info, &live.run, &live.given, job) else { return };
        let (work, fresh) = (key(&parts), state.fresh);
        let plan = live.run.plan().clone();
        let known = self.reusable.get(&(live.info.project_id, plan.pipeline.clone(), plan.jobs[job].id.to_string()));
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
        // Who did not ask for that need not be told why nothing was taken over.
        if globs_of(&plan.jobs[job]).is_some()
            && let Some(live) = self.live(id)
        {
            live.looked.insert(job, Looked { work, not_reused });
        }
        self.touched.jobs.insert((id, job));
        let Some(ready) = found else { return };
        for artifact in ready.artifacts {
            self.keep_artifact(id, job, CompleteArtifact { bytes: 0, ..artifact }, now);
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
        let Some(live) = self.runs.get(&id) else { return };
        if live.run.plan().occasion.is_from_outside() {
            return;
        }
        let Some(parts) = looked_up(&live.info, &live.run, &live.given, job) else { return };
        let (plan, state) = (live.run.plan(), &live.run.jobs()[job]);
        let artifacts: Vec<CompleteArtifact> =
            live.given.iter().filter(|((giver, _), _)| *giver == job).map(|(_, artifact)| artifact.clone()).collect();
        let mut numbers = serde_json::to_value(&state.numbers).unwrap_or_default();
        numbers["given"] = artifacts.len().into();
        let keep = |name: &str| {
            let give = plan.jobs[job].gives.iter().find(|give| give.artifact == name);
            give.and_then(|give| give.keep_ms).and_then(|ms| i64::try_from(ms).ok()).unwrap_or(self.terms.keep)
        };
        let row = ReusableRow {
            project_id: live.info.project_id,
            pipeline: plan.pipeline.clone(),
            job: plan.jobs[job].id.to_string(),
            key: key(&parts),
            parts: serde_json::to_string(&parts).unwrap_or_default(),
            run_id: id,
            job_number: i64::try_from(job).unwrap_or(i64::MAX),
            run: live.name(),
            facts: serde_json::to_string(&state.facts).unwrap_or_default(),
            numbers: numbers.to_string(),
            at: now,
        };
        let kept = |artifact: &CompleteArtifact| Kept {
            name: artifact.name.clone(),
            until: now.saturating_add(keep(&artifact.name)),
            pinned: false,
        };
        let kept = artifacts.iter().map(kept).collect();
        self.touched.rows.reusable.push(row.clone());
        self.remember(Ready { row, parts, artifacts, kept });
    }
}
