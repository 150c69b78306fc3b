//! The one comment of a proposal: gathered from how things are now, and sent where it says something else than before.

use super::landing::Landings;
use crate::about::{failing, grown, sentences};
use crate::app::App;
use crate::clock;
use crate::delivery::Standing;
use crate::forge::{CallError, Forge};
use crate::landing::{RulesError, rules_of};
use crate::work::{Outcome, ended};
use ordotaxis_core::engine::State;
use ordotaxis_core::forge::{Comment, Kind, Ran};
use ordotaxis_store::{DueWork, Project, ProposalRow, RunRow, StoreError, WorkKind};
use std::collections::{BTreeMap, HashSet};
use std::time::Duration;

/// A proposal's runs are looked through so far back.
const RUNS: i64 = 100;
/// How often, while one waits for that, something newer is looked for.
const LOOK: Duration = Duration::from_millis(100);

/// Writes a proposal's comment as it should be now. One that a newer one waits behind is left out.
pub(crate) async fn write(app: &App, due: &DueWork) -> Result<Outcome, StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(Outcome::Done(None)) };
    let of = (project.id, due.lane.clone(), "comment".to_owned());
    while let Some(rest) = app.told.rest(&of) {
        if app.records.waits_behind(WorkKind::Comment, due).await? {
            return Ok(Outcome::Done(Some("a newer one was written in its place".into())));
        }
        tokio::time::sleep(rest.min(LOOK)).await;
    }
    if app.records.waits_behind(WorkKind::Comment, due).await? {
        return Ok(Outcome::Done(Some("a newer one was written in its place".into())));
    }
    let Some(row) = app.records.proposal(project.id, &due.lane).await? else { return Ok(Outcome::Done(None)) };
    let done = match rules_of(app, &project).await {
        Ok(rules) if !rules.told.comments => Ok(()),
        Err(RulesError::Store(error)) => return Err(error),
        // With rules that cannot be read the comment is written as by itself.
        Ok(_) | Err(_) => send(app, &project, &row, &gathered(app, &project, &row).await?).await?,
    };
    app.told.note(of);
    Ok(ended(done))
}

/// How it is with a proposal now.
pub(crate) async fn gathered(app: &App, project: &Project, row: &ProposalRow) -> Result<Comment, StoreError> {
    let runs = newest_runs(app, project, row).await?;
    let mut comment = Comment {
        project: project.name.clone(),
        head: row.head.clone(),
        landing: Landings::of(app, project).await?.lines(row),
        answers: row.answered(),
        previews: previews(app, project, row).await?,
        ..Comment::default()
    };
    let sentences = sentences(app, &runs).await?;
    for (run, sentence) in runs.iter().zip(sentences) {
        let state = State::from_word(&run.state).unwrap_or(State::Failed);
        let plan = app.plan_of(run.id).await?;
        if state == State::Failed {
            comment.failures.extend(failing(app, run, plan.as_deref()).await?.new);
        }
        if let Some(plan) = plan.filter(|_| state.is_end()) {
            comment.numbers.extend(grown(app, run.id, &plan).await?);
        }
        let link = format!("{}/runs/{}/{}", app.public_url, run.project, run.number);
        comment.runs.push(Ran { pipeline: run.pipeline.clone(), state, sentence, link });
    }
    comment.runs.sort_by(|one, other| one.pipeline.cmp(&other.pipeline));
    Ok(comment)
}

/// Where a proposal can be looked at.
async fn previews(app: &App, project: &Project, row: &ProposalRow) -> Result<Vec<(String, Option<String>, String)>, StoreError> {
    let open = app.records.previews_of(project.id, &row.number).await?;
    if open.is_empty() {
        return Ok(Vec::new());
    }
    let standing = Standing::of(app, project).await?;
    let url = |name: &str| standing.rules(name).ok()?.url.map(|url| url.replace("{environment}", name));
    Ok(open.into_iter().map(|(name, commit)| (name.clone(), url(&name), commit)).collect())
}

/// The newest run of each pipeline for the newest commit of a proposal.
pub(crate) async fn newest_runs(app: &App, project: &Project, row: &ProposalRow) -> Result<Vec<RunRow>, StoreError> {
    let runs = app.records.runs_of_proposals(project.id, &[&row.number], RUNS).await?;
    let mut seen = HashSet::new();
    Ok(runs.into_iter().filter(|run| run.told_on() == row.head && seen.insert(run.pipeline.clone())).collect())
}

/// Writes it for the first time, or anew in its place; not at all where it says the same as before.
async fn send(app: &App, project: &Project, row: &ProposalRow, comment: &Comment) -> Result<Result<(), CallError>, StoreError> {
    let text = comment.text();
    let Some(forge) = Forge::of(app, project) else { return Ok(Ok(())) };
    let forge = match forge {
        Ok(forge) => forge,
        Err(error) => return Ok(Err(error)),
    };
    if !forge.can(Kind::Comment) || row.comment_text.as_deref() == Some(&text) {
        return Ok(Ok(()));
    }
    // What nobody would read is not written: of a proposal that ended before it had a comment.
    if row.comment_text.is_none() && (row.state != "open" || (comment.runs.is_empty() && comment.answers.is_empty())) {
        return Ok(Ok(()));
    }
    let values = || {
        BTreeMap::from([
            ("proposal", row.number.clone()),
            ("text", text.clone()),
            ("link", format!("{}/projects/{}/proposals/{}", app.public_url, project.name, row.number)),
        ])
    };
    if let Some(known) = row.comment.as_ref().filter(|_| forge.can(Kind::CommentAgain)) {
        let mut values = values();
        values.insert("comment", known.clone());
        match forge.ask(Kind::CommentAgain, values).await {
            Ok(_) => return note(app, row, Some(known), &text).await.map(Ok),
            // Someone deleted it: it is written anew, once.
            Err(CallError::Gone(_)) => {}
            Err(error) => return Ok(Err(error)),
        }
    } else {
        // What cannot be written anew is written once: on a forge that can do so at once, on another when all runs have ended.
        let complete = comment.runs.iter().all(|run| run.state.is_end());
        if row.comment_text.is_some() || !(forge.can(Kind::CommentAgain) || complete) {
            return Ok(Ok(()));
        }
    }
    match forge.ask(Kind::Comment, values()).await {
        Ok(called) => {
            let made = forge.made(Kind::Comment, &called.body);
            note(app, row, made.as_deref(), &text).await.map(Ok)
        }
        Err(error) => Ok(Err(error)),
    }
}

async fn note(app: &App, row: &ProposalRow, comment: Option<&str>, text: &str) -> Result<(), StoreError> {
    let mut tx = app.records.tx_by_rule("comment", clock::now()).await?;
    tx.set_proposal_comment(row.id, comment, text, &row.head).await?;
    tx.commit().await
}
