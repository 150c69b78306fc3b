//! Runs are begun, changed, stopped, started by hand, done again, overtaken, forgotten. The engine decides; here is noted
//! what it changed.

use super::artifact::Given;
use super::command::Carried;
use super::info::RunInfo;
use super::live::{LiveRun, Times};
use super::refused::{AgainRefused, StartRefused, StopRefused};
use super::room::Room;
use super::waits::Noted;
use crate::events::{self, Of};
use crate::sentence::{Summary, sentence};
use ordotaxis_core::access::{Action, Actor};
use ordotaxis_core::engine::{Event, Progress, Refused, Run, State, Usual};
use ordotaxis_core::language::nearest;
use ordotaxis_core::plan::{Event as Happened, Plan};
use ordotaxis_store::{Entry, NewEvent, NewNumber, RunChange};
use ordotaxis_wire::run::LiveEvent;
use ordotaxis_wire::runner::AttemptId;
use std::collections::BTreeMap;
use std::sync::Arc;

/// A job by its id, or by the id without its cell: then all its cells.
fn jobs_named(plan: &Plan, name: &str) -> Vec<usize> {
    let exact = plan.jobs.iter().position(|job| job.id.as_str() == name);
    match exact {
        Some(job) => vec![job],
        None => (0..plan.jobs.len()).filter(|&job| plan.jobs[job].id.without_cell() == name).collect(),
    }
}

fn ids(plan: &Plan) -> Vec<String> {
    plan.jobs.iter().map(|job| job.id.to_string()).collect()
}

impl Room {
    /// A run that was just written down goes on from here. One that is known already is left as it is.
    pub(super) fn begin(&mut self, info: RunInfo, plan: Arc<Plan>, usual: &Usual, carried: Option<Carried>, now: i64) {
        let id = info.id;
        if self.runs.contains_key(&id) {
            return; // it was read back from storage before this command arrived
        }
        let (mut run, given) = match carried {
            Some(Carried { jobs, given }) => (Run::restore(plan, jobs, State::Waiting), given),
            None => (Run::new(plan, now), Given::new()),
        };
        if info.fresh {
            run.make_fresh();
        }
        self.runs.insert(id, Arc::new(LiveRun::new(info, run, given, Times::default(), usual)));
        let _ = self.apply(id, &Event::Begun, now);
        self.overtake(id, now);
    }

    /// Lets the engine apply an event and notes what changed.
    pub(super) fn apply(&mut self, id: i64, event: &Event, now: i64) -> Result<(), Refused> {
        let live = self.live(id).ok_or(Refused::Stale)?;
        let effects = live.run.apply(event, now)?;
        for &job in &effects.changed {
            self.place(id, job, now);
            self.note_job(id, job);
            self.note_wait(id, job, now);
            self.tell_environment(id, job, effects.withdrawn.contains(&job), now);
            self.releases(id, job);
            let queued = self.runs.get(&id).is_some_and(|live| live.run.jobs()[job].state() == State::Queued);
            if queued {
                self.just_queued.push((id, job));
            }
        }
        for &job in &effects.wants {
            self.wants_in(id, job, now);
        }
        for &(job, attempt) in &effects.stop {
            let attempt = AttemptId { run: id, job, attempt };
            let session = self.held.get(attempt).and_then(|held| self.sessions.get(&held.row.runner));
            if let Some(session) = session {
                session.news.notify_one();
            }
        }
        if effects.run_changed {
            self.run_changed(id, now);
        } else if !effects.changed.is_empty() {
            self.said_anew(id, now);
        }
        Ok(())
    }

    /// A run's own state is another: its row, its event, and what is remembered of a run that has ended.
    fn run_changed(&mut self, id: i64, now: i64) {
        let Some(live) = self.runs.get_mut(&id).map(Arc::make_mut) else { return };
        let state = live.run.state();
        live.times.change(state.is_end(), now);
        let Times { started, ended, rest_ms } = live.times;
        let summary = Summary::of(&live.run);
        let took = live.times.took(now);
        let sentence = sentence(state, &summary, took, None);
        let of = Of::info(&live.info, &live.run.plan().pipeline);
        self.touched.rows.events.push(events::of_run(&of, state, &sentence, started, ended));
        let why = ended.map(|_| sentence);
        self.touched.rows.runs.push(RunChange { id, state, why, started, ended, rest_ms });
        if ended.is_some() {
            self.touched.ended.push(id);
            let (project_id, pipeline) = (live.info.project_id, live.run.plan().pipeline.clone());
            let numbers = live.run.numbers().into_iter().filter_map(|(name, number)| {
                Some(NewNumber { project_id, pipeline: pipeline.clone(), name, run_id: id, value: number.value()? })
            });
            self.touched.rows.numbers.extend(numbers);
        }
    }

