//! The sentence a person would say about a run: in its status, at the top of its page, in the terminal.

use ordotaxis_core::engine::{Run, State};
use ordotaxis_wire::words;

/// What is known of a run's jobs, whether it goes on in memory or is read back from storage.
#[derive(Debug, Clone, Default)]
pub(crate) struct Summary {
    pub(crate) jobs: i64,
    pub(crate) failed: i64,
    pub(crate) skipped: i64,
    pub(crate) ended: i64,
    /// The first that failed, and why.
    pub(crate) first: Option<(String, String)>,
}

impl Summary {
    pub(crate) fn of(run: &Run) -> Summary {
        let jobs = run.jobs();
        let count = |wanted: fn(State) -> bool| i64::try_from(jobs.iter().filter(|job| wanted(job.state)).count()).unwrap_or(i64::MAX);
        let bad = |state: State| matches!(state, State::Failed | State::Lost);
        let forgiven = |at: usize| run.plan().jobs[at].may_fail;
        let failed = (0..jobs.len()).filter(|&at| bad(jobs[at].state) && !forgiven(at));
        let first = failed.clone().min_by_key(|&at| jobs[at].ended);
        Summary {
            jobs: count(|_| true),
            failed: i64::try_from(failed.count()).unwrap_or(i64::MAX),
            skipped: count(|state| state == State::Skipped),
            ended: count(State::is_end),
            first: first.map(|at| (run.plan().jobs[at].id.to_string(), jobs[at].why.clone().unwrap_or_default())),
        }
    }
}

/// `took_ms` is how long the run took, or has been going on.
pub(crate) fn sentence(state: State, summary: &Summary, took_ms: Option<i64>, why: Option<&str>) -> String {
    let jobs = |count: i64| if count == 1 { "1 job".to_owned() } else { format!("{count} jobs") };
    let took = took_ms.map(words::duration);
    match state {
        State::Waiting => format!("{} planned, none started yet", jobs(summary.jobs)),
        State::Running if summary.failed > 0 => {
            format!("Running: {} of {} ended, {} failed", summary.ended, jobs(summary.jobs), summary.failed)
        }
        State::Running => format!("Running: {} of {} ended", summary.ended, jobs(summary.jobs)),
        State::Passed => {
            let skipped = if summary.skipped > 0 { format!(", {} skipped", summary.skipped) } else { String::new() };
            format!("Passed: {}{skipped}{}", jobs(summary.jobs), took.map(|took| format!(", {took}")).unwrap_or_default())
        }
        State::Failed if summary.jobs == 0 => format!("Failed: {}", why.unwrap_or("it could not be planned")),
        State::Failed => {
            let first = summary.first.as_ref().map(|(id, why)| format!("; first {id}: {why}")).unwrap_or_default();
            format!("Failed: {} of {}{first}", summary.failed, jobs(summary.jobs))
        }
        State::Stopped => format!("Stopped: {} of {} had ended", summary.ended - summary.skipped, jobs(summary.jobs)),
        other => format!("{}: {}", other.word(), jobs(summary.jobs)),
    }
}
