//! Two plans side by side: what a change to the file changes.

use super::edges::edges;
use super::value::{Plan, PlannedJob};
use crate::language::JobId;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};

/// One difference, in the order of the new plan; what is gone comes last.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
#[serde(tag = "change", rename_all = "snake_case")]
pub enum Change {
    JobCame {
        job: JobId,
    },
    JobGone {
        job: JobId,
    },
    /// `job` waits for `on` now, and did not before.
    WaitCame {
        job: JobId,
        on: JobId,
    },
    WaitGone {
        job: JobId,
        on: JobId,
    },
    /// A part of the job's definition is another, or why it is skipped (`skipped`, which also depends on what began the run):
    /// its words before and after, empty where it had none.
    KeyChanged {
        job: JobId,
        key: String,
        before: String,
        after: String,
    },
}

/// The differences between two plans, in the order of the jobs: jobs added, removed and changed.
///
/// ```
/// use ordotaxis_core::plan::{BorrowedFiles, Occasion, Source, compare, plan};
/// let planned = |text: &str| {
///     let source = Source { text, name: "main", borrowed: &BorrowedFiles::new() };
///     plan(source, &Occasion::push("main")).expect("a plan").plan
/// };
/// let before = planned("language = 1\n[job.a.x]\nsteps = ['make']\n");
/// assert!(compare(&before, &before).is_empty());
/// let after = planned("language = 1\n[job.a.x]\nsteps = ['make']\n[job.a.y]\nsteps = ['true']\n");
/// assert_eq!(compare(&before, &after).len(), 1, "a job is new");
/// ```
pub fn compare(before: &Plan, after: &Plan) -> Vec<Change> {
    let old: BTreeMap<&JobId, &PlannedJob> = before.jobs.iter().map(|job| (&job.id, job)).collect();
    let new: BTreeSet<&JobId> = after.jobs.iter().map(|job| &job.id).collect();
    let (old_waits, new_waits) = (waits(before), waits(after));
    let none = BTreeSet::new();
    let mut changes = Vec::new();
    for job in &after.jobs {
        let Some(was) = old.get(&job.id) else {
            changes.push(Change::JobCame { job: job.id.clone() });
            continue;
        };
        let (waited, waits) = (old_waits.get(&job.id).unwrap_or(&none), new_waits.get(&job.id).unwrap_or(&none));
        // A wait on a job that was added or removed is listed with that job.
        let both = |on: &&&JobId| old.contains_key(*on) && new.contains(*on);
        changes.extend(waits.difference(waited).filter(both).map(|on| Change::WaitCame { job: job.id.clone(), on: (*on).clone() }));
        changes.extend(waited.difference(waits).filter(both).map(|on| Change::WaitGone { job: job.id.clone(), on: (*on).clone() }));
        let (was, is) = (keys(was, before), keys(job, after));
        // Of a job that is skipped in one of them, no condition is left to compare.
        let compared = |key: &&str| **key != *"if" || !(was.contains_key("skipped") || is.contains_key("skipped"));
        for key in was.keys().chain(is.keys()).filter(|key| compared(key)).collect::<BTreeSet<_>>() {
            let (before, after) = (was.get(key).cloned().unwrap_or_default(), is.get(key).cloned().unwrap_or_default());
            if before != after {
                changes.push(Change::KeyChanged { job: job.id.clone(), key: (*key).to_owned(), before, after });
            }
        }
    }
    changes.extend(before.jobs.iter().filter(|job| !new.contains(&job.id)).map(|job| Change::JobGone { job: job.id.clone() }));
    changes
}

/// For each job those it waits for, without what other waits imply.
fn waits(plan: &Plan) -> BTreeMap<&JobId, BTreeSet<&JobId>> {
    let direct = |edges: Vec<super::Edge>| edges.into_iter().filter(|edge| !edge.implied).map(|edge| &plan.jobs[edge.job].id).collect();
    plan.jobs.iter().zip(edges(plan)).map(|(job, edges)| (&job.id, direct(edges))).collect()
}

/// A job's definition by its keys, as they are written in a file.
fn keys(job: &PlannedJob, plan: &Plan) -> BTreeMap<&'static str, String> {
    let mut keys = BTreeMap::new();
    let mut put = |key: &'static str, value: String| {
        if !value.is_empty() && value != "null" && value != "[]" && value != "{}" && value != "false" {
            keys.insert(key, value);
        }
    };
    put("steps", text(&job.steps));
    put("where", text(&job.labels));
    put("gives", text(&job.gives));
    put("env", text(&job.env));
    put("timeout", text(&job.timeout_ms));
    put("may_fail", text(&job.may_fail));
    put("checkout", text(&job.checkout));
    put("upon", text(&job.upon));
    put("if", job.conditions.first().cloned().unwrap_or_default());
    put("skipped", job.skipped.clone().unwrap_or_default());
    let takes: Vec<String> = job.takes.iter().map(|take| format!("{}/{}", plan.jobs[take.job].id.without_cell(), take.artifact)).collect();
    put("takes", takes.join(", "));
    put("runner", text(&job.extras));
    keys
}

/// Any value as a line of JSON.
fn text(value: &impl Serialize) -> String {
    serde_json::to_string(value).unwrap_or_default()
}
