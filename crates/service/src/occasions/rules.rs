//! Start rules that wait for something else than the repository: schedules and passed pipelines. The main branch says
//! which there are; they are written down when it moves, so that waiting reads no files.

use super::{OccasionError, PipelineFile};
use crate::app::App;
use crate::causes::causes;
use crate::clock;
use ordotaxis_core::language::Schedule;
use ordotaxis_core::plan::{Cause, Occasion, start_rules};
use ordotaxis_store::{DueSchedule, Project, StoreError, Tx};
use std::str::FromStr;
use std::time::Duration;

/// The longest a schedule's worker sleeps: a clock that jumps is noticed within this.
const LONGEST_SLEEP: i64 = 30_000;
/// How long it rests after an error.
const REST: i64 = 1_000;

/// Takes over the rules of the main branch's pipelines, when that is what was pushed.
pub(super) async fn follow_main(app: &App, project: &Project, occasion: &Occasion, files: &[PipelineFile]) -> Result<(), OccasionError> {
    if !matches!(&occasion.cause, Cause::Push { branch, .. } if *branch == project.main_branch) {
        return Ok(());
    }
    let names: Vec<&str> = files.iter().map(|file| file.name.as_str()).collect();
    let mut tx = app.records.tx_by_rule("start-rules", clock::now()).await?;
    tx.keep_pipelines(project.id, &names).await?;
    for file in files {
        take_over(app, &mut tx, project, &file.name, &file.text).await?;
    }
    Ok(tx.commit().await?)
}

/// Takes over one file's rules. A file with mistakes leaves those there were; an empty one has none.
pub(crate) async fn take_over(app: &App, tx: &mut Tx, project: &Project, name: &str, text: &str) -> Result<(), StoreError> {
    if text.is_empty() {
        // It was taken out; the repository's file, if there is one, speaks up at the next push.
        tx.set_schedules(project.id, name, &[]).await?;
        return tx.set_listens(project.id, name, &[]).await;
    }
    let Some(rules) = start_rules(text) else { return Ok(()) };
    let now = clock::now();
    let lines: Vec<(String, i64)> =
        rules.schedule.iter().filter_map(|(line, schedule)| Some((line.clone(), schedule.next(now)?))).collect();
    tx.set_schedules(project.id, name, &lines).await?;
    if !lines.is_empty() {
        app.schedules.notify_one();
    }
    let full = |passed: &str| if passed.contains('/') { passed.to_owned() } else { format!("{}/{passed}", project.name) };
    let passed: Vec<String> = rules.pipeline.iter().map(|passed| full(&passed.value)).collect();
    tx.set_listens(project.id, name, &passed).await
}

/// Works until the service stops: when a schedule is due, an occasion is written down.
pub(crate) async fn schedules(app: App) {
    loop {
        let worked = come_due(&app).await;
        if let Err(error) = &worked {
            tracing::error!(error = causes(&error), "schedules could not be worked off");
        }
        // What could not be worked off is still due: an error that stays must not make the loop run hot.
        let shortest = if worked.is_ok() { 1 } else { REST };
        let next = app.records.next_schedule_at().await.ok().flatten();
        let wait = next.map_or(LONGEST_SLEEP, |at| (at - clock::now()).clamp(shortest, LONGEST_SLEEP));
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = app.schedules.notified() => {}
            () = tokio::time::sleep(Duration::from_millis(wait.unsigned_abs())) => {}
        }
    }
}

/// Turns schedules whose time has come into occasions.
async fn come_due(app: &App) -> Result<(), StoreError> {
    let now = clock::now();
    for due in app.records.due_schedules(now).await? {
        let Some(project) = app.records.project_by_id(due.project_id).await? else { continue };
        let cause = Cause::Schedule { line: Some(due.line.clone()), branch: Some(project.main_branch) };
        let occasion = Occasion { meant: Some(due.pipeline.clone()), ..Occasion::new(cause) };
        let body = serde_json::to_string(&occasion).unwrap_or_default();
        let mut tx = app.records.tx_by_rule("schedule", now).await?;
        tx.schedule_came(&due, &body, after(&due, now)).await?;
        tx.commit().await?;
    }
    Ok(())
}

/// The next moment from now on: what came due while the service was away counts once.
fn after(due: &DueSchedule, now: i64) -> Option<i64> {
    Schedule::from_str(&due.line).ok()?.next(now)
}
