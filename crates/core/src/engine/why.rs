//! "Why?" in one sentence for every job that has not ended. Names the job or the order it waits for, and since when.

use super::state::Run;
use super::{Millis, State};
use crate::plan::WaitOn;

/// Writes a moment for a person; given by the caller, who knows the time zone.
pub type Clock<'c> = &'c dyn Fn(Millis) -> String;

/// The sentence for a job. For a queued one `queued` says what dispatch knows.
pub fn why_job(run: &Run, job: usize, clock: Clock<'_>, queued: impl FnOnce() -> String) -> Option<String> {
    let state = &run.jobs()[job];
    match state.state {
        State::Passed | State::Reused => None,
        State::Waiting => Some(waiting(run, job, clock)),
        State::Queued => {
            let again = state.why.as_ref().map(|why| format!(" (queued again: {why})")).unwrap_or_default();
            Some(format!("{}; queued since {}{again}", queued(), clock(state.since)))
        }
        State::Running => {
            let runner = state.runner.as_deref().unwrap_or("a runner");
            let stopping = state.stop_asked.as_ref().map(|by| format!("; {by} asked to stop it")).unwrap_or_default();
            Some(format!("running on {runner} since {}{stopping}", clock(state.since)))
        }
        _ => state.why.clone(),
    }
}

fn waiting(run: &Run, job: usize, clock: Clock<'_>) -> String {
    let open = open_waits(run, job);
    let Some(&(first, because)) = open.iter().max_by_key(|(on, _)| run.jobs()[*on].state == State::Running) else {
        return "about to be queued".into();
    };
    let (plan, on) = (run.plan(), &run.jobs()[first]);
    let others = match open.len() - 1 {
        0 => String::new(),
        1 => " and 1 other job".into(),
        more => format!(" and {more} other jobs"),
    };
    format!("waits for {}{others}: {} since {}; {because}", plan.jobs[first].id, on.state.word(), clock(on.since))
}

/// Every job that is waited for and has not ended, with the reason for the wait. Each once.
fn open_waits(run: &Run, job: usize) -> Vec<(usize, &'static str)> {
    let (plan, planned) = (run.plan(), &run.plan().jobs[job]);
    let mut open: Vec<(usize, &'static str)> = Vec::new();
    for wait in &planned.waits {
        match wait.on {
            WaitOn::Job(on) if wait.takes => open.push((on, "it takes what that job gives")),
            WaitOn::Job(on) if wait.at_once => open.push((on, "only so many cells of this job run at once")),
            WaitOn::Cells(first, count) => {
                let because = if wait.takes { "it takes what that job gives" } else { "the file says it comes after it" };
                open.extend((first..first + count).map(|on| (on, because)));
            }
            WaitOn::Job(on) => open.push((on, "the file says it comes after it")),
            WaitOn::Stage(stage) => {
                open.extend(run.stages[stage].bundle.members.iter().map(|&on| (on, "the file says it comes after that stage")));
            }
        }
    }
    if planned.ordered {
        let before = plan.stages[planned.stage].before.iter().flat_map(|&stage| &run.stages[stage].bundle.members);
        open.extend(before.map(|&on| (on, "the order puts that job's stage earlier")));
    }
    let mut seen = vec![false; plan.jobs.len()];
    open.retain(|(on, _)| !run.jobs()[*on].state.is_end() && !std::mem::replace(&mut seen[*on], true));
    open
}
