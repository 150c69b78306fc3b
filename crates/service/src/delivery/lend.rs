//! What a job that deploys is leased besides: what must be well after its steps, and of one that goes back all that the earlier
//! deployment was leased.

use super::around::Standing;
use crate::app::App;
use crate::clock;
use crate::keeper::{RunInfo, lease, of_row};
use ordotaxis_core::delivery::{Environment, Put, Side, Way};
use ordotaxis_core::engine::{Run, State};
use ordotaxis_core::language::Rollout;
use ordotaxis_core::plan::{Plan, PlannedJob};
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
    let state = app.records.environment_state(project.id, &name).await?;
    let (mut about, mut job) = (plan, sent.attempt.job);
    let mut place = Place::of(&state);
    if sent.back {
        let (there, now) = Place::before(&state);
        place = now;
        match earlier(app, &project, there, sent).await? {
            Some(earlier) => (about, job) = earlier,
            // What is new must not be taken for what was there before.
            None => {
                sent.forbidden = Some(format!("what was in {name} before cannot be found any more"));
                return Ok(());
            }
        }
    }
    let standing = Standing::of(app, &project).await?;
    match standing.rules(&name) {
        Ok(rules) => sent.check = rules.check.map(|check| filled(&check, &name, place.side, &about)),
        Err(why) => sent.forbidden = Some(format!("nobody knows what must be well afterwards: {why}")),
    }
    if let Some(rollout) = about.jobs.get(job).and_then(PlannedJob::rollout) {
        roll_out(sent, rollout, &place);
    }
    Ok(())
}

/// Where in an environment something is put.
#[derive(Debug, Clone, Copy, Default)]
struct Place {
    side: Option<Side>,
    /// It is there already.
    switch: bool,
}

impl Place {
    fn of(state: &Environment) -> Place {
        state.inside().map(|inside| Place { side: inside.side, switch: inside.switch }).unwrap_or_default()
    }

    /// Of an attempt that puts there what was there before: what that was, and its place. Within a deployment that failed it
    /// is what still counts as there; of one that was well, and is undone, what was there before it.
    fn before(state: &Environment) -> (Option<&Put>, Place) {
        if state.inside().is_some_and(|inside| matches!(inside.wish.way, Way::Undo { .. })) {
            return (state.previous.as_ref(), Place::of(state));
        }
        let side = state.present.as_ref().and_then(|put| put.side);
        (state.present.as_ref(), Place { side, switch: side.is_some() })
    }
}

/// What its roll-out adds. What has only to be put in use is not put there anew.
fn roll_out(sent: &mut Lease, rollout: &Rollout, place: &Place) {
    if !sent.back {
        sent.watch = rollout.watch.clone();
    }
    let Some(side) = place.side else { return };
    sent.env.insert("ORDOTAXIS_SIDE".to_owned(), side.word().to_owned());
    sent.switch = rollout.switch.clone();
    if place.switch {
        (sent.steps, sent.gives, sent.reports, sent.publish) = (Vec::new(), Vec::new(), Default::default(), Vec::new());
    }
}

/// Puts what an earlier deployment was leased in place of what the job is. Gives its plan, and which job of it that was.
async fn earlier(app: &App, project: &Project, there: Option<&Put>, sent: &mut Lease) -> Result<Option<(Arc<Plan>, usize)>, StoreError> {
    let Some((run, job)) = there.map(|there| there.job) else { return Ok(None) };
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
    Ok(Some((plan, job)))
}

/// The rules' check, for what is put there.
fn filled(check: &Check, environment: &str, side: Option<Side>, plan: &Plan) -> LeaseCheck {
    let occasion = &plan.occasion;
    let commit = occasion.commit.as_deref().unwrap_or_default();
    let tag = occasion.tag_name();
    let version = tag.map(|tag| tag.strip_prefix('v').filter(|rest| rest.starts_with(|c: char| c.is_ascii_digit())).unwrap_or(tag));
    let values = [
        ("{version}", version.unwrap_or(commit)),
        ("{commit}", commit),
        ("{environment}", environment),
        ("{side}", side.map(Side::word).unwrap_or_default()),
        ("{branch}", occasion.branch().unwrap_or_default()),
        ("{tag}", tag.unwrap_or_default()),
    ];
    let fill = |text: &str| values.iter().fold(text.to_owned(), |text, (slot, value)| text.replace(slot, value));
    let ms = |ms: i64| u64::try_from(ms).unwrap_or(0);
    // What asks no side sees what is in use: the new only when it has been put in use.
    let switched = match &check.asks {
        Asks::Url { url, says } => side.is_some() && !url.contains("{side}") && !says.as_deref().unwrap_or_default().contains("{side}"),
        Asks::Run(_) => false,
    };
    let (url, says, run) = match &check.asks {
        Asks::Url { url, says } => (Some(fill(url)), says.as_deref().map(fill), None),
        // A branch's name is never part of a command: it finds it in its variables.
        Asks::Run(run) => (None, None, Some(run.clone())),
    };
    LeaseCheck { url, says, run, within_ms: ms(check.within), for_ms: ms(check.lasts), switched }
}
