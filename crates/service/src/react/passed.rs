//! A run passed: pipelines that listen for it begin. A proposal's run leads to nothing, since it is no branch's state
//! yet; other projects go on from the main branch or a tag only.

use crate::app::App;
use ordotaxis_core::engine::State;
use ordotaxis_core::plan::{Cause, Event, Occasion, Plan, Ref};
use ordotaxis_store::{NewWork, Project, RunEvent, StoreError, WorkKind};

/// When a run has passed: an occasion for each project with pipelines that listen for it.
pub(super) async fn passed(app: &App, run: i64, event: &RunEvent) -> Result<Vec<NewWork>, StoreError> {
    if event.state != State::Passed {
        return Ok(Vec::new());
    }
    let Some(project) = app.records.project_by_id(event.project_id).await? else { return Ok(Vec::new()) };
    let name = format!("{}/{}", project.name, event.pipeline);
    let listeners = app.records.listeners(&name).await?;
    if listeners.is_empty() {
        return Ok(Vec::new());
    }
    let Some(plan) = app.plan_of(run).await? else { return Ok(Vec::new()) };
    let work = |listener: i64| {
        let occasion = if listener == project.id { own(&name, &plan) } else { others(&name, &plan, &project) }?;
        Some(NewWork {
            kind: WorkKind::Occasion,
            project_id: listener,
            lane: String::new(),
            once: Some(format!("passed {}", event.run)),
            body: serde_json::to_string(&occasion).unwrap_or_default(),
        })
    };
    Ok(listeners.into_iter().filter_map(work).collect())
}

fn told(name: &str, plan: &Plan) -> Option<Occasion> {
    if matches!(plan.occasion.event(), Event::Proposal | Event::Landing) {
        return None;
    }
    let mut led_by = plan.occasion.led_by.clone();
    led_by.push(name.to_owned());
    Some(Occasion { led_by, ..Occasion::new(Cause::Passed { pipeline: Some(name.to_owned()), on: None }) })
}

/// The occasion for listeners in the same project: the same branch or tag.
fn own(name: &str, plan: &Plan) -> Option<Occasion> {
    let occasion = &plan.occasion;
    let tag = occasion.tag_name().map(|tag| Ref::Tag(tag.to_owned()));
    let on = tag.or_else(|| occasion.branch().map(|branch| Ref::Branch(branch.to_owned())));
    let cause = Cause::Passed { pipeline: Some(name.to_owned()), on };
    Some(Occasion { cause, commit: occasion.commit.clone(), ..told(name, plan)? })
}

fn others(name: &str, plan: &Plan, project: &Project) -> Option<Occasion> {
    let occasion = &plan.occasion;
    let settled = occasion.tag_name().is_some() || occasion.branch() == Some(&project.main_branch);
    if settled { told(name, plan) } else { None }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ordotaxis_core::access::Seen;
    use ordotaxis_core::plan::{BorrowedFiles, Source, plan};

    fn planned(occasion: &Occasion) -> Plan {
        let text = "language = 1\norder = \"build\"\n[job.build.gauge]\nsteps = ['true']\n";
        plan(Source { text, name: "main", borrowed: &BorrowedFiles::new() }, occasion).unwrap().plan
    }

    #[test]
    fn only_settled_commits_lead_others_on() {
        let project = Project {
            git_url: String::new(),
            id: 1,
            name: "tidegauge".into(),
            main_branch: "main".into(),
            main_follows: false,
            sealed: None,
            forge: None,
            outside: "ask".into(),
            seen: Seen::All,
            badge_key: String::new(),
            created_at: 0,
        };
        for (occasion, to_own, to_others) in [
            (Occasion::push("main"), true, true),
            (Occasion::push("topic/a"), true, false),
            (Occasion::tag("v1"), true, true),
            (Occasion::proposal("main"), false, false),
        ] {
            let plan = planned(&occasion);
            assert_eq!(own("tidegauge/main", &plan).is_some(), to_own, "{occasion:?}");
            let told = others("tidegauge/main", &plan, &project);
            assert_eq!(told.is_some(), to_others, "{occasion:?}");
            assert!(told.is_none_or(|told| told.commit.is_none() && told.led_by == ["tidegauge/main"]));
        }
    }
}