    /// A job of a run that has its verdict changed, and the verdict did not: what is said of the run may be otherwise.
    fn said_anew(&mut self, id: i64, now: i64) {
        let Some(live) = self.runs.get(&id).filter(|live| live.run.state().is_end()) else { return };
        let Times { started, ended, rest_ms } = live.times;
        let state = live.run.state();
        let why = Some(sentence(state, &Summary::of(&live.run), live.times.took(now), None));
        self.touched.rows.runs.push(RunChange { id, state, why, started, ended, rest_ms });
    }

    /// Notes that a job changed: its row is to be written, and an event added. Events keep the order in which things happened.
    pub(super) fn note_job(&mut self, id: i64, job: usize) {
        let Some(live) = self.runs.get(&id) else { return };
        let state = &live.run.jobs()[job];
        let id_of_job = live.run.plan().jobs[job].id.clone();
        let event = LiveEvent { run: live.name(), state: state.state(), job: Some(id_of_job), why: state.why().map(Into::into) };
        let body = serde_json::to_string(&event).unwrap_or_default();
        self.touched.rows.events.push(NewEvent { run_id: id, body, detail: None });
        self.touched.jobs.insert((id, job));
    }

    /// What the job waited for is over when it is at something else now.
    fn note_wait(&mut self, id: i64, job: usize, now: i64) {
        let Some(live) = self.runs.get(&id) else { return };
        let progress = &live.run.jobs()[job].progress;
        let queued = matches!(progress, Progress::Queued { not_before: None, .. });
        let taken = queued && live.turn(job).and_then(|turn| self.turns.holder(&turn)).is_some_and(|holder| holder != (id, job));
        let next = Noted::next(live.noted[job], progress, taken, now, &mut self.touched.counted);
        if let (Some(next), Some(live)) = (next, self.live(id)) {
            live.noted[job] = next;
        }
    }

    /// Notes for the journal what someone did to a run.
    pub(super) fn journal(&mut self, by: &Actor, action: Action, id: i64, jobs: &[String]) {
        let Some(live) = self.runs.get(&id) else { return };
        let object = if jobs.is_empty() { live.name() } else { format!("{} {}", live.name(), jobs.join(", ")) };
        self.touched.rows.entries.push((by.clone(), Entry::new(action, object).of(&live.info.project)));
    }

    /// Lets go of all runs of a project that is removed; their runners are answered that the attempts are unknown.
    pub(super) fn forget(&mut self, project_id: i64) {
        let gone: Vec<i64> = self.runs.values().filter(|live| live.info.project_id == project_id).map(|live| live.info.id).collect();
        self.forget_runs(&gone);
    }

    /// Runs that are not there any more: their results are not taken over, and nothing of them is begun.
    pub(super) fn dropped(&mut self, runs: &[i64]) {
        self.reusable.values_mut().for_each(|known| known.retain(|ready| !runs.contains(&ready.row.run_id)));
        self.forget_runs(runs);
    }

    fn forget_runs(&mut self, gone: &[i64]) {
        let queued: Vec<(i64, usize)> = self.queue.keys().filter(|(run, _)| gone.contains(run)).collect();
        let queue = Arc::make_mut(&mut self.queue);
        queued.into_iter().for_each(|key| queue.remove(key));
        self.pauses.retain(|(_, run, _)| !gone.contains(run));
        self.turns.forget(gone);
        let held: Vec<AttemptId> = self.held.iter().map(|(attempt, _)| attempt).filter(|attempt| gone.contains(&attempt.run)).collect();
        for attempt in held {
            self.release(attempt);
        }
        for id in gone {
            self.runs.remove(id);
        }
    }

    /// Stops a run, or its jobs of this name. What has ended stays as it is.
    pub(super) fn stop(&mut self, id: i64, job: Option<&str>, by: &str, now: i64) -> Result<(), StopRefused> {
        let live = self.runs.get(&id).ok_or(StopRefused::RunEnded)?;
        let plan = live.run.plan().clone();
        let Some(name) = job else {
            let _ = self.apply(id, &Event::StopAsked { job: None, by: by.to_owned() }, now);
            return Ok(());
        };
        let jobs = jobs_named(&plan, name);
        if jobs.is_empty() {
            return Err(StopRefused::NoSuchJob(ids(&plan)));
        }
        for job in jobs {
            let _ = self.apply(id, &Event::StopAsked { job: Some(job), by: by.to_owned() }, now);
        }
        Ok(())
    }

