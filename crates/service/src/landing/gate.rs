//! Whether a push to a plain git server may go on: to a branch with a landing queue nothing is pushed but what the queue lands.

use super::change::queue_of;
use super::rules::{RulesError, rules_of};
use crate::app::App;
use ordotaxis_core::landing::TrialState;
use ordotaxis_store::{Project, StoreError};
use ordotaxis_wire::gate::{Asked, Refused};

/// Nobody knows the rules now.
#[derive(Debug, thiserror::Error)]
pub(crate) enum GateError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("{0}")]
    Away(String),
}

/// What of a push is refused, each with the reason.
pub(crate) async fn gate(app: &App, project: &Project, asked: &Asked) -> Result<Vec<Refused>, GateError> {
    let rules = match rules_of(app, project).await {
        Ok(rules) => rules,
        Err(RulesError::Store(error)) => return Err(error.into()),
        // Who mends them must be able to push.
        Err(RulesError::Mistake { .. }) => return Ok(Vec::new()),
        Err(error) => return Err(GateError::Away(error.to_string())),
    };
    let mut refused = Vec::new();
    for moved in &asked.moved {
        let Some(branch) = moved.name.strip_prefix("refs/heads/") else { continue };
        if rules.branch(branch).queue && !is_queues_own(app, project, branch, &moved.commit).await? {
            let why = format!(
                "{branch} has a landing queue: push another branch, propose it, and `ordotaxis land` it; see {}/projects/{}/landing",
                app.public_url, project.name
            );
            refused.push(Refused { name: moved.name.clone(), why });
        }
    }
    Ok(refused)
}

/// Whether the queue is landing just this commit. It has passed as exactly that, whoever pushes it.
async fn is_queues_own(app: &App, project: &Project, branch: &str, commit: &str) -> Result<bool, StoreError> {
    let queue = queue_of(&app.records, project.id, branch).await?;
    let lands = |state: &TrialState| match state {
        TrialState::Landing { commit: landing } | TrialState::Unlanded { commit: landing, .. } => landing == commit,
        _ => false,
    };
    Ok(queue.is_some_and(|queue| queue.trials().iter().any(|trial| lands(&trial.state))))
}
