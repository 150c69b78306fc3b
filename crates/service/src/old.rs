//! What has grown past its age. A plan can be looked at first; carried out, runs and logs go some at a time, each looked at once
//! more, so that what someone needs again by then stays.

use crate::ages::{Ages, before};
use crate::app::App;
use crate::clock;
use crate::keeper::RunCommand;
use ordotaxis_core::access::{Action, Actor};
use ordotaxis_store::{BlobError, Entry, OldRows, OldRun, StoreError, Tx};
use ordotaxis_wire::storage::{OldRowsView, SweptView};
use std::collections::HashSet;
use std::time::Duration;

/// So many runs are dropped in one transaction: others write in between.
const BATCH: usize = 4;
/// So many in one sweep; the next goes on.
const MOST: i64 = 10_000;

/// What has grown old.
#[derive(Default)]
pub(crate) struct Old {
    runs: Vec<OldRun>,
    /// Runs whose logs go, and which stay.
    logs: Vec<OldRun>,
    rows: OldRows,
}

impl Old {
    /// Whether runs or logs are to go.
    pub(crate) fn has_runs(&self) -> bool {
        !self.runs.is_empty() || !self.logs.is_empty()
    }

    /// Runs whose logs will be gone.
    pub(crate) fn without_logs(&self) -> HashSet<i64> {
        self.runs.iter().chain(&self.logs).map(|run| run.id).collect()
    }

    pub(crate) fn runs(&self) -> Vec<SweptView> {
        self.runs.iter().map(swept).collect()
    }

    pub(crate) fn logs(&self) -> Vec<SweptView> {
        self.logs.iter().map(swept).collect()
    }

    pub(crate) fn rows(&self, ages: &Ages) -> Vec<OldRowsView> {
        let OldRows { events, work, deliveries, notices, bills, answers, machines } = self.rows;
        let kinds = [
            ("events", events, ages.events),
            ("pieces of work", work, ages.work),
            ("deliveries", deliveries, ages.deliveries),
            ("notices", notices, ages.notices),
            ("bills of materials", bills, ages.bills),
            ("answers", answers, ages.answers),
            ("machines", machines, ages.machines),
        ];
        let view = |(what, count, age): (&str, i64, Duration)| OldRowsView {
            what: what.to_owned(),
            count: count.unsigned_abs(),
            age: humantime::format_duration(age).to_string(),
        };
        kinds.into_iter().filter(|(_, count, _)| *count > 0).map(view).collect()
    }
}

fn swept(run: &OldRun) -> SweptView {
    SweptView { what: name(run), why: format!("it ended on {}", clock::words(run.ended_at)), bytes: 0 }
}

/// Looks for all that is past its age; changes nothing.
pub(crate) async fn plan(app: &App, now: i64) -> Result<Old, StoreError> {
    let (ages, records) = (&app.settings.ages, &app.records);
    let runs = match ages.runs {
        Some(age) => records.old_runs(before(now, age), now, MOST).await?,
        None => Vec::new(),
    };
    let going: HashSet<i64> = runs.iter().map(|run| run.id).collect();
    let mut logs = match ages.logs {
        Some(age) => records.old_logs(before(now, age), now, MOST).await?,
        None => Vec::new(),
    };
    logs.retain(|run| !going.contains(&run.id));
    Ok(Old { runs, logs, rows: records.old_rows(&ages.cutoffs(now)).await? })
}

/// Drops runs and logs that are still not needed; the journal names them.
pub(crate) async fn drop_runs(app: &App, by: &Actor, old: &Old, now: i64) -> Result<(), BlobError> {
    let ages = &app.settings.ages;
    for (what, runs, age) in [("runs", &old.runs, ages.runs), ("logs", &old.logs, ages.logs)] {
        let Some(age) = age else { continue };
        for batch in runs.chunks(BATCH) {
            let ids: Vec<i64> = batch.iter().map(|run| run.id).collect();
            let mut tx = app.records.tx(by, now).await?;
            let gone = if what == "runs" {
                tx.drop_old_runs(&ids, before(now, age)).await?
            } else {
                tx.drop_old_logs(&ids, before(now, age)).await?
            };
            if gone.is_empty() {
                continue;
            }
            let names: Vec<String> = batch.iter().filter(|run| gone.contains(&run.id)).map(name).collect();
            tx.note(Entry::new(Action::SweepStore, "store").before(serde_json::json!({ what: names })));
            tx.commit().await?;
            // The records know nothing of it any more: what is left is out of everyone's way.
            if what == "runs" {
                app.plans.forget(&gone);
                // A keeper that is away begins anew, with what is there.
                let _ = app.keeper.ask(|reply| RunCommand::Dropped { runs: gone.clone(), reply }).await;
            }
            let logs = app.logs.clone();
            let removed = tokio::task::spawn_blocking(move || logs.remove_runs(&gone)).await;
            removed.map_err(std::io::Error::other).flatten().map_err(|error| BlobError::Storage(error.to_string()))?;
        }
    }
    if !old.runs.is_empty() {
        let mut tx = app.records.tx_by_rule("sweep", now).await?;
        tx.drop_unnamed_components().await?;
        tx.commit().await?;
    }
    Ok(())
}

fn name(run: &OldRun) -> String {
    format!("{}/{}", run.project, run.number)
}

/// Drops all else that is past its age.
pub(crate) async fn drop_rows(tx: &mut Tx, ages: &Ages, now: i64) -> Result<(), StoreError> {
    let cutoffs = ages.cutoffs(now);
    tx.drop_events(cutoffs.events).await?;
    tx.drop_work(cutoffs.work, cutoffs.given_up).await?;
    tx.drop_deliveries(cutoffs.deliveries, cutoffs.delivery_bytes).await?;
    tx.drop_notices(cutoffs.notices).await?;
    tx.drop_documents(cutoffs.bills).await?;
    tx.drop_answers(cutoffs.answers).await?;
    tx.drop_machines(cutoffs.machines).await?;
    Ok(())
}
