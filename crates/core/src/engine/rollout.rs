//! Roll-outs: the rest between one cell and the next, and what happens to the cells that were well when another was not.

use super::Millis;
use super::progress::{Back, Hold, Progress};
use super::spread::Step;
use super::state::{End, Run};
use crate::language::Upon;
use crate::plan::WaitOn;

impl Run {
    /// Until when a roll-out rests before it goes on with this cell; none: it does not.
    pub(super) fn rests_until(&self, job: usize) -> Option<Millis> {
        let planned = &self.plan.jobs[job];
        let still = Millis::try_from(planned.rollout()?.still_ms?).unwrap_or(Millis::MAX);
        let before = planned.waits.iter().filter_map(|wait| match wait.on {
            WaitOn::Job(on) if self.plan.jobs[on].is_cell_of(planned) => Some(on),
            _ => None,
        });
        // What another run has done is long ago.
        let done = before.filter(|&on| self.jobs[on].progress == Progress::Passed);
        done.map(|on| self.jobs[on].since.saturating_add(still)).max()
    }

    /// Whether a cell of a roll-out is queued to be tried again, or to take back what it did: it has to end that.
    pub(super) fn has_touched(&self, job: usize) -> bool {
        let entry = &self.jobs[job];
        self.plan.jobs[job].rollout().is_some() && (entry.retries > 0 || matches!(entry.back, Back::Goes { .. }))
    }

    /// The cell that a roll-out failed with: the first that did.
    fn failed_cell(&self, cells: std::ops::Range<usize>) -> Option<usize> {
        let failed = |cell: &usize| matches!(self.end_of(*cell), Some(End::Other(Upon::Failed | Upon::Lost)));
        cells.filter(failed).min_by_key(|&cell| self.jobs[cell].since)
    }
}

impl Step<'_> {
    /// The rest is over: the cell goes on as if it had just become ready.
    pub(super) fn rested(&mut self, job: usize) {
        if let Progress::Gated(Hold::Rests { .. }) = self.run.jobs[job].progress {
            self.enter(job, Progress::Waiting);
            // Whatever the clock says: it may have been set back since.
            self.rested = Some(job);
            self.queue_if_ready(job);
        }
    }

    /// A cell of a roll-out was well when another had failed already: it takes back at once what it did, and its environment
    /// never holds it.
    pub(super) fn too_late(&mut self, job: usize) -> bool {
        if self.run.plan.jobs[job].rollout().is_none() {
            return false;
        }
        let Some(failed) = self.run.failed_cell(self.run.cells_of(job)) else { return false };
        let why = format!("{} failed", self.run.plan.jobs[failed].id);
        self.go_back(job, &why)
    }

    /// In a roll-out that failed, the last cell that was well is to be as it was before; when that has been done, the one
    /// before it. Nothing begins while another cell goes on. True when one was sent back.
    pub(super) fn take_back(&mut self) -> bool {
        while let Some(job) = self.ended_cells.pop() {
            let cells = self.run.cells_of(job);
            let Some(failed) = self.run.failed_cell(cells.clone()) else { continue };
            if cells.clone().any(|cell| self.run.jobs[cell].progress.takes_place()) {
                continue;
            }
            // What has only just ended has to be told to its environment first.
            let told = |cell: usize| !self.effects.changed.contains(&cell);
            let touched =
                |&cell: &usize| self.run.jobs[cell].progress == Progress::Passed && self.run.jobs[cell].back == Back::May && told(cell);
            let Some(last) = cells.filter(touched).max_by_key(|&cell| (self.run.jobs[cell].started, cell)) else { continue };
            let why = format!("{} failed", self.run.plan.jobs[failed].id);
            self.run.jobs[last].back = Back::Goes { why };
            self.effects.wants.push(last);
            self.enter(last, Progress::Gated(Hold::Environment { holds: Vec::new() }));
            self.run.count();
            return true;
        }
        false
    }
}
