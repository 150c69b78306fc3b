//! How the runs of each branch ended.

use super::level::{Level, level};
use crate::engine::{Millis, State};
use std::collections::BTreeMap;

/// A run that has ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RunEnd {
    /// None: it was of no branch.
    pub branch: Option<String>,
    pub state: State,
    pub took: Millis,
}

/// What the runs of one branch come to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BranchFigures {
    /// None: all that were of no branch, or of one beyond the first few.
    pub branch: Option<String>,
    pub passed: usize,
    pub failed: usize,
    /// Stopped, overtaken, skipped, lost.
    pub other: usize,
    /// Of runs that passed.
    pub took: Level,
}

/// The figures of each branch: the main one first, then those with most runs, at most so many; the rest as one.
pub fn branches(ends: &[RunEnd], main: &str, most: usize) -> Vec<BranchFigures> {
    let mut by_branch: BTreeMap<&str, Vec<&RunEnd>> = BTreeMap::new();
    let mut rest: Vec<&RunEnd> = Vec::new();
    for end in ends {
        match &end.branch {
            Some(branch) => by_branch.entry(branch).or_default().push(end),
            None => rest.push(end),
        }
    }
    let mut all: Vec<(&str, Vec<&RunEnd>)> = by_branch.into_iter().collect();
    all.sort_by_key(|(name, ends)| (*name != main, std::cmp::Reverse(ends.len())));
    let beyond = all.split_off(all.len().min(most));
    rest.extend(beyond.into_iter().flat_map(|(_, ends)| ends));
    let mut figures: Vec<BranchFigures> = all.into_iter().map(|(name, ends)| of(Some(name.to_owned()), &ends)).collect();
    if !rest.is_empty() {
        figures.push(of(None, &rest));
    }
    figures
}

fn of(branch: Option<String>, ends: &[&RunEnd]) -> BranchFigures {
    let count = |state: State| ends.iter().filter(|end| end.state == state).count();
    let (passed, failed) = (count(State::Passed), count(State::Failed));
    let took = ends.iter().filter(|end| end.state == State::Passed).map(|end| end.took);
    BranchFigures { branch, passed, failed, other: ends.len() - passed - failed, took: level(took.collect()) }
}
