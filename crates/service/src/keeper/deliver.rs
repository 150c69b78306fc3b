//! Jobs that deploy: what runs tell environments, written down in the step that makes it so, and what environments say to runs.

use super::room::Room;
use crate::release::ReleaseWork;
use ordotaxis_core::delivery::Effect;
use ordotaxis_core::engine::{Back, Event, State};
use ordotaxis_store::{NewWork, WorkKind};
use serde::{Deserialize, Serialize};

/// A piece of work for an environment, which is its row's lane; the body of the row, version 1.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(tag = "delivery", rename_all = "snake_case")]
pub(crate) enum DeliveryWork {
    /// A job is ready to be put there, since this moment.
    Wants {
        run: i64,
        job: usize,
        asked_at: i64,
        /// Why what was there before is to be put there again.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        undo: Option<String>,
    },
    /// A job that deploys there has ended, let in or not.
    Ended { run: i64, job: usize, state: State, why: Option<String>, back: bool, answer: Option<String>, at: i64 },
    /// Something that the environment asks for. `asked_at`: since when the job was ready.
    Effect { effect: Effect, asked_at: i64 },
    /// Something around it changed.
    Look,
    /// Someone lets a job in past the rules.
    Urgent { run: i64, job: usize },
    /// What a run made was put there well: it may go on by itself.
    GoOn { run: i64 },
}

impl DeliveryWork {
    /// Its row, for an environment.
    pub(crate) fn row(&self, project_id: i64, environment: &str) -> NewWork {
        let body = serde_json::to_string(self).unwrap_or_default();
        NewWork { kind: WorkKind::Delivery, project_id, lane: environment.to_owned(), once: None, body }
    }
}

impl Room {
    /// A job wants into its environment. One whose `deploys` makes no name is refused.
    pub(super) fn wants_in(&mut self, run: i64, job: usize, now: i64) {
        let Some(live) = self.runs.get(&run) else { return };
        match live.run.environment(job) {
            Some(Ok(environment)) => {
                let asked_at = live.run.jobs()[job].since;
                let undo = if let Back::Goes { why } = &live.run.jobs()[job].back { Some(why.clone()) } else { None };
                let row = DeliveryWork::Wants { run, job, asked_at, undo }.row(live.info.project_id, &environment);
                self.touched.rows.work.push(row);
            }
            Some(Err(why)) => drop(self.apply(run, &Event::Refused { job, why }, now)),
            None => {}
        }
    }

    /// A job has changed: where it deploys and has ended, its environment is told. `withdrawn`: it was skipped when it had asked
    /// to go in, or had been let in.
    pub(super) fn tell_environment(&mut self, run: i64, job: usize, withdrawn: bool, now: i64) {
        let Some(live) = self.runs.get(&run) else { return };
        let entry = &live.run.jobs()[job];
        // One that never was ready was never asked for.
        if !entry.state().is_end() || entry.state() == State::Skipped && !withdrawn {
            return;
        }
        if let Some(Ok(environment)) = live.run.environment(job) {
            let (state, why) = (entry.state(), entry.why().map(Into::into));
            let (back, answer) = (entry.back == Back::Done, live.answers.get(&job).cloned());
            let row = DeliveryWork::Ended { run, job, state, why, back, answer, at: now }.row(live.info.project_id, &environment);
            self.touched.rows.work.push(row);
        }
    }

    /// A job has changed: where it has passed and makes a release, that is written down as work.
    pub(super) fn releases(&mut self, run: i64, job: usize) {
        let Some(live) = self.runs.get(&run).filter(|live| live.run.jobs()[job].state() == State::Passed) else { return };
        if live.run.plan().jobs[job].extras.as_ref().is_some_and(|extras| extras.releases.is_some()) {
            let row = ReleaseWork::Make { run, job }.row(live.info.project_id);
            self.touched.rows.work.push(row);
        }
    }

    /// What an environment says to a job that was ready at `asked_at`. Of one that is not any more there is nothing to do:
    /// its end, or its being ready once more, is told to the environment after this.
    pub(super) fn delivered(&mut self, run: i64, job: usize, asked_at: i64, event: &Event, now: i64) {
        let same = |live: &super::live::LiveRun| live.run.jobs().get(job).is_some_and(|entry| entry.since == asked_at);
        if self.runs.get(&run).is_some_and(|live| same(live)) {
            // What is not ready any more takes no notice.
            let _ = self.apply(run, event, now);
        }
    }
}
