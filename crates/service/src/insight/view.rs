//! What people are shown of figures.

use super::days::Days;
use ordotaxis_core::insight::{BranchFigures, JobFigures};
use ordotaxis_store::{CacheUseRow, ReusedRow};
use ordotaxis_wire::insight::{BranchInsight, ChangeView, JobInsight, PartInsight, ProjectInsight, StepInsight};
use ordotaxis_wire::moment;

/// More jobs, and steps of one job, are not listed.
const JOBS: usize = 200;
const STEPS: usize = 40;

/// All that is known of a project.
pub(super) struct Found {
    pub(super) name: String,
    pub(super) days: Days,
    pub(super) cut: bool,
    pub(super) jobs: Vec<JobFigures>,
    pub(super) branches: Vec<BranchFigures>,
    pub(super) reused: Vec<ReusedRow>,
    pub(super) caches: CacheUseRow,
    pub(super) cost: Option<f64>,
}

impl Found {
    pub(super) fn view(self) -> ProjectInsight {
        let sum = |of: fn(&JobFigures) -> i64| self.jobs.iter().map(of).sum();
        ProjectInsight {
            days: self.days.days,
            since: moment(self.days.since),
            cut: self.cut,
            jobs: self.jobs.iter().take(JOBS).map(|job| job_view(job, &self.name)).collect(),
            more_jobs: self.jobs.len().saturating_sub(JOBS),
            branches: self.branches.iter().map(branch_view).collect(),
            runner_ms: sum(|job| job.whole),
            retried: self.jobs.iter().map(|job| job.retried).sum(),
            retried_ms: sum(|job| job.retried_whole),
            reused: self.reused.iter().map(|row| row.count).sum(),
            reused_ms: self.reused_ms(),
            caches: self.caches.uses,
            caches_restored: self.caches.restored,
            caches_bytes: self.caches.bytes,
            cost: self.cost,
            project: self.name,
        }
    }

    /// How long the jobs would have taken whose results were taken over: each as long as half of those do that were done.
    fn reused_ms(&self) -> i64 {
        let usual = |row: &ReusedRow| {
            let job = self.jobs.iter().find(|job| *job.pipeline == *row.pipeline && *job.job == *row.job_id)?;
            Some(job.took.p50? * row.count)
        };
        self.reused.iter().filter_map(usual).sum()
    }
}

fn job_view(job: &JobFigures, project: &str) -> JobInsight {
    let change =
        job.shift.map(|(shift, run)| ChangeView { run: format!("{project}/{run}"), before_ms: shift.before, after_ms: shift.after });
    let step = |step: &ordotaxis_core::insight::StepFigures| StepInsight {
        name: step.name.to_string(),
        count: step.took.count,
        took: step.took.into(),
    };
    let part = |part: &ordotaxis_core::insight::Part| PartInsight {
        since: moment(part.since),
        passed: part.took.count,
        took: part.took.into(),
        waited: part.waited.into(),
    };
    JobInsight {
        pipeline: job.pipeline.to_string(),
        job: job.job.to_string(),
        passed: job.passed,
        failed: job.failed,
        took: job.took.into(),
        waited: job.waited.into(),
        runner_ms: job.whole,
        retried: job.retried,
        retried_ms: job.retried_whole,
        change,
        steps: job.steps.iter().take(STEPS).map(step).collect(),
        parts: job.parts.iter().map(part).collect(),
    }
}

fn branch_view(branch: &BranchFigures) -> BranchInsight {
    BranchInsight {
        branch: branch.branch.clone(),
        passed: branch.passed,
        failed: branch.failed,
        other: branch.other,
        took: branch.took.into(),
    }
}
