//! Commands in comments: done as the person who wrote them, if they are someone here and have the right. The answer stands in
//! the proposal's one comment; there is never a new one.

use super::again::again;
use super::wanted::{Said, comment_anew};
use crate::app::App;
use crate::clock;
use crate::landing::{NotLanding, step, tick};
use crate::work::Outcome;
use ordotaxis_core::access::{Action, Actor, Object, Rights, Way, Who, allowed};
use ordotaxis_core::forge::{Answered, Spoken, spoken};
use ordotaxis_store::{DueWork, Entry, Project, ProposalRow, StoreError};
use ordotaxis_wire::landing::LandingStep;

/// Does what a comment asks for, and answers.
pub(crate) async fn answer(app: &App, due: &DueWork) -> Result<Outcome, StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(Outcome::Done(None)) };
    let Ok(said) = serde_json::from_str::<Said>(&due.body) else {
        return Ok(Outcome::Hopeless("the comment cannot be read".into()));
    };
    let Some(row) = app.records.proposal(project.id, &said.proposal).await? else {
        return Ok(Outcome::Done(Some(format!("there is no proposal {} here", said.proposal))));
    };
    let mut answers = Vec::new();
    for command in spoken(&said.text) {
        let answer = match command.asks {
            Ok(asked) => match done(app, &project, &row, &said.by, &asked).await? {
                Ok(answer) => answer,
                Err(why) => format!("not done: {why}"),
            },
            Err(why) => why,
        };
        answers.push(Answered { by: said.by.chars().take(60).collect(), command: command.line, answer });
    }
    let mut tx = app.records.tx_by_rule("comment", clock::now()).await?;
    for answered in &answers {
        tx.add_answer(row.id, answered).await?;
    }
    tx.add_work(&comment_anew(project.id, &row.number)).await?;
    tx.commit().await?;
    let words: Vec<String> = answers.iter().map(|one| format!("{}: {}", one.command, one.answer)).collect();
    Ok(Outcome::Done(Some(words.join("; "))))
}

/// What a command needs.
fn action(asked: &Spoken) -> Action {
    match asked {
        Spoken::Land | Spoken::Leave | Spoken::Hold => Action::Land,
        Spoken::Approve { .. } => Action::Approve,
        Spoken::Again | Spoken::AgainFailed => Action::RunAgain,
    }
}

/// Who wrote it, if that is someone here who may do this; else why not.
async fn person(app: &App, project: &Project, login: &str, asked: &Spoken) -> Result<Result<Actor, String>, StoreError> {
    let who = crate::who::Who::of(app, project).await?;
    let Some(person) = who.by_login(login).cloned() else {
        return Ok(Err(format!("nobody here is known as {login} at the forge; an owner adds that: ordotaxis person known NAME")));
    };
    let rights = Rights::Person(app.records.grants_of(person.id).await?);
    if let Err(refusal) = allowed(&rights, action(asked), Object::Project { name: &project.name, seen: project.seen }) {
        let givers = app.records.owners(Some(&project.name)).await?;
        return Ok(Err(refusal.sentence(&givers)));
    }
    Ok(Ok(Actor { who: Who::Person { id: person.id, name: person.name }, way: Way::Comment, address: None }))
}

/// Does one command. Gives the answer, or why it was not done.
async fn done(app: &App, project: &Project, row: &ProposalRow, login: &str, asked: &Spoken) -> Result<Result<String, String>, StoreError> {
    let actor = match person(app, project, login, asked).await? {
        Ok(actor) => actor,
        Err(why) => return Ok(Err(why)),
    };
    let step = async |what, answer: &str| match step(app, &actor, project, row, what, None).await {
        Ok(()) => Ok(Ok(answer.to_owned())),
        Err(NotLanding::Store(error)) => Err(error),
        Err(error) => Ok(Err(error.to_string())),
    };
    match asked {
        Spoken::Land => step(LandingStep::Land, "it has its place in the queue").await,
        Spoken::Leave => step(LandingStep::Leave, "it has left the queue").await,
        Spoken::Hold => step(LandingStep::Hold, "it is held; `land` lets it go on").await,
        Spoken::Again => again(app, &actor, project, row, false).await,
        Spoken::AgainFailed => again(app, &actor, project, row, true).await,
        Spoken::Approve { commit } => approve(app, &actor, project, row, login, commit.as_deref()).await,
    }
}

/// An approval is for what its giver has seen: the commit that they name, or the one that our comment spoke of when they wrote.
async fn approve(
    app: &App,
    actor: &Actor,
    project: &Project,
    row: &ProposalRow,
    login: &str,
    commit: Option<&str>,
) -> Result<Result<String, String>, StoreError> {
    let short = &row.head[..row.head.len().min(8)];
    let seen = match commit {
        Some(named) => row.head.starts_with(named),
        None => row.comment_head.as_deref() == Some(&row.head),
    };
    if row.state != "open" {
        return Ok(Err(format!("it is {}", row.state)));
    }
    if !seen {
        return Ok(Err(format!("its newest commit is {short} now: look at that, and write `approve {short}`")));
    }
    let mut tx = app.records.tx(actor, clock::now()).await?;
    tx.set_review(project.id, &row.number, login, Some(true), Some(&row.head)).await?;
    tx.note(Entry::new(Action::Approve, format!("proposal {}", row.number)).of(&project.name).after(&row.head));
    tx.commit().await?;
    tick(app, project, &row.target).await?;
    Ok(Ok(format!("{short} is approved")))
}
