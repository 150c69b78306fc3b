//! How long jobs and their steps take, how long they wait for a runner, and what their failed tries cost.

use super::level::{Level, level};
use super::shift::{Shift, last_shift};
use crate::engine::{Millis, State};
use indexmap::IndexMap;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// So many of the newest values are looked at for a change.
const LOOKED_AT: usize = 500;

/// An attempt at a job that has ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tried {
    /// The run's number.
    pub run: i64,
    pub pipeline: Arc<str>,
    /// With its cell.
    pub job: Arc<str>,
    /// 1 for the first.
    pub attempt: u32,
    /// Whether its run was of the main branch.
    pub main: bool,
    pub state: State,
    /// Since when it had queued; none where that was not noted.
    pub queued_at: Option<Millis>,
    pub started_at: Millis,
    pub ended_at: Millis,
    /// Steps that have ended, and how long each took.
    pub steps: Vec<(Arc<str>, Millis)>,
}

impl Tried {
    fn took(&self) -> Millis {
        (self.ended_at - self.started_at).max(0)
    }

    fn waited(&self) -> Option<Millis> {
        Some((self.started_at - self.queued_at?).max(0))
    }
}

/// What attempts at one job come to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JobFigures {
    pub pipeline: Arc<str>,
    pub job: Arc<str>,
    pub passed: usize,
    /// Failed or lost.
    pub failed: usize,
    /// Of attempts that passed.
    pub took: Level,
    /// Of all.
    pub waited: Level,
    /// The time of runners that all attempts took.
    pub whole: Millis,
    /// Attempts that failed in runs where a later one passed, and their time.
    pub retried: usize,
    pub retried_whole: Millis,
    /// The newest change of how long it takes on the main branch, and the run that it began with.
    pub shift: Option<(Shift, i64)>,
    pub steps: Vec<StepFigures>,
    /// Equal parts of the time, the oldest first.
    pub parts: Vec<Part>,
}

/// What one step of a job's passed attempts comes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StepFigures {
    pub name: Arc<str>,
    pub took: Level,
}

/// A part of the time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    pub since: Millis,
    pub took: Level,
    pub waited: Level,
}

/// The figures of each job from `since` to `until`, in parts of so many milliseconds; what took most of runners' time first.
/// `tried` is in the order in which runs began.
pub fn jobs(tried: &[Tried], since: Millis, until: Millis, part: Millis) -> Vec<JobFigures> {
    let mut by_job: IndexMap<(&str, &str), Vec<&Tried>> = IndexMap::new();
    for one in tried.iter().filter(|one| (since..until).contains(&one.started_at)) {
        by_job.entry((&one.pipeline, &one.job)).or_default().push(one);
    }
    let mut all: Vec<JobFigures> = by_job.into_values().map(|tried| figures(&tried, since, until, part)).collect();
    all.sort_by(|a, b| b.whole.cmp(&a.whole).then_with(|| (&a.pipeline, &a.job).cmp(&(&b.pipeline, &b.job))));
    all
}

fn figures(tried: &[&Tried], since: Millis, until: Millis, part: Millis) -> JobFigures {
    let passed: Vec<&Tried> = tried.iter().copied().filter(|one| one.state == State::Passed).collect();
    let retried = retried(tried);
    let count = usize::try_from((until - since).max(0) / part.max(1)).unwrap_or(0);
    let from = |at: usize| since + Millis::try_from(at).unwrap_or(0) * part;
    JobFigures {
        pipeline: tried[0].pipeline.clone(),
        job: tried[0].job.clone(),
        passed: passed.len(),
        failed: tried.iter().filter(|one| is_failure(one.state)).count(),
        took: level(passed.iter().map(|one| one.took()).collect()),
        waited: level(tried.iter().filter_map(|one| one.waited()).collect()),
        whole: tried.iter().map(|one| one.took()).sum(),
        retried: retried.len(),
        retried_whole: retried.iter().map(|one| one.took()).sum(),
        shift: shift(&passed),
        steps: steps(&passed),
        parts: (0..count).map(|at| of_part(tried, from(at), from(at) + part)).collect(),
    }
}

fn is_failure(state: State) -> bool {
    matches!(state, State::Failed | State::Lost)
}

/// Attempts that failed, of runs in which a later one passed.
fn retried<'a>(tried: &[&'a Tried]) -> Vec<&'a Tried> {
    let mut passed: HashMap<i64, u32> = HashMap::new();
    for one in tried.iter().filter(|one| one.state == State::Passed) {
        passed.entry(one.run).and_modify(|known| *known = one.attempt.max(*known)).or_insert(one.attempt);
    }
    let in_vain = |one: &&&Tried| is_failure(one.state) && passed.get(&one.run).is_some_and(|later| *later > one.attempt);
    tried.iter().filter(in_vain).copied().collect()
}

fn shift(passed: &[&Tried]) -> Option<(Shift, i64)> {
    let main: Vec<&&Tried> = passed.iter().filter(|one| one.main).collect();
    let newest = &main[main.len().saturating_sub(LOOKED_AT)..];
    let lengths: Vec<Millis> = newest.iter().map(|one| one.took()).collect();
    let shift = last_shift(&lengths)?;
    Some((shift, newest[shift.at].run))
}

/// In the order in which the newest attempt did them; steps that it does not have any more come last.
fn steps(passed: &[&Tried]) -> Vec<StepFigures> {
    let mut lengths: IndexMap<&Arc<str>, Vec<Millis>> = IndexMap::new();
    for one in passed.iter().rev() {
        let mut seen = HashSet::new();
        for (name, took) in &one.steps {
            let all = lengths.entry(name).or_default();
            let again = !seen.insert(name);
            match all.last_mut().filter(|_| again) {
                // Of the same name as another of this attempt: they count as one.
                Some(last) => *last += took,
                None => all.push(*took),
            }
        }
    }
    lengths.into_iter().map(|(name, lengths)| StepFigures { name: name.clone(), took: level(lengths) }).collect()
}

fn of_part(tried: &[&Tried], since: Millis, until: Millis) -> Part {
    let within: Vec<&&Tried> = tried.iter().filter(|one| (since..until).contains(&one.started_at)).collect();
    let passed = within.iter().filter(|one| one.state == State::Passed);
    Part {
        since,
        took: level(passed.map(|one| one.took()).collect()),
        waited: level(within.iter().filter_map(|one| one.waited()).collect()),
    }
}
