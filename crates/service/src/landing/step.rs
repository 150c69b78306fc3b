//! Someone asks for a proposal to land, or changes where it stands in the queue.

use super::change::change;
use super::rules::{Words, rules_of};
use super::tick::tick;
use crate::app::App;
use crate::causes::causes;
use crate::clock;
use crate::forge::{LookError, look_at};
use ordotaxis_core::access::{Action, Actor};
use ordotaxis_core::landing::{Event, Offered, Queue};
use ordotaxis_core::rules;
use ordotaxis_git::GitError;
use ordotaxis_store::{Entry, Project, ProposalRow, StoreError};
use ordotaxis_wire::landing::LandingStep;
use std::time::Duration;

/// Who asks for something to land waits for the forge no longer than this.
const PATIENCE: Duration = Duration::from_secs(10);

/// Why it was not done.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotLanding {
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The repository cannot be read now.
    #[error("{0}")]
    Away(String),
    #[error("{0}")]
    No(String),
}

/// Does one step, and looks after the queue at once. `why`: of leaving and holding.
pub(crate) async fn step(
    app: &App,
    actor: &Actor,
    project: &Project,
    row: &ProposalRow,
    what: LandingStep,
    why: Option<&str>,
) -> Result<(), NotLanding> {
    if what == LandingStep::Land {
        asked(app, actor, project, row).await?;
    } else {
        moved(app, actor, project, row, what, why).await?;
    }
    Ok(tick(app, project, &row.target).await?)
}

/// It takes its place, if its branch has a queue and it is offered. One that was held is tried again.
async fn asked(app: &App, actor: &Actor, project: &Project, row: &ProposalRow) -> Result<(), NotLanding> {
    if row.state != "open" {
        return Err(NotLanding::No(format!("proposal {} is {}: there is nothing to land", row.number, row.state)));
    }
    // An approval may have been given a moment ago, or its hook lost. Without an answer what hooks told holds.
    match tokio::time::timeout(PATIENCE, look_at(app, project, row)).await {
        Ok(Ok(())) => {}
        Ok(Err(LookError::Store(error))) => return Err(error.into()),
        Err(_) => tracing::warn!(project = project.name, proposal = row.number, "the forge did not answer in time"),
        Ok(Err(error)) => {
            tracing::warn!(error = causes(&error), project = project.name, proposal = row.number, "the forge could not be asked")
        }
    }
    let Some(row) = &app.records.proposal(project.id, &row.number).await?.filter(|row| row.state == "open") else {
        return Err(NotLanding::No(format!("proposal {} was closed: there is nothing to land", row.number)));
    };
    let away = |error: GitError| NotLanding::Away(format!("{} cannot be read now: {error}", project.git_url));
    let mirror = app.mirror(project);
    mirror.fetch_all().await.map_err(away)?;
    let rules = rules_of(app, project).await.map_err(|error| NotLanding::No(error.to_string()))?.branch(&row.target);
    if !rules.queue {
        let why = format!(
            "the branch {} has no landing queue: `{}` on {} says land = \"queue\" below [branch.{}] where it should have one",
            row.target,
            rules::FILE,
            project.main_branch,
            row.target
        );
        return Err(NotLanding::No(why));
    }
    let Some(head) = mirror.resolve(&row.target).await.map_err(away)? else {
        return Err(NotLanding::No(format!("there is no branch {}", row.target)));
    };
    let lacking = Words::of(app, project).await?.lacking(row, &rules);
    let (proposal, now) = (row.number.clone(), clock::now());
    let offered = Offered { proposal: proposal.clone(), head: row.head.clone() };
    let mut tx = app.records.tx(actor, now).await?;
    if tx.landing(project.id, &row.target).await?.is_none() {
        tx.set_landing(project.id, &row.target, &Queue::new(&head, rules.manner)).await?;
    }
    let events = vec![
        Event::Moved { head },
        Event::Manner(rules.manner),
        // What it lacks is known before it is tried.
        Event::Asked { offered, by: actor.name().to_owned(), at: now, lacks: lacking },
        Event::Held { proposal, why: None },
    ];
    change(&mut tx, project.id, &row.target, events).await?;
    tx.note(Entry::new(Action::Land, format!("proposal {}", row.number)).of(&project.name).after(&row.head));
    tx.commit().await?;
    Ok(())
}

/// It leaves, goes first, is held or released.
async fn moved(
    app: &App,
    actor: &Actor,
    project: &Project,
    row: &ProposalRow,
    what: LandingStep,
    why: Option<&str>,
) -> Result<(), NotLanding> {
    let proposal = row.number.clone();
    let mut tx = app.records.tx(actor, clock::now()).await?;
    let queue = tx.landing(project.id, &row.target).await?;
    let Some(queue) = queue.filter(|queue| queue.entry(&proposal).is_some()) else {
        return Err(NotLanding::No(format!("proposal {proposal} is not in the landing queue of {}", row.target)));
    };
    if queue.is_landing(&proposal) && what != LandingStep::Release {
        return Err(NotLanding::No(format!("proposal {proposal} is landing just now: it is too late")));
    }
    let why = |usual: &str| match why {
        Some(why) => format!("{}: {why}", actor.name()),
        None => format!("{} {usual}", actor.name()),
    };
    let event = match what {
        LandingStep::Leave => Event::Leave { proposal, why: why("took it out") },
        LandingStep::First => Event::Ranked { proposal, rank: 1 },
        LandingStep::Hold => Event::Held { proposal, why: Some(why("holds it back")) },
        LandingStep::Release | LandingStep::Land => Event::Held { proposal, why: None },
    };
    change(&mut tx, project.id, &row.target, vec![event]).await?;
    tx.note(Entry::new(Action::Land, format!("proposal {}", row.number)).of(&project.name).after(what));
    tx.commit().await?;
    Ok(())
}
