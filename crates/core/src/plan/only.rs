//! A part of a plan: the jobs asked for and those they take from. All others are skipped, which nobody waits for.

use super::value::Plan;
use crate::language::{Code, Diagnostic};

/// Takes out all jobs but those asked for and those that they take from.
pub(super) fn keep_only(plan: &mut Plan, diagnostics: &mut Vec<Diagnostic>) {
    let asked = plan.occasion.only.clone();
    if asked.is_empty() {
        return;
    }
    let mut wanted = vec![false; plan.jobs.len()];
    let mut open = Vec::new();
    for name in &asked {
        let before = open.len();
        let fits =
            |job: &super::PlannedJob| job.id.as_str() == name || job.id.without_cell() == name || plan.stages[job.stage].name == *name;
        open.extend((0..plan.jobs.len()).filter(|&at| fits(&plan.jobs[at])));
        if open.len() == before {
            let ids = plan.jobs.iter().map(|job| job.id.as_str());
            let names = ids.chain(plan.stages.iter().map(|stage| stage.name.as_str()));
            let message = format!("the pipeline has no job and no stage `{name}`");
            diagnostics.push(Diagnostic::error(Code::UnknownJob, 0..0, message).nearest(name, names));
        }
    }
    while let Some(at) = open.pop() {
        if !std::mem::replace(&mut wanted[at], true) {
            open.extend(plan.jobs[at].takes.iter().flat_map(|take| take.job..take.job + take.cells));
        }
    }
    for (job, wanted) in plan.jobs.iter_mut().zip(wanted) {
        if !wanted && job.skipped.is_none() {
            job.skipped = Some("not among the jobs asked for".into());
        }
    }
}
