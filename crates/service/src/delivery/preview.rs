//! Previews: what a proposal's run put somewhere for people to look at is taken away when the proposal has ended, or its time is
//! over. What cannot be taken away is said, and tried again.

use super::around::Standing;
use crate::app::App;
use crate::clock;
use crate::occasions::{NotCarried, Wanted, begin_carried};
use ordotaxis_core::access::Actor;
use ordotaxis_core::plan::Carry;
use ordotaxis_core::rules::EnvironmentRules;
use ordotaxis_store::{PreviewRow, Project, RunKey, StoreError};

/// After one that failed it is tried again in so many times the first pause between tries.
const AGAIN: u32 = 60;

/// Begins to close what is due of a project's previews.
pub(super) async fn look_after(app: &App, project: &Project, standing: &Standing, all: &[PreviewRow]) -> Result<(), StoreError> {
    let now = clock::now();
    for row in all.iter().filter(|row| row.environment.project_id == project.id && !row.closing) {
        let Ok(rules) = standing.rules(&row.environment.name) else { continue };
        if !is_due(row, &rules, now) || !may_try(app, row, now).await? {
            continue;
        }
        match close(app, &Actor::rule("preview"), project, row).await {
            Ok(_) => {}
            Err(NotCarried::Store(error)) => return Err(error),
            Err(NotCarried::No(why)) => say(app, row, Some(&why)).await?,
        }
    }
    Ok(())
}

/// Its proposal is not open any more, or it was there for as long as it may be.
fn is_due(row: &PreviewRow, rules: &EnvironmentRules, now: i64) -> bool {
    let ended = row.proposal_state.as_deref() != Some("open");
    let over = rules.lasts.is_some_and(|lasts| row.since.saturating_add(lasts) <= now);
    rules.preview && (ended || over)
}

/// Whether it was not tried just now.
async fn may_try(app: &App, row: &PreviewRow, now: i64) -> Result<bool, StoreError> {
    let pause = i64::try_from((app.settings.retry_pause * AGAIN).as_millis()).unwrap_or(i64::MAX);
    let tried = row.environment.unclosed_at.is_some_and(|at| now - at < pause);
    if tried || row.environment.unclosed_at.is_none() || row.environment.unclosed.is_some() {
        return Ok(!tried);
    }
    // It was begun, has ended, and the preview is still there.
    say(app, row, Some("the job that closes it did not end well; it is tried again")).await?;
    Ok(false)
}

/// The run that put there what is there now; where that is being changed or nobody knows it, the newest.
fn run_there(row: &PreviewRow) -> Result<i64, StoreError> {
    let state = row.environment.machine()?;
    let known = state.inside().is_none() && state.doubt.is_none();
    Ok(state.present.filter(|_| known).map_or(row.run_id, |put| put.job.0))
}

/// Takes a preview away, with what is there.
pub(super) async fn close(app: &App, actor: &Actor, project: &Project, row: &PreviewRow) -> Result<RunKey, NotCarried> {
    let gone = || NotCarried::No("the run that put it there is gone".to_owned());
    let from = app.records.runs_by_id(&[run_there(row)?]).await?.pop().ok_or_else(gone)?;
    let wanted = Wanted { from: &from, environment: &row.environment.name, way: Carry::Away, job: None };
    let key = begin_carried(app, actor, project, &wanted).await?;
    say(app, row, None).await?;
    Ok(key)
}

async fn say(app: &App, row: &PreviewRow, why: Option<&str>) -> Result<(), StoreError> {
    let mut tx = app.records.tx_by_rule("preview", clock::now()).await?;
    tx.set_unclosed(row.environment.id, why).await?;
    tx.commit().await
}

/// Someone wants a preview closed now.
pub(crate) async fn close_now(app: &App, actor: &Actor, project: &Project, name: &str) -> Result<RunKey, NotCarried> {
    let all = app.records.previews().await?;
    let row = all.into_iter().find(|row| row.environment.project_id == project.id && row.environment.name == name);
    let Some(row) = row else {
        return Err(NotCarried::No(format!("{name} is no preview that is open: no proposal\'s run put anything there")));
    };
    if row.closing {
        return Err(NotCarried::No(format!("{name} is being closed already")));
    }
    close(app, actor, project, &row).await
}
