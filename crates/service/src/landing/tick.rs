//! What no event tells: hours that open and close, approvals that were given, rules that changed, and what could not be
//! done and is tried again.

use super::change::{change, queue_of};
use super::reason::cleared;
use super::rules::{RulesError, Words, rules_of};
use crate::app::App;
use crate::causes::causes;
use crate::clock;
use ordotaxis_core::landing::{Event, Queue, TrialState};
use ordotaxis_core::rules::opens;
use ordotaxis_store::{Project, StoreError};
use std::time::Duration;

const EVERY: Duration = Duration::from_secs(15);

/// Works as long as the service goes on.
pub(crate) async fn work(app: App) {
    loop {
        match app.records.landing_branches().await {
            Ok(branches) => {
                for (project, branch) in branches {
                    let done = match app.records.project_by_id(project).await {
                        Ok(Some(project)) => tick(&app, &project, &branch).await,
                        Ok(None) => Ok(()),
                        Err(error) => Err(error),
                    };
                    if let Err(error) = done {
                        tracing::warn!(error = causes(&error), branch, "a landing queue could not be looked after");
                    }
                }
            }
            Err(error) => tracing::warn!(error = causes(&error), "the landing queues could not be read"),
        }
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = tokio::time::sleep(EVERY) => {}
        }
    }
}

/// Looks after one branch's queue now.
pub(crate) async fn tick(app: &App, project: &Project, branch: &str) -> Result<(), StoreError> {
    let Some(queue) = queue_of(&app.records, project.id, branch).await? else { return Ok(()) };
    if queue.entries().is_empty() {
        return Ok(());
    }
    let events = news(app, project, branch, &queue).await?;
    if events.is_empty() {
        return Ok(());
    }
    let mut tx = app.records.tx_by_rule("landing", clock::now()).await?;
    change(&mut tx, project.id, branch, events).await?;
    tx.commit().await
}

/// What is otherwise than the queue knows.
async fn news(app: &App, project: &Project, branch: &str, queue: &Queue) -> Result<Vec<Event>, StoreError> {
    let mut events = Vec::new();
    let rules = match rules_of(app, project).await {
        Ok(rules) => rules.branch(branch),
        Err(RulesError::Store(error)) => return Err(error),
        Err(error) => {
            let why = Some(error.to_string());
            return Ok(if queue.shut == why { Vec::new() } else { vec![Event::Shut { why }] });
        }
    };
    if rules.manner != queue.manner {
        events.push(Event::Manner(rules.manner));
    }
    let shut = opens(&rules.closed, clock::now()).map(|(until, hours)| {
        let until = ordotaxis_wire::moment(until).strftime("%Y-%m-%d %H:%M UTC").to_string();
        format!("nothing lands until {until} ({})", hours.text())
    });
    if shut != queue.shut {
        events.push(Event::Shut { why: shut });
    }
    let words = Words::of(app, project).await?;
    for entry in queue.entries() {
        let proposal = entry.offered.proposal.clone();
        let Some(row) = app.records.proposal(project.id, &proposal).await? else { continue };
        let why = words.lacking(&row, &rules);
        if why != entry.lacks {
            events.push(Event::Lacks { proposal, why });
        }
    }
    events.extend(cleared(app, project, branch, queue).await?);
    let undone = |state: &TrialState| matches!(state, TrialState::Unmade { .. } | TrialState::Unlanded { .. });
    if queue.trials().iter().any(|trial| undone(&trial.state)) {
        events.push(Event::Again);
    }
    Ok(events)
}
