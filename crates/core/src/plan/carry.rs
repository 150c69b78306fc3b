//! The same plan once more, of which only some jobs are done: what else ended well is carried over, the rest is left out. So
//! what is put somewhere is what was tested, and nothing is built anew.

use super::{Occasion, Plan};

/// `jobs`: what is done, also where it starts by hand; `well`: for each job whether it ended well in the earlier run.
///
/// ```
/// use ordotaxis_core::plan::{BorrowedFiles, Carry, Cause, Occasion, Source, carry, plan};
/// let text = "language = 1\n[job.build.gauge]\nsteps = ['make']\n[job.build.extra]\nsteps = ['make extra']\n\
///             [job.ship.pier]\nsteps = ['./ship.sh']\nafter = ['build.gauge']\nby_hand = true\ndeploys = 'pier'\n";
/// let source = Source { text, name: "main", borrowed: &BorrowedFiles::new() };
/// let before = plan(source, &Occasion::push("main")).expect("a plan").plan;
/// let cause = Cause::Carried { way: Carry::On, outside: false, of: "tidegauge/41".into(), environment: "pier".into(), on: None };
/// let now = carry(&before, &[2], &[true, false, false], Occasion::new(cause));
/// assert!(now.jobs[0].skipped.is_none(), "it is carried over");
/// assert_eq!(now.jobs[1].skipped.as_deref(), Some("not among the jobs asked for"));
/// assert!(!now.jobs[2].extras.as_ref().is_some_and(|extras| extras.by_hand), "someone has asked for it");
/// ```
pub fn carry(plan: &Plan, jobs: &[usize], well: &[bool], occasion: Occasion) -> Plan {
    let mut carried = plan.clone();
    for (at, job) in carried.jobs.iter_mut().enumerate() {
        if jobs.contains(&at) {
            job.skipped = None;
            // What takes a preview away waits for nothing but what it takes.
            if job.extras.as_ref().is_some_and(|extras| extras.closes.is_some()) {
                job.waits.retain(|wait| wait.takes);
            }
            if let Some(extras) = &mut job.extras {
                extras.by_hand = false;
            }
        } else if job.skipped.is_none() && !well.get(at).copied().unwrap_or(false) {
            job.skipped = Some("not among the jobs asked for".into());
        }
    }
    carried.keeps_older = true;
    carried.occasion = Occasion {
        commit: plan.occasion.commit.clone(),
        author: plan.occasion.author.clone(),
        message: plan.occasion.message.clone(),
        changed: plan.occasion.changed.clone(),
        inputs: plan.occasion.inputs.clone(),
        project: plan.occasion.project.clone(),
        only: jobs.iter().filter_map(|&job| plan.jobs.get(job)).map(|job| job.id.to_string()).collect(),
        ..occasion
    };
    carried
}
