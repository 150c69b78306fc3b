//! The sentence a person would say about a run: in its status, at the top of its page, in the terminal.

use ordotaxis_core::engine::{Hold, Progress, Run, State};
use ordotaxis_store::RunRow;
use ordotaxis_wire::words;

/// What is known of a run's jobs, whether it goes on in memory or is read back from storage.
#[derive(Debug, Clone, Default)]
pub(crate) struct Summary {
    pub(crate) jobs: i64,
    pub(crate) failed: i64,
    pub(crate) skipped: i64,
    pub(crate) stopped: i64,
    pub(crate) ended: i64,
    /// Passed or reused.
    pub(crate) well: i64,
    pub(crate) reused: i64,
    /// The first that failed, and why.
    pub(crate) first: Option<(String, String)>,
    /// What keeps a gate shut, where that is why it failed.
    pub(crate) gate: Option<String>,
    /// Those whose place a newer run, or a newer commit, took.
    pub(crate) left: i64,
    /// Those that wait before an environment.
    pub(crate) before: i64,
    /// The first that was refused by its environment, and why.
    pub(crate) refused: Option<(String, String)>,
}

impl Summary {
    /// Counts all jobs once.
    pub(crate) fn of(run: &Run) -> Summary {
        let jobs = run.jobs();
        let count = |wanted: fn(State) -> bool| i64::try_from(jobs.iter().filter(|job| wanted(job.state())).count()).unwrap_or(i64::MAX);
        let bad = |state: State| matches!(state, State::Failed | State::Lost);
        let forgiven = |at: usize| run.plan().jobs[at].may_fail;
        let failed = (0..jobs.len()).filter(|&at| bad(jobs[at].state()) && !forgiven(at));
        let told = |at: usize| (run.plan().jobs[at].id.to_string(), jobs[at].why().unwrap_or_default().into_owned());
        let first = failed.clone().min_by_key(|&at| jobs[at].ended());
        let refused = (0..jobs.len()).find(|&at| jobs[at].state() == State::Refused);
        Summary {
            jobs: count(|_| true),
            failed: i64::try_from(failed.count()).unwrap_or(i64::MAX),
            skipped: count(|state| state == State::Skipped),
            stopped: count(|state| state == State::Stopped),
            ended: count(State::is_end),
            well: count(|state| matches!(state, State::Passed | State::Reused)),
            reused: count(|state| state == State::Reused),
            gate: jobs
                .iter()
                .find_map(|job| if let Progress::Gated(Hold::Shut { why }) = &job.progress { Some(why.clone()) } else { None }),
            first: first.map(told),
            left: count(|state| state == State::Overtaken),
            before: i64::try_from((0..jobs.len()).filter(|&job| run.wants_in(job)).count()).unwrap_or(i64::MAX),
            refused: refused.map(told),
        }
    }
}

/// What a run says that waits for someone to allow it.
pub(crate) const HELD: &str = "Waits: it comes from outside, and someone must allow it";

/// The sentence of a run that is read back. `counts`: how many of its jobs are in which state; `mistaken`: its file has
/// mistakes.
pub(crate) fn of_row(row: &RunRow, counts: &[(State, i64)], mistaken: bool, now: i64) -> String {
    let state = State::from_word(&row.state).unwrap_or(State::Failed);
    let took = row.started_at.map(|started| row.ended_at.unwrap_or(now) - started - row.rest_ms);
    match (&row.why, state.is_end()) {
        _ if row.held => format!("{HELD}: `ordotaxis allow {}/{}`", row.project, row.number),
        (Some(why), true) if !mistaken && row.unread.is_none() => why.clone(),
        _ => sentence(state, &summary(counts), took, row.why.as_deref()),
    }
}

