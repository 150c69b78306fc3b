//! What is worth telling of environments: who is asked, what was put there or failed, who went past the rules.

use super::found::Found;
use crate::app::App;
use crate::clock;
use crate::delivery::Standing;
use ordotaxis_core::access::Action;
use ordotaxis_core::delivery::{Way, sentence};
use ordotaxis_core::notice::{Notice, Occasion, Part};
use ordotaxis_core::rules::EnvironmentRules;
use ordotaxis_store::{DeploymentRow, Project, StoreError};
use std::collections::BTreeSet;

/// A project's environment, of which something is told.
pub(super) struct Of<'a> {
    pub(super) app: &'a App,
    pub(super) project: &'a Project,
    pub(super) name: &'a str,
}

impl Of<'_> {
    /// Whoever can agree with it, and has not yet, is asked; not whose change it is.
    pub(super) async fn asks(&self, run: i64, job: usize) -> Result<Option<Found>, StoreError> {
        let state = self.app.records.environment_state(self.project.id, self.name).await?;
        let Some((wish, holds)) = state.waiting().find(|(wish, _)| wish.job == (run, job)) else { return Ok(None) };
        let standing = Standing::of(self.app, self.project).await?;
        let Ok(rules) = standing.rules(self.name) else { return Ok(None) };
        let mut own = approvers(&standing, &rules);
        for name in wish.authors.iter().chain(wish.words.iter().map(|word| &word.by)) {
            own.retain(|id| standing.who.by_name(name).is_none_or(|person| person.id != *id));
        }
        let (run, job) = wish.called.split_once(' ').unwrap_or((&wish.called, ""));
        let parts = vec![
            Part { title: "To agree with it".into(), lines: vec![format!("ordotaxis approve {run} {job}")] },
            Part { title: "To refuse it".into(), lines: vec![format!("ordotaxis refuse {run} {job} --reason …")] },
        ];
        let words = format!("{} {}", wish.called, sentence(self.name, holds, &clock::words));
        let notice = Notice { commit: Some(wish.commit.clone()), run: Some(run.to_owned()), ..self.notice(Occasion::Waits, words, parts) };
        Ok(Some(Found { notice, own, needs: Action::ApproveDeployment }))
    }

    /// What was put there, or failed: told to who started it and who agreed.
    pub(super) async fn ended(&self, number: i64) -> Result<Option<Found>, StoreError> {
        let Some(environment) = self.app.records.environment(self.project.id, self.name).await? else { return Ok(None) };
        let Some(row) = self.app.records.deployment(environment.id, number).await? else { return Ok(None) };
        let Some((occasion, words)) = told(self.name, &row) else { return Ok(None) };
        let who = Standing::of(self.app, self.project).await?.who;
        let agreed: Vec<ordotaxis_core::delivery::Word> = serde_json::from_str(&row.words).unwrap_or_default();
        let names = agreed.into_iter().map(|word| word.by).chain(row.started_by.clone());
        let own = names.filter_map(|name| who.by_name(&name).or_else(|| who.by_login(&name)).map(|person| person.id)).collect();
        let mut parts = Vec::new();
        if occasion == Occasion::RolledBack {
            let lines = vec![format!("ordotaxis roll-back {}/{}", self.project.name, self.name)];
            parts.push(Part { title: "To put back what was there before".into(), lines });
        }
        let notice = Notice { commit: Some(row.commit_id.clone()), run: Some(row.run.clone()), ..self.notice(occasion, words, parts) };
        Ok(Some(Found { notice, own, needs: Action::SeeProject }))
    }

    /// Everybody who could have agreed hears of it at once.
    pub(super) async fn past(&self, called: &str, by: &str, reason: &str) -> Result<Option<Found>, StoreError> {
        let standing = Standing::of(self.app, self.project).await?;
        let Ok(rules) = standing.rules(self.name) else { return Ok(None) };
        let mut own = approvers(&standing, &rules);
        own.extend(standing.who.among(&rules.emergency));
        own.retain(|id| standing.who.by_name(by).is_none_or(|person| person.id != *id));
        let run = called.split(' ').next().unwrap_or(called);
        let parts = vec![Part { title: "To confirm it".into(), lines: vec![format!("ordotaxis approve {called}")] }];
        let words = format!("{by} puts {called} into {} past its rules: {reason}", self.name);
        let notice = Notice { run: Some(run.to_owned()), ..self.notice(Occasion::Emergency, words, parts) };
        Ok(Some(Found { notice, own, needs: Action::SeeProject }))
    }

    fn notice(&self, occasion: Occasion, sentence: String, parts: Vec<Part>) -> Notice {
        Notice {
            project: self.project.name.clone(),
            occasion,
            sentence,
            parts,
            link: format!("{}/projects/{}/environments/{}", self.app.public_url, self.project.name, self.name),
            thread: format!("{} environment {}", self.project.name, self.name),
            run: None,
            proposal: None,
            commit: None,
            commits: Vec::new(),
        }
    }
}

/// Everybody whose approval the rules ask for.
fn approvers(standing: &Standing, rules: &EnvironmentRules) -> BTreeSet<i64> {
    rules.approvals.iter().flat_map(|agreement| standing.who.among(&agreement.wanted.by)).collect()
}

/// What is told of a deployment that has ended; of one that touched nothing, or took a preview away, nothing.
fn told(name: &str, row: &DeploymentRow) -> Option<(Occasion, String)> {
    let commit = row.commit_id.get(..8).unwrap_or(&row.commit_id);
    let what = format!("{commit} of {}", row.reference);
    let why = row.why.as_deref().unwrap_or_default();
    Some(match row.outcome.as_deref() {
        _ if row.way == Way::Close => return None,
        Some("well") if row.way.goes_back() => (Occasion::RolledBack, format!("{what} is in {name} again, by {}", row.run)),
        Some("well") => (Occasion::Deployed, format!("{what} is in {name}, by {}", row.run)),
        Some("failed") if row.back => {
            (Occasion::RolledBack, format!("{what} did not go well in {name}, and what was there is there again: {why}"))
        }
        Some("failed") => (Occasion::RolledBack, format!("{what} did not go well in {name}: {why}")),
        Some("lost") => (Occasion::RolledBack, format!("nobody knows what is in {name}, since {} {} was lost: {why}", row.run, row.job_id)),
        _ => return None,
    })
}
