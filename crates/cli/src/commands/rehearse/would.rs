//! What a run would have done outside, and a rehearsal did not.

use ordotaxis_core::engine::State;
use ordotaxis_core::plan::{Plan, PlannedJob};
use ordotaxis_wire::run::RunView;

/// A line each, in the order of the plan: of jobs that ran what they would have had, of those that passed what they would
/// have sent. `project`: the name that the service knows this repository by.
pub(super) fn would(plan: &Plan, run: &RunView, project: Option<&str>) -> Vec<String> {
    let mut lines = Vec::new();
    let jobs = run.jobs.as_deref().unwrap_or_default();
    for (planned, job) in plan.jobs.iter().filter_map(|planned| Some((planned, jobs.iter().find(|job| job.id == planned.id)?))) {
        if !job.attempts.is_empty() {
            lines.extend(had(planned));
        }
        if matches!(job.state, State::Passed) {
            lines.extend(sent(planned));
        }
    }
    if let Some(project) = project {
        lines.push(format!("the verdict would be reported on the commit, for project {project}"));
    }
    lines
}

fn had(job: &PlannedJob) -> Vec<String> {
    let Some(extras) = &job.extras else { return Vec::new() };
    let deploys = extras.deploys.iter().map(|place| format!("{} would deploy to {}", job.id, place.0.value.source()));
    let identity = extras.identity.iter();
    let identity = identity
        .map(|(variable, audience)| format!("{} would have an identity for {audience} in {variable}; here nobody believes it", job.id));
    let allows = extras.allows.iter().map(|what| format!("{} would be allowed {what} at the service", job.id));
    deploys.chain(identity).chain(allows).collect()
}

fn sent(job: &PlannedJob) -> Vec<String> {
    let Some(extras) = &job.extras else { return Vec::new() };
    let line = |publish: &ordotaxis_core::language::Publish| {
        let with = publish.with.as_ref().map(|with| format!(", with connection {with}")).unwrap_or_default();
        format!("{} would publish {} to {} as {}{with}", job.id, publish.artifact, publish.to.0.value.source(), publish.form)
    };
    extras.publish.iter().map(line).collect()
}
