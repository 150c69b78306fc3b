//! One event, from the environment on disk to the environment on disk.

use super::around::{Around, Standing};
use crate::app::App;
use crate::clock;
use crate::keeper::DeliveryWork;
use crate::notices::{News, news};
use crate::talk::comment_anew;
use ordotaxis_core::delivery::{Effect, Environment, Event, Hold, Put, Way, Wish, Word};
use ordotaxis_core::dispatch::Key;
use ordotaxis_store::{EnvironmentRow, NewDeployment, Project, StoreError, Tx};
use std::collections::HashMap;

/// Tells an environment what happened, as a rule of the service. `answer`: what the check of a deployment got that has ended.
pub(super) async fn tell(app: &App, project: &Project, name: &str, events: Vec<Event>, answer: Option<&str>) -> Result<(), StoreError> {
    let state = app.records.environment_state(project.id, name).await?;
    let more = events.iter().find_map(|event| if let Event::Wants(wish) = event { Some(&**wish) } else { None });
    let standing = Standing::of(app, project).await?;
    let around = Around::of(app, project, &standing, name, &state, more).await?;
    let mut tx = app.records.tx_by_rule("delivery", clock::now()).await?;
    change(&mut tx, (project.id, name), &around, events, answer).await?;
    tx.commit().await
}

/// Within a change: what happened, and all that follows is written down.
pub(super) async fn change(
    tx: &mut Tx,
    (project_id, name): (i64, &str),
    around: &Around<'_>,
    events: Vec<Event>,
    answer: Option<&str>,
) -> Result<(), StoreError> {
    let row = tx.environment(project_id, name).await?;
    let mut state = row.machine()?;
    let (before, now) = (state.clone(), clock::now());
    let mut ready: HashMap<Key, i64> = before.waiting().map(|(wish, _)| (wish.job, wish.asked_at)).collect();
    for event in events {
        match &event {
            Event::Wants(wish) => drop(ready.insert(wish.job, wish.asked_at)),
            Event::Ended { job, end, at } => {
                if let Some(number) = tx.deployment_ended(row.id, *job, end, answer, *at).await? {
                    tx.add_work(&news(project_id, &News::Delivered { environment: name.to_owned(), number })).await?;
                }
                tx.emergency_over(*job).await?;
            }
            Event::Gone { job } => tx.emergency_over(*job).await?,
            _ => {}
        }
        for effect in around.at(now, |around| state.apply(event, around)) {
            follow(tx, &row, &state, effect, &ready).await?;
        }
    }
    for (run, job) in asked_now(&before, &state) {
        tx.add_work(&news(project_id, &News::Asks { environment: name.to_owned(), run, job })).await?;
    }
    if state != before {
        tx.set_environment(row.id, &state).await?;
    }
    let inside = |state: &Environment| state.inside().map(|inside| inside.wish.job);
    if put(&state) != put(&before) || inside(&state) != inside(&before) {
        look_at_others(tx, project_id, name).await?;
    }
    if put(&state) != put(&before) {
        // A proposal's comment says where it can be looked at.
        for one in [put(&state), put(&before)].into_iter().flatten() {
            if let Some(proposal) = tx.proposal_of_run(one.job.0).await? {
                tx.add_work(&comment_anew(project_id, &proposal)).await?;
            }
        }
        // What is there again because something failed goes nowhere else.
        let undone = before.inside().is_some_and(|inside| matches!(inside.wish.way, Way::Undo { .. }));
        if let Some(there) = put(&state).filter(|_| !undone) {
            tx.add_work(&DeliveryWork::GoOn { run: there.job.0 }.row(project_id, name)).await?;
        }
    }
    Ok(())
}

/// Jobs that wait for approvals and did not before.
fn asked_now(before: &Environment, state: &Environment) -> Vec<Key> {
    let asks = |state: &Environment| -> Vec<Key> {
        let asked = |holds: &[Hold]| holds.iter().any(|hold| matches!(hold, Hold::Approvals { .. }));
        state.waiting().filter(|(_, holds)| asked(holds)).map(|(wish, _)| wish.job).collect()
    };
    let known = asks(before);
    asks(state).into_iter().filter(|job| !known.contains(job)).collect()
}

fn put(state: &Environment) -> Option<&Put> {
    state.present.as_ref()
}

/// What is put here, or is not any more, is what others may wait for.
async fn look_at_others(tx: &mut Tx, project_id: i64, name: &str) -> Result<(), StoreError> {
    for other in tx.environments(project_id).await? {
        if other.name != name && other.machine()?.waiting().next().is_some() {
            tx.add_work(&DeliveryWork::Look.row(project_id, &other.name)).await?;
        }
    }
    Ok(())
}

async fn follow(
    tx: &mut Tx,
    row: &EnvironmentRow,
    state: &Environment,
    effect: Effect,
    ready: &HashMap<Key, i64>,
) -> Result<(), StoreError> {
    let job = match &effect {
        Effect::Wake { .. } => return Ok(()), // kept with the environment
        Effect::Confirmed { job, by } => return tx.deployment_confirmed(row.id, *job, by).await,
        Effect::Admit { job, rules, .. } => {
            if let Some(inside) = state.inside().filter(|inside| inside.wish.job == *job) {
                tx.let_in(row.id, &new_deployment(&inside.wish, rules)).await?;
                if let Way::Emergency { by, reason } = &inside.wish.way {
                    let (called, by, reason) = (inside.wish.called.clone(), by.clone(), reason.clone());
                    let past = News::Past { environment: row.name.clone(), called, by, reason };
                    tx.add_work(&news(row.project_id, &past)).await?;
                }
            }
            *job
        }
        Effect::Refuse { job, .. } | Effect::Overtake { job, .. } | Effect::Held { job, .. } => *job,
    };
    let asked_at = ready.get(&job).copied().unwrap_or_default();
    tx.add_work(&DeliveryWork::Effect { effect, asked_at }.row(row.project_id, &row.name)).await.map(drop)
}

fn new_deployment(wish: &Wish, rules: &str) -> NewDeployment {
    let (run, job_id) = wish.called.split_once(' ').unwrap_or((wish.called.as_str(), ""));
    let agreed: Vec<&Word> = wish.words.iter().filter(|word| word.agrees && word.artifacts == wish.artifacts).collect();
    NewDeployment {
        run_id: wish.job.0,
        run: run.to_owned(),
        job: i64::try_from(wish.job.1).unwrap_or(i64::MAX),
        job_id: job_id.to_owned(),
        commit_id: wish.commit.clone(),
        reference: wish.reference.clone(),
        way: wish.way.clone(),
        started_by: wish.by.clone(),
        artifacts: wish.artifacts.iter().cloned().collect(),
        words: serde_json::to_string(&agreed).unwrap_or_default(),
        rules_commit: rules.to_owned(),
    }
}
