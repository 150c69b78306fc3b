//! A plan with the cells of each job drawn as one: what pictures show.

use super::edges::{Because, edges};
use super::value::{Plan, PlannedJob, Wait, WaitOn};

/// All cells of one job.
pub(super) struct Group {
    /// The numbers of its cells in the plan.
    pub(super) cells: std::ops::Range<usize>,
    pub(super) stage: usize,
}

/// Group `to` waits for `from`.
pub(super) struct Link {
    pub(super) from: usize,
    pub(super) to: usize,
    pub(super) because: Because,
}

/// The groups in the plan's order, and the waits between them that others do not imply.
pub(super) fn collapse(plan: &Plan) -> (Vec<Group>, Vec<Link>) {
    let mut groups: Vec<Group> = Vec::new();
    let mut group_of = vec![0; plan.jobs.len()];
    for (number, job) in plan.jobs.iter().enumerate() {
        let same = groups.last().is_some_and(|group| {
            let first = &plan.jobs[group.cells.start];
            first.stage == job.stage && first.name == job.name
        });
        match groups.last_mut().filter(|_| same) {
            Some(group) => group.cells.end = number + 1,
            None => groups.push(Group { cells: number..number + 1, stage: job.stage }),
        }
        group_of[number] = groups.len() - 1;
    }
    let small = Plan { jobs: groups.iter().map(|group| small(plan, group, &group_of)).collect(), ..plan.clone_without_jobs() };
    let mut links = Vec::new();
    for (to, edges) in edges(&small).into_iter().enumerate() {
        links.extend(edges.into_iter().filter(|edge| !edge.implied).map(|edge| Link { from: edge.job, to, because: edge.because }));
    }
    (groups, links)
}

fn small(plan: &Plan, group: &Group, group_of: &[usize]) -> PlannedJob {
    let mut job = PlannedJob { steps: Vec::new(), ..plan.jobs[group.cells.start].clone() };
    let own = group_of[group.cells.start];
    let mut waits: Vec<Wait> = Vec::new();
    for wait in plan.jobs[group.cells.clone()].iter().flat_map(|job| &job.waits) {
        let on = match wait.on {
            WaitOn::Job(on) | WaitOn::Cells(on, _) if group_of[on] == own => continue,
            WaitOn::Job(on) | WaitOn::Cells(on, _) => WaitOn::Job(group_of[on]),
            WaitOn::Stage(stage) => WaitOn::Stage(stage),
        };
        match waits.iter_mut().find(|known| known.on == on) {
            Some(known) => known.takes |= wait.takes,
            None => waits.push(Wait { on, ..*wait }),
        }
    }
    job.waits = waits;
    job
}
