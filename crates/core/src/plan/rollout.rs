//! The order of a roll-out: the cells of one job wait for each other as its `way` says, and stop where one fails.

use super::value::{Plan, PlannedJob, Wait, WaitOn};
use crate::language::RolloutWay;
use std::collections::HashMap;

/// The most waits of all cells together.
const MOST_WAITS: usize = 1_000_000;

/// Adds what the cells of one job wait for; `first`: the number of the first of them in the plan. Gives the mistake when two
/// cells share an environment: none could be brought back without the other.
pub(super) fn roll_out(cells: &mut [PlannedJob], first: usize) -> Option<String> {
    let rollout = cells.first()?.rollout()?.clone();
    let values: Vec<Vec<&str>> = cells.iter().map(|job| job.cell.values().map(String::as_str).collect()).collect();
    let leads = rollout.leads(&values);
    let leaders = neighbours(&leads);
    if leaders.len().saturating_mul(cells.len()) > MOST_WAITS {
        return Some("the cells that come first lie too far apart: together they make too many waits".to_owned());
    }
    for (at, cell) in cells.iter_mut().enumerate() {
        cell.halts_cells = true;
        let mut wait = |on| cell.waits.push(Wait { on, takes: false, at_once: false });
        match rollout.way {
            RolloutWay::OneByOne if at > 0 => wait(WaitOn::Job(first + at - 1)),
            RolloutWay::PartFirst if !leads[at] => leaders.iter().for_each(|&(at, count)| wait(WaitOn::together(first + at, count))),
            _ => {}
        }
        if !leads[at]
            && let Some(rollout) = cell.extras.as_mut().and_then(|extras| extras.rollout.as_mut())
        {
            rollout.watch = None;
        }
    }
    shared(cells).or_else(|| {
        (rollout.way == RolloutWay::PartFirst && leaders.is_empty()).then(|| "no cell has a value that `first` names".to_owned())
    })
}

impl Plan {
    /// The same without the times for which roll-outs rest or watch: where nothing is really put anywhere there is nothing to see.
    #[must_use]
    pub fn without_rests(mut self) -> Plan {
        for rollout in self.jobs.iter_mut().filter_map(|job| job.extras.as_mut()?.rollout.as_mut()) {
            (rollout.still_ms, rollout.watch) = (None, None);
        }
        self
    }
}

/// Those that come first, as runs of neighbours: where each begins, and how many.
fn neighbours(leads: &[bool]) -> Vec<(usize, usize)> {
    let mut runs: Vec<(usize, usize)> = Vec::new();
    for at in (0..leads.len()).filter(|&at| leads[at]) {
        match runs.last_mut().filter(|(begin, count)| begin + count == at) {
            Some((_, count)) => *count += 1,
            None => runs.push((at, 1)),
        }
    }
    runs
}

/// Two cells that deploy to the same place.
fn shared(cells: &[PlannedJob]) -> Option<String> {
    let mut seen: HashMap<String, &PlannedJob> = HashMap::new();
    for cell in cells {
        let name = cell.extras.as_ref()?.deploys.as_ref()?.0.value.source();
        if let Some(other) = seen.insert(name.clone(), cell) {
            return Some(format!("a roll-out needs an environment for each cell: {} and {} both deploy to {name}", other.id, cell.id));
        }
    }
    None
}
