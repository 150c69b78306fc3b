//! What no event tells: hours that open and close, approvals that run out, rules and people that changed.

use super::around::{Around, Standing};
use super::ended::forgotten;
use super::preview::look_after;
use crate::app::App;
use crate::causes::causes;
use crate::clock;
use crate::keeper::DeliveryWork;
use ordotaxis_core::delivery::Event;
use ordotaxis_store::{EnvironmentRow, Project, StoreError};
use std::time::Duration;

/// All in which something waits are looked at this often.
const EVERY: Duration = Duration::from_secs(15);
/// What came due was asked to be looked at; until that is done it is due still.
const REST: Duration = Duration::from_secs(1);

/// Works as long as the service goes on.
pub(crate) async fn work(app: App) {
    loop {
        let pause = match tick(&app).await {
            Ok(()) => until_next(&app).await.unwrap_or(EVERY),
            Err(error) => {
                tracing::warn!(error = causes(&error), "the environments could not be looked after");
                EVERY
            }
        };
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = tokio::time::sleep(pause) => {}
        }
    }
}

/// How long nothing comes due.
async fn until_next(app: &App) -> Result<Duration, StoreError> {
    let next = app.records.next_environment_wakes().await?;
    let wait = |at: i64| match at - clock::now() {
        ms @ 1.. => Duration::from_millis(ms.unsigned_abs()).min(EVERY),
        _ => REST,
    };
    Ok(next.map_or(EVERY, wait))
}

async fn tick(app: &App) -> Result<(), StoreError> {
    let previews = app.records.previews().await?;
    let mut with_previews: Vec<i64> = previews.iter().map(|row| row.environment.project_id).collect();
    with_previews.dedup();
    for id in with_previews {
        let Some(project) = app.records.project_by_id(id).await? else { continue };
        let standing = Standing::of(app, &project).await?;
        look_after(app, &project, &standing, &previews).await?;
    }
    let mut known: Option<(Project, Standing)> = None;
    for row in app.records.busy_environments().await? {
        if known.as_ref().is_none_or(|(project, _)| project.id != row.project_id) {
            known = match app.records.project_by_id(row.project_id).await? {
                Some(project) => {
                    let standing = Standing::of(app, &project).await?;
                    Some((project, standing))
                }
                None => None,
            };
        }
        let Some((project, standing)) = &known else { continue };
        if let Err(error) = look(app, project, standing, &row).await {
            tracing::warn!(error = causes(&error), environment = row.name, "an environment could not be looked at");
        }
    }
    Ok(())
}

/// Asks for a look where that would change something.
async fn look(app: &App, project: &Project, standing: &Standing, row: &EnvironmentRow) -> Result<(), StoreError> {
    let before = row.machine()?;
    let around = Around::of(app, project, standing, &row.name, &before, None).await?;
    let mut after = before.clone();
    let now = clock::now();
    let effects = around.at(now, |around| after.apply(Event::Look, around));
    if effects.is_empty() && after == before && forgotten(app, &before).await?.is_empty() {
        return Ok(());
    }
    let mut tx = app.records.tx_by_rule("delivery", now).await?;
    tx.add_work(&DeliveryWork::Look.row(project.id, &row.name)).await?;
    tx.commit().await
}
