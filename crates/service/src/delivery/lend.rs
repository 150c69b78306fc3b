//! What a job that deploys is leased besides: what must be well after its steps, and of one that goes back all that the earlier
//! deployment was leased.

use super::around::Standing;
use crate::app::App;
use crate::clock;
use crate::keeper::{RunInfo, lease, of_row};
use ordotaxis_core::engine::{Run, State};
use ordotaxis_core::plan::Plan;
use ordotaxis_core::rules::{Asks, Check};
use ordotaxis_store::{JobRow, Project, StoreError};
use ordotaxis_wire::runner::{Lease, LeaseCheck};
use std::sync::Arc;

/// Adds it to a lease that is about to be sent.
pub(crate) async fn add_delivery(app: &App, sent: &mut Lease) -> Result<(), StoreError> {
    let Some(name) = sent.environment.clone() else { return Ok(()) };
    let Some(plan) = app.plan_of(sent.attempt.run).await? else { return Ok(()) };
    let Some(project) = app.records.project(&sent.project).await? else { return Ok(()) };
    // What takes something away leaves nothing to ask.
    if plan.closes(sent.attempt.job) {
        return Ok(());
    }
    let mut about = plan;
    if sent.back {
        match earlier(app, &project, &name, sent).await? {
            Some(earlier) => about = earlier,
            // What is new must not be taken for what was there before.
            None => {
                sent.forbidden = Some(format!("what was in {name} before cannot be found any more"));
                return Ok(());
            }
        }
    }
    let standing = Standing::of(app, &project).await?;
    match standing.rules(&name) {
        Ok(rules) => sent.check = rules.check.map(|check| filled(&check, &name, &about)),
        Err(why) => sent.forbidden = Some(format!("nobody knows what must be well afterwards: {why}")),
    }
    Ok(())
}

/// Puts what the present deployment was leased in place of what the job is. Gives its plan.
async fn earlier(app: &App, project: &Project, name: &str, sent: &mut Lease) -> Result<Option<Arc<Plan>>, StoreError> {
    let state = app.records.environment_state(project.id, name).await?;
    let Some((run, job)) = state.present.map(|there| there.job) else { return Ok(None) };
    let (Some(stored), Some(plan)) = (app.records.stored_run(run).await?, app.plan_of(run).await?) else { return Ok(None) };
    let states = app.records.jobs(run).await?.into_iter().map(JobRow::restore).collect::<Result<Vec<_>, _>>()?;
    let before = Run::restore(plan.clone(), states, State::from_word(&stored.state).unwrap_or(State::Passed));
    let rows = app.records.artifacts(run).await?.into_iter();
    let given = rows.filter_map(|row| Some(((usize::try_from(row.job).ok()?, row.name.clone()), of_row(row)?))).collect();
    let mut other = lease(&RunInfo::of(project, &stored, false), &before, &given, job, &app.public_url);
    let number = i64::try_from(sent.attempt.job).unwrap_or(i64::MAX);
    let mut tx = app.records.tx_by_rule("delivery", clock::now()).await?;
    tx.set_going_back(sent.attempt.run, number, sent.attempt.attempt, run).await?;
    tx.commit().await?;
    // It is still this run's attempt: in its log, by its name, with its time and its turn.
    (other.attempt, other.run, other.job, other.taken_at) = (sent.attempt, sent.run.clone(), sent.job.clone(), sent.taken_at);
    (other.gives, other.reports, other.publish, other.back) = (Vec::new(), Default::default(), Vec::new(), true);
    other.releases = false;
    *sent = other;
    Ok(Some(plan))
}

/// The rules' check, for what is put there.
fn filled(check: &Check, environment: &str, plan: &Plan) -> LeaseCheck {
    let occasion = &plan.occasion;
    let commit = occasion.commit.as_deref().unwrap_or_default();
    let tag = occasion.tag_name();
    let version = tag.map(|tag| tag.strip_prefix('v').filter(|rest| rest.starts_with(|c: char| c.is_ascii_digit())).unwrap_or(tag));
    let values = [
        ("{version}", version.unwrap_or(commit)),
        ("{commit}", commit),
        ("{environment}", environment),
        ("{branch}", occasion.branch().unwrap_or_default()),
        ("{tag}", tag.unwrap_or_default()),
    ];
    let fill = |text: &str| values.iter().fold(text.to_owned(), |text, (slot, value)| text.replace(slot, value));
    let ms = |ms: i64| u64::try_from(ms).unwrap_or(0);
    let (url, says, run) = match &check.asks {
        Asks::Url { url, says } => (Some(fill(url)), says.as_deref().map(fill), None),
        // A branch's name is never part of a command: it finds it in its variables.
        Asks::Run(run) => (None, None, Some(run.clone())),
    };
    LeaseCheck { url, says, run, within_ms: ms(check.within), for_ms: ms(check.lasts) }
}
