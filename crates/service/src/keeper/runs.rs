//! Runs are begun, changed, stopped, started by hand, done again, overtaken, forgotten. The engine decides; here is noted
//! what it changed.

use super::artifact::Given;
use super::info::RunInfo;
use super::live::{LiveRun, Times};
use super::refused::{AgainRefused, StartRefused, StopRefused};
use super::room::Room;
use crate::events::{self, Of};
use crate::sentence::{Summary, sentence};
use ordotaxis_core::access::{Action, Actor};
use ordotaxis_core::engine::{Event, Refused, Run, State, Usual};
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
    pub(super) fn begin(&mut self, info: RunInfo, plan: Arc<Plan>, usual: &Usual, now: i64) {
        let id = info.id;
        if self.runs.contains_key(&id) {
            return; // read back from storage before this word of it arrived
        }
        let mut run = Run::new(plan, now);
        if info.fresh {
            run.make_fresh();
        }
        self.runs.insert(id, Arc::new(LiveRun::new(info, run, Given::new(), Times::default(), usual)));
        let _ = self.apply(id, &Event::Begun, now);
        self.overtake(id, now);
    }

    /// Lets the engine apply an event and notes what changed.
    pub(super) fn apply(&mut self, id: i64, event: &Event, now: i64) -> Result<(), Refused> {
        let going = self.live(id).ok_or(Refused::Stale)?;
        let effects = going.run.apply(event, now)?;
        for &job in &effects.changed {
            self.place(id, job, now);
            self.note_job(id, job);
            let queued = self.runs.get(&id).is_some_and(|going| going.run.jobs()[job].state == State::Queued);
            if queued {
                self.just_queued.push((id, job));
            }
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
        }
        Ok(())
    }

    fn run_changed(&mut self, id: i64, now: i64) {
        let Some(going) = self.runs.get_mut(&id).map(Arc::make_mut) else { return };
        let state = going.run.state();
        going.times.change(state.is_end(), now);
        let Times { started, ended, rest_ms } = going.times;
        let summary = Summary::of(&going.run);
        let took = going.times.took(now);
        let sentence = sentence(state, &summary, took, None);
        let of = Of::info(&going.info, &going.run.plan().pipeline);
        self.touched.rows.events.push(events::of_run(&of, state, &sentence, started, ended));
        let why = ended.map(|_| sentence);
        self.touched.rows.runs.push(RunChange { id, state, why, started, ended, rest_ms });
        if ended.is_some() {
            self.touched.ended.push(id);
            let (project_id, pipeline) = (going.info.project_id, going.run.plan().pipeline.clone());
            let numbers = going.run.numbers().into_iter().filter_map(|(name, number)| {
                Some(NewNumber { project_id, pipeline: pipeline.clone(), name, run_id: id, value: number.value()? })
            });
            self.touched.rows.numbers.extend(numbers);
        }
    }

    /// A job is to be written, and told: events stand in the order in which they happened.
    pub(super) fn note_job(&mut self, id: i64, job: usize) {
        let Some(going) = self.runs.get(&id) else { return };
        let state = &going.run.jobs()[job];
        let id_of_job = going.run.plan().jobs[job].id.clone();
        let event = LiveEvent { run: going.name(), state: state.state, job: Some(id_of_job), why: state.why.clone() };
        let body = serde_json::to_string(&event).unwrap_or_default();
        self.touched.rows.events.push(NewEvent { run_id: id, body, detail: None });
        self.touched.jobs.insert((id, job));
    }

    /// Notes for the journal what someone did to a run.
    pub(super) fn journal(&mut self, by: &Actor, action: Action, id: i64, jobs: &[String]) {
        let Some(going) = self.runs.get(&id) else { return };
        let object = if jobs.is_empty() { going.name() } else { format!("{} {}", going.name(), jobs.join(", ")) };
        self.touched.rows.entries.push((by.clone(), Entry::new(action, object).of(&going.info.project)));
    }

    /// Lets go of all runs of a project that is removed; their runners are told that the attempts are unknown.
    pub(super) fn forget(&mut self, project_id: i64) {
        let gone: Vec<i64> = self.runs.values().filter(|going| going.info.project_id == project_id).map(|going| going.info.id).collect();
        let queued: Vec<(i64, usize)> = self.queue.keys().filter(|(run, _)| gone.contains(run)).collect();
        let queue = Arc::make_mut(&mut self.queue);
        queued.into_iter().for_each(|key| queue.remove(key));
        self.pauses.retain(|(_, run, _)| !gone.contains(run));
        self.turns.forget(&gone);
        let held: Vec<AttemptId> = self.held.iter().map(|(attempt, _)| attempt).filter(|attempt| gone.contains(&attempt.run)).collect();
        for attempt in held {
            self.let_go(attempt);
        }
        for id in gone {
            self.runs.remove(&id);
        }
    }

    pub(super) fn stop(&mut self, id: i64, job: Option<&str>, by: &str, now: i64) -> Result<(), StopRefused> {
        let going = self.runs.get(&id).ok_or(StopRefused::RunEnded)?;
        let plan = going.run.plan().clone();
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

    pub(super) fn start_job(
        &mut self,
        id: i64,
        name: &str,
        by: &str,
        inputs: BTreeMap<String, String>,
        now: i64,
    ) -> Result<(), StartRefused> {
        let going = self.runs.get(&id).ok_or(StartRefused::NoSuchRun)?;
        let plan = going.run.plan().clone();
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

    pub(super) fn again(&mut self, id: i64, names: &[String], by: String, fresh: bool, now: i64) -> Result<(), AgainRefused> {
        let going = self.runs.get(&id).ok_or(AgainRefused::NoSuchRun)?;
        let plan = going.run.plan().clone();
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
        let older = self.runs.values().filter(|going| {
            going.info.project_id == info.project_id && going.info.id < id && going.info.commit != info.commit && same(going.run.plan())
        });
        let older: Vec<i64> = older.map(|going| going.info.id).collect();
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
