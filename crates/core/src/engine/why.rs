//! "Why?" in one sentence for every job that has not ended. Names the job or the order it waits for, and since when.

use super::State;
use super::clock::Clock;
use super::progress::{Back, Cut, Hold, Progress};
use super::state::Run;
use crate::delivery::sentence;
use crate::plan::WaitOn;
use std::borrow::Cow;

/// The sentence for a job of the run that is called `name`. For a queued one `queued` says what dispatch knows.
pub fn why_job(run: &Run, job: usize, name: &str, clock: Clock<'_>, queued: impl FnOnce() -> String) -> Option<String> {
    let state = &run.jobs()[job];
    match &state.progress {
        Progress::Waiting => Some(waiting(run, job, clock)),
        Progress::Queued { after, .. } => {
            let again = after.as_ref().map(|why| format!(" (attempt {} did not do: {why})", state.attempt)).unwrap_or_default();
            Some(format!("{}; queued since {}{again}", queued(), clock(state.since)))
        }
        Progress::Gated(Hold::Shut { why }) => Some(format!("{why}; shut since {}", clock(state.since))),
        Progress::Gated(Hold::Rests { until }) => Some(format!("the roll-out rests until {}, then it is this one's turn", clock(*until))),
        Progress::Gated(Hold::Environment { holds: _ }) if matches!(state.back, Back::Goes { .. }) => {
            Some(format!("what was in {} before is to be put there again; ready since {}", environment(run, job), clock(state.since)))
        }
        Progress::Gated(Hold::Environment { holds }) if holds.is_empty() => {
            Some(format!("asks to go into {}; ready since {}", environment(run, job), clock(state.since)))
        }
        Progress::Gated(Hold::Environment { holds }) => {
            Some(format!("{}; ready since {}", sentence(&environment(run, job), holds, clock), clock(state.since)))
        }
        Progress::Gated(Hold::ByHand) => Some(format!(
            "starts by hand only, and nobody has started it; ready since {}; `ordotaxis start {name} --job {}` starts it",
            clock(state.since),
            run.plan().jobs[job].id
        )),
        Progress::Running { cut } => {
            let runner = state.runner.as_deref().unwrap_or("a runner");
            let stopping = match cut {
                Some(Cut::Stopped { by }) => format!("; {by} asked to stop it"),
                Some(Cut::Overtaken { by }) => format!("; {by} overtook it, and it is being stopped"),
                None => String::new(),
            };
            let attempt = if state.attempt > 1 { format!(", attempt {}", state.attempt) } else { String::new() };
            Some(format!("running on {runner} since {}{attempt}{stopping}", clock(state.since)))
        }
        end => end.why().map(Cow::into_owned),
    }
}

/// The environment that a job deploys to.
fn environment(run: &Run, job: usize) -> String {
    run.environment(job).and_then(Result::ok).unwrap_or_else(|| "its environment".into())
}

/// For a job that waits: for what, and since when.
fn waiting(run: &Run, job: usize, clock: Clock<'_>) -> String {
    let open = open_waits(run, job);
    let Some(&(first, because)) = open.iter().max_by_key(|(on, _)| run.jobs()[*on].state() == State::Running) else {
        return limited(run, job, clock);
    };
    let (plan, on) = (run.plan(), &run.jobs()[first]);
    let others = match open.len() - 1 {
        0 => String::new(),
        1 => " and 1 other job".into(),
        more => format!(" and {more} other jobs"),
    };
    format!("waits for {}{others}: {} since {}; {because}", plan.jobs[first].id, on.state().word(), clock(on.since))
}

/// All it waits for is the cells before it.
fn limited(run: &Run, job: usize, clock: Clock<'_>) -> String {
    let Some(limit) = run.limit_of[job].map(|limit| &run.limits[limit]) else { return "about to be queued".into() };
    let plan = run.plan();
    let active = |&cell: &usize| run.jobs()[cell].progress.takes_place();
    let Some(first) = limit.cells.clone().find(active) else { return "about to be queued".into() };
    let others = match limit.active - 1 {
        0 => String::new(),
        1 => " and 1 other cell".into(),
        more => format!(" and {more} other cells"),
    };
    let what = plan.jobs[first].id.without_cell();
    let since = clock(run.jobs()[first].since);
    let most = if limit.most == 1 { "1 cell".to_owned() } else { format!("{} cells", limit.most) };
    let word = run.jobs()[first].state().word();
    format!("waits for {}{others}: {word} since {since}; only {most} of {what} at once", plan.jobs[first].id)
}

/// Every job that is waited for and has not ended, with the reason for the wait. Each once.
fn open_waits(run: &Run, job: usize) -> Vec<(usize, &'static str)> {
    let (plan, planned) = (run.plan(), &run.plan().jobs[job]);
    let mut open: Vec<(usize, &'static str)> = Vec::new();
    for wait in &planned.waits {
        match wait.on {
            WaitOn::Job(on) if wait.takes => open.push((on, "it takes what that job gives")),
            WaitOn::Job(_) if wait.at_once => {}
            WaitOn::Cells(first, _) | WaitOn::Job(first) if plan.jobs[first].is_cell_of(planned) => {
                open.extend(run.targets(wait.on).map(|on| (on, "the roll-out reaches this one after it")));
            }
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
    open.retain(|(on, _)| !run.jobs()[*on].state().is_end() && !std::mem::replace(&mut seen[*on], true));
    open
}