fn summary(counts: &[(State, i64)]) -> Summary {
    let count = |wanted: &dyn Fn(State) -> bool| counts.iter().filter(|(state, _)| wanted(*state)).map(|(_, jobs)| jobs).sum();
    Summary {
        jobs: count(&|_| true),
        failed: count(&|state| matches!(state, State::Failed | State::Lost)),
        skipped: count(&|state| state == State::Skipped),
        stopped: count(&|state| state == State::Stopped),
        ended: count(&State::is_end),
        well: count(&|state| matches!(state, State::Passed | State::Reused)),
        reused: count(&|state| state == State::Reused),
        first: None,
        gate: None,
        left: count(&|state| state == State::Overtaken),
        before: 0,
        refused: None,
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
            let left = if summary.left > 0 { format!(", {} left to a newer run", summary.left) } else { String::new() };
            let forgiven = match summary.ended - summary.well - summary.skipped - summary.left {
                0 => String::new(),
                more => format!(", {more} may fail and did"),
            };
            let held = match summary.jobs - summary.ended {
                0 => String::new(),
                _ if summary.before == 1 => ", 1 waits before its environment".to_owned(),
                _ if summary.before > 1 => format!(", {} wait before their environments", summary.before),
                1 => ", 1 waits for someone to start it".to_owned(),
                more => format!(", {more} wait for someone to start one"),
            };
            // Where nothing was done, how long that took says nothing.
            let took = match took {
                _ if summary.reused > 0 && summary.reused == summary.well => ", all as before".to_owned(),
                took => took.map(|took| format!(", {took}")).unwrap_or_default(),
            };
            format!("Passed: {}{forgiven}{left}{skipped}{took}{held}", jobs(summary.well))
        }
        State::Failed if summary.jobs == 0 => format!("Failed: {}", why.unwrap_or("it could not be planned")),
        State::Lost if summary.jobs == 0 => format!("Could not be looked at: {}", why.unwrap_or("the repository could not be read")),
        State::Failed if summary.failed == 0 && summary.gate.is_some() => {
            format!("Failed: {}", summary.gate.as_deref().unwrap_or_default())
        }
        State::Failed => {
            let first = summary.first.as_ref().map(|(id, why)| format!("; first {id}: {why}")).unwrap_or_default();
            format!("Failed: {} of {}{first}", summary.failed, jobs(summary.jobs))
        }
        State::Refused => {
            let which = summary.refused.as_ref().map(|(id, why)| format!(": {id}: {why}")).unwrap_or_default();
            format!("Refused{which}")
        }
        State::Stopped => format!("Stopped: {} of {}", summary.stopped, jobs(summary.jobs)),
        State::Overtaken => format!("Overtaken by a newer commit: {} of {} had ended well", summary.well, jobs(summary.jobs)),
        other => format!("{}: {}", other.word(), jobs(summary.jobs)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn summary(jobs: i64, failed: i64, skipped: i64, ended: i64) -> Summary {
        let first = (failed > 0).then(|| ("test.unit".to_owned(), "step `make test` exited with 2".to_owned()));
        let well = ended - skipped - failed;
        Summary {
            jobs,
            failed,
            skipped,
            stopped: 1,
            ended,
            well,
            reused: 0,
            first,
            gate: Some("the gate of ship is shut".into()),
            left: 0,
            before: 0,
            refused: None,
        }
    }

    #[test]
    fn every_state_has_its_sentence() {
        for (words, state, summary, took, why) in [
            ("7 jobs planned, none started yet", State::Waiting, summary(7, 0, 0, 0), None, None),
            ("Running: 3 of 7 jobs ended", State::Running, summary(7, 0, 0, 3), Some(9), None),
            ("Running: 3 of 7 jobs ended, 1 failed", State::Running, summary(7, 1, 0, 3), Some(9), None),
            ("Passed: 7 jobs, 1 m 50 s", State::Passed, summary(7, 0, 0, 7), Some(110_000), None),
            ("Passed: 5 jobs, 2 skipped, 850 ms", State::Passed, summary(7, 0, 2, 7), Some(850), None),
            ("Passed: 1 job, 4 skipped, 850 ms", State::Passed, summary(5, 0, 4, 5), Some(850), None),
            ("Passed: 3 jobs, 2 skipped, all as before", State::Passed, Summary { reused: 3, ..summary(5, 0, 2, 5) }, Some(0), None),
            ("Passed: 3 jobs, 2 skipped, 9 ms", State::Passed, Summary { reused: 2, ..summary(5, 0, 2, 5) }, Some(9), None),
            ("Passed: 3 jobs, 850 ms, 1 waits for someone to start it", State::Passed, summary(4, 0, 0, 3), Some(850), None),
            (
                "Passed: 3 jobs, 1 left to a newer run, 1 skipped, 850 ms",
                State::Passed,
                Summary { left: 1, well: 3, ..summary(5, 0, 1, 5) },
                Some(850),
                None,
            ),
            (
                "Passed: 3 jobs, 850 ms, 1 waits before its environment",
                State::Passed,
                Summary { before: 1, ..summary(5, 0, 0, 3) },
                Some(850),
                None,
            ),
            (
                "Refused: ship.pier: no",
                State::Refused,
                Summary { refused: Some(("ship.pier".into(), "no".into())), ..summary(5, 0, 0, 3) },
                Some(9),
                None,
            ),
            ("Passed: 3 jobs, 1 may fail and did, 850 ms", State::Passed, summary(4, 1, 0, 4), Some(850), None),
            ("Failed: 1 of 7 jobs; first test.unit: step `make test` exited with 2", State::Failed, summary(7, 1, 2, 7), Some(9), None),
            ("Failed: the gate of ship is shut", State::Failed, summary(7, 0, 2, 7), Some(9), None),
            ("Failed: there is no file", State::Failed, summary(0, 0, 0, 0), None, Some("there is no file")),
            ("Could not be looked at: git fetch failed", State::Lost, summary(0, 0, 0, 0), None, Some("git fetch failed")),
            ("Overtaken by a newer commit: 2 of 7 jobs had ended well", State::Overtaken, summary(7, 0, 0, 2), Some(9), None),
            ("Stopped: 1 of 7 jobs", State::Stopped, summary(7, 0, 1, 3), Some(9), None),
        ] {
            assert_eq!(sentence(state, &summary, took, why), words);
        }
    }
}
