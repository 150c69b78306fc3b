//! What attempts report: phases, facts and numbers, artifacts, and how they ended.

use super::artifact::CompleteArtifact;
use super::refused::Stale;
use super::room::{Finished, Room};
use ordotaxis_core::engine::{Event, Numbers, State};
use ordotaxis_store::{StoredArtifact, Took};
use ordotaxis_wire::run::PhaseView;
use ordotaxis_wire::runner::{AttemptId, Claimed, Finish};
use std::collections::BTreeMap;
use std::sync::Arc;
use tokio::sync::oneshot;

/// So many characters of what a check was answered are kept.
const ANSWER: usize = 1_000;

impl Room {
    /// Which phases an attempt has been through so far; replaces what was sent before.
    pub(super) fn phases(&mut self, runner: &str, attempt: AttemptId, phases: &[PhaseView], now: i64) -> Result<(), Stale> {
        self.held.get_of(runner, attempt).ok_or(Stale)?;
        self.work_begun(attempt, now);
        let held = self.held.get_of(runner, attempt).ok_or(Stale)?;
        held.row.phases = serde_json::to_string(phases).unwrap_or_else(|_| "[]".into());
        self.touched.attempts.insert(attempt, held.row.clone());
        self.note_job(attempt.run, attempt.job);
        Ok(())
    }

    /// Facts and numbers that an attempt left for later jobs.
    pub(super) fn said(
        &mut self,
        runner: &str,
        attempt: AttemptId,
        facts: BTreeMap<String, String>,
        numbers: Numbers,
        now: i64,
    ) -> Result<(), Stale> {
        self.held.get_of(runner, attempt).ok_or(Stale)?;
        self.work_begun(attempt, now);
        let event = Event::Said { job: attempt.job, attempt: attempt.attempt, facts, numbers };
        self.apply(attempt.run, &event, now).map_err(|_| Stale)
    }

    /// An attempt has ended. Answers with the slot's next leases where it asked for them; a repeat is answered like the first.
    pub(super) fn finish(
        &mut self,
        runner: &str,
        attempt: AttemptId,
        finish: Finish,
        artifacts: Vec<CompleteArtifact>,
        reply: oneshot::Sender<Result<Claimed, Stale>>,
        now: i64,
    ) {
        if self.session(runner, &finish.session).is_err() {
            return self.answer(reply, Err(Stale));
        }
        let (slot, claim, wants, known) = (finish.slot, finish.claim, finish.ahead, finish.holding.clone());
        let ended = self.end(runner, attempt, finish, artifacts, now);
        let mut claimed = self.holds(runner, slot, &known, now);
        if let Err(stale) = ended {
            return self.answer(reply, Err(stale));
        }
        if claim && self.held.of_slot(runner, slot).is_empty() {
            claimed.lease = self.next_for(runner, slot, now);
        }
        let wants = wants && claimed.ahead.is_none();
        self.finished.push(Finished { runner: runner.to_owned(), slot, claimed, wants, reply });
    }

    fn end(&mut self, runner: &str, attempt: AttemptId, finish: Finish, artifacts: Vec<CompleteArtifact>, now: i64) -> Result<(), Stale> {
        let Finish { outcome, exit_code, ref why, .. } = finish;
        let event = Event::Ended { job: attempt.job, attempt: attempt.attempt, outcome, exit_code, why: why.clone() };
        match self.held.get(attempt) {
            Some(held) if held.row.runner == runner => {}
            Some(_) => return Err(Stale),
            // Not held: a repeat of a result that counted, or a result that comes too late. The engine knows, unless
            // the run has ended and left; then it was a repeat of the last result, which changes nothing.
            None if self.runs.contains_key(&attempt.run) => return self.apply(attempt.run, &event, now).map_err(|_| Stale),
            None => return Ok(()),
        }
        artifacts.into_iter().for_each(|artifact| self.keep_artifact(attempt.run, attempt.job, artifact, now));
        if let (Some(answer), Some(live)) = (&finish.answer, self.live(attempt.run)) {
            live.answers.insert(attempt.job, answer.chars().take(ANSWER).collect());
        }
        self.apply(attempt.run, &event, now).map_err(|_| Stale)?;
        if let Some(mut row) = self.release(attempt) {
            let state = self.runs.get(&attempt.run).map_or(State::Failed, |live| live.run.jobs()[attempt.job].state());
            // A job that is tried again is queued; its attempt failed.
            row.state = if state.is_end() { state } else { State::Failed }.word().into();
            if state == State::Passed {
                self.note_result(attempt.run, attempt.job, now);
                self.note_time(attempt, now - row.started_at, &finish.tests);
            }
            row.why = finish.why;
            row.exit_code = finish.exit_code;
            row.ended_at = Some(now);
            row.phases = serde_json::to_string(&finish.phases).unwrap_or_else(|_| "[]".into());
            row.caches = serde_json::to_string(&finish.caches).unwrap_or_else(|_| "[]".into());
            self.touched.attempts.insert(attempt, row);
        }
        Ok(())
    }

    /// Writes down what a job has given.
    pub(super) fn keep_artifact(&mut self, run: i64, job: usize, artifact: CompleteArtifact, now: i64) {
        let Some(live) = self.runs.get_mut(&run).map(Arc::make_mut) else { return };
        let give = live.run.plan().jobs[job].gives.iter().find(|give| give.artifact == artifact.name);
        let kept = give.and_then(|give| give.keep_ms).and_then(|ms| i64::try_from(ms).ok()).unwrap_or(self.terms.keep);
        self.touched.rows.artifacts.push(StoredArtifact {
            run_id: run,
            job: i64::try_from(job).unwrap_or(i64::MAX),
            name: artifact.name.clone(),
            digest: artifact.digest.clone(),
            bytes: artifact.bytes,
            files: artifact.files,
            tree: Some(artifact.tree.clone()),
            raw_bytes: artifact.raw_bytes,
            content: artifact.content.clone(),
            kept_until: Some(now.saturating_add(kept)),
            pinned_by: None,
        });
        live.given.insert((job, artifact.name.clone()), artifact);
    }

    /// How long a job that passed took, and its tests by their own word.
    fn note_time(&mut self, attempt: AttemptId, ms: i64, tests: &BTreeMap<String, i64>) {
        let Some(live) = self.runs.get(&attempt.run) else { return };
        let plan = live.run.plan();
        let id = &plan.jobs[attempt.job].id;
        let took = |job: &str, file: Option<String>, ms: i64| Took {
            project_id: live.info.project_id,
            pipeline: plan.pipeline.clone(),
            job: job.to_owned(),
            file,
            ms: ms.max(0),
        };
        let tests = tests.iter().map(|(file, ms)| took(id.without_cell(), Some(file.clone()), *ms));
        self.touched.rows.took.extend([took(id.as_str(), None, ms)].into_iter().chain(tests));
    }
}
