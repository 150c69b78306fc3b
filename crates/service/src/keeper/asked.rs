//! What people ask of runs and runners: stop, start by hand, once more, drain; and what a newer commit does to older runs.

use super::room::Room;
use super::{AgainRefused, StartRefused, StopRefused};
use ordotaxis_core::engine::{Event, Refused};
use ordotaxis_core::language::nearest;
use ordotaxis_core::plan::{Event as Happened, Plan};
use std::collections::BTreeMap;

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

    pub(super) fn drain(&mut self, runner: String, by: Option<String>) {
        match by {
            Some(by) => drop(self.draining.insert(runner, by)),
            None => drop(self.draining.remove(&runner)),
        }
    }

    /// A newer commit of the same branch or proposal makes older runs that still go on pointless; one that was looked at
    /// late is such an older run itself.
    pub(super) fn overtake(&mut self, id: i64, now: i64) {
        let Some(newer) = self.runs.get(&id) else { return };
        let (plan, info) = (newer.run.plan().clone(), newer.info.clone());
        let occasion = &plan.occasion;
        let pushed = matches!(occasion.event, Happened::Push | Happened::Proposal);
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
                && theirs.event == occasion.event
                && theirs.branch == occasion.branch
                && theirs.source == occasion.source
                && theirs.target == occasion.target
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
