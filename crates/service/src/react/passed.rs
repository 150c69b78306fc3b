//! A run passed: pipelines that listen for it begin. A proposal's run leads to nothing, since it is no branch's state
//! yet; other projects go on from the main branch or a tag only.

use crate::app::App;
use crate::plans::plan_of;
use ordotaxis_core::engine::State;
use ordotaxis_core::plan::{Event, Occasion, Plan};
use ordotaxis_store::{NewWork, Project, RunEvent, StoreError, WorkKind};

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
    let Some(plan) = plan_of(app, run).await? else { return Ok(Vec::new()) };
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
    if plan.occasion.event == Event::Proposal {
        return None;
    }
    let mut led_by = plan.occasion.led_by.clone();
    led_by.push(name.to_owned());
    Some(Occasion { event: Event::Pipeline, pipeline: Some(name.to_owned()), led_by, ..Occasion::default() })
}

fn own(name: &str, plan: &Plan) -> Option<Occasion> {
    let occasion = &plan.occasion;
    let (branch, tag, commit) = (occasion.branch.clone(), occasion.tag.clone(), occasion.commit.clone());
    Some(Occasion { branch, tag, commit, ..told(name, plan)? })
}

fn others(name: &str, plan: &Plan, project: &Project) -> Option<Occasion> {
    let occasion = &plan.occasion;
    let settled = occasion.tag.is_some() || occasion.branch.as_ref() == Some(&project.main_branch);
    if settled { told(name, plan) } else { None }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ordotaxis_core::access::Seen;
    use ordotaxis_core::plan::{Lent, Source, plan};

    fn planned(occasion: &Occasion) -> Plan {
        let text = "language = 1\norder = \"build\"\n[job.build.gauge]\nsteps = ['true']\n";
        plan(Source { text, name: "main", lent: &Lent::new() }, occasion).unwrap().plan
    }

    #[test]
    fn only_settled_commits_lead_others_on() {
        let project = Project {
            id: 1,
            name: "tidegauge".into(),
            git_url: String::new(),
            main_branch: "main".into(),
            sealed: None,
            forge: None,
            outside: "ask".into(),
            seen: Seen::All,
            created_at: 0,
        };
        let on = |branch: Option<&str>, tag: Option<&str>, event| Occasion {
            event,
            branch: branch.map(str::to_owned),
            tag: tag.map(str::to_owned),
            target: Some("main".into()),
            ..Occasion::default()
        };
        for (occasion, to_own, to_others) in [
            (on(Some("main"), None, Event::Push), true, true),
            (on(Some("topic/a"), None, Event::Push), true, false),
            (on(None, Some("v1"), Event::Tag), true, true),
            (on(Some("main"), None, Event::Proposal), false, false),
        ] {
            let plan = planned(&occasion);
            assert_eq!(own("tidegauge/main", &plan).is_some(), to_own, "{occasion:?}");
            let told = others("tidegauge/main", &plan, &project);
            assert_eq!(told.is_some(), to_others, "{occasion:?}");
            assert!(told.is_none_or(|told| told.commit.is_empty() && told.led_by == ["tidegauge/main"]));
        }
    }
}