    /// Starts a job that starts by hand only, with the inputs that it asks for.
    pub(super) fn start_job(
        &mut self,
        id: i64,
        name: &str,
        by: &str,
        inputs: BTreeMap<String, String>,
        now: i64,
    ) -> Result<(), StartRefused> {
        let live = self.runs.get(&id).ok_or(StartRefused::NoSuchRun)?;
        let plan = live.run.plan().clone();
        let jobs = jobs_named(&plan, name);
        if jobs.is_empty() {
            return Err(StartRefused::NoSuchJob(ids(&plan)));
        }
        fit_inputs(&plan, &inputs).map_err(StartRefused::Inputs)?;
        // Of several cells those are started that still can be.
        let start = |job: usize| Event::StartAsked { job, by: by.to_owned(), inputs: inputs.clone() };
        let refused: Vec<(usize, Refused)> =
            jobs.iter().filter_map(|&job| self.apply(id, &start(job), now).err().map(|why| (job, why))).collect();
        if refused.len() < jobs.len() {
            return Ok(());
        }
        let shut = refused.iter().find(|(_, why)| *why == Refused::Shut);
        let gate = shut.and_then(|(job, _)| self.runs.get(&id)?.run.gate_before(*job));
        Err(gate.map_or(StartRefused::NotByHand, StartRefused::Shut))
    }

    /// Puts jobs of a run back to the beginning, and what follows them; with no names, all that did not end well.
    pub(super) fn again(&mut self, id: i64, names: &[String], by: String, fresh: bool, now: i64) -> Result<(), AgainRefused> {
        let live = self.runs.get(&id).ok_or(AgainRefused::NoSuchRun)?;
        let plan = live.run.plan().clone();
        let mut jobs = Vec::new();
        for name in names {
            let named = jobs_named(&plan, name);
            if named.is_empty() {
                return Err(AgainRefused::NoSuchJob(name.clone(), ids(&plan)));
            }
            jobs.extend(named);
        }
        match self.apply(id, &Event::Again { jobs, by, fresh }, now) {
            Ok(()) => Ok(()),
            Err(Refused::NotEnded) => Err(AgainRefused::NotEnded),
            Err(_) => Err(AgainRefused::NothingFailed),
        }
    }

    /// A newer commit of the same branch or proposal makes older runs that still go on pointless; one that was looked at
    /// late is such an older run itself.
    pub(super) fn overtake(&mut self, id: i64, now: i64) {
        let Some(newer) = self.runs.get(&id) else { return };
        let (plan, info) = (newer.run.plan().clone(), newer.info.clone());
        let occasion = &plan.occasion;
        let pushed = matches!(occasion.event(), Happened::Push | Happened::Proposal);
        if !pushed || plan.keeps_older || info.again_of.is_some() {
            return;
        }
        if let Some(by) = &info.behind {
            if !by.is_empty() {
                let _ = self.apply(id, &Event::Overtaken { by: by.clone() }, now);
            }
            return;
        }
        let same = |other: &Plan| {
            let theirs = &other.occasion;
            other.pipeline == plan.pipeline
                && theirs.event() == occasion.event()
                && theirs.branch() == occasion.branch()
                && theirs.source() == occasion.source()
                && theirs.target() == occasion.target()
        };
        let older = self.runs.values().filter(|live| {
            live.info.project_id == info.project_id && live.info.id < id && live.info.commit != info.commit && same(live.run.plan())
        });
        let older: Vec<i64> = older.map(|live| live.info.id).collect();
        let by = format!("{}/{}", info.project, info.number);
        for run in older {
            let _ = self.apply(run, &Event::Overtaken { by: by.clone() }, now);
        }
    }
}

/// Inputs that the pipeline asks for, with values that they may have.
fn fit_inputs(plan: &Plan, inputs: &BTreeMap<String, String>) -> Result<(), String> {
    for (name, value) in inputs {
        let Some(choices) = plan.inputs.get(name) else {
            let known: Vec<&str> = plan.inputs.keys().map(String::as_str).collect();
            let hint = match nearest(name, known.iter().copied()) {
                Some(near) => format!("did you mean `{near}`?"),
                None if known.is_empty() => "it asks for none".into(),
                None => format!("it asks for: {}", known.join(", ")),
            };
            return Err(format!("the pipeline asks for no input `{name}`; {hint}"));
        };
        if !choices.is_empty() && !choices.contains(value) {
            return Err(format!("input `{name}` cannot be `{value}`; choices are: {}", choices.join(", ")));
        }
    }
    Ok(())
}
