//! Commands in comments: done as the person who wrote them, if they are someone here and have the right. The answer stands in
//! the proposal's one comment; there is never a new one.

use super::again::again;
use super::wanted::{Comment, comment_anew};
use crate::app::App;
use crate::clock;
use crate::delivery::{NotSaid, Said, said};
use crate::landing::{NotLanding, step, tick};
use crate::work::Outcome;
use ordotaxis_core::access::{Action, Actor, Object, Rights, Way, Who, allowed};
use ordotaxis_core::forge::{Answered, Spoken, short, spoken};
use ordotaxis_store::{DueWork, Entry, Given, Project, ProposalRow, StoreError};
use ordotaxis_wire::landing::LandingStep;

/// Does what a comment asks for, and answers.
pub(crate) async fn answer(app: &App, due: &DueWork) -> Result<Outcome, StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(Outcome::Done(None)) };
    let Ok(comment) = serde_json::from_str::<Comment>(&due.body) else {
        return Ok(Outcome::Hopeless("the comment cannot be read".into()));
    };
    let Some(row) = app.records.proposal(project.id, &comment.proposal).await? else {
        return Ok(Outcome::Done(Some(format!("there is no proposal {} here", comment.proposal))));
    };
    let mut words = Vec::new();
    for (at, command) in spoken(&comment.text).into_iter().enumerate() {
        let call = format!("{} {at}", due.id);
        let mut answered = Answered { by: comment.by.chars().take(60).collect(), command: command.line, answer: BEGUN.to_owned(), call };
        let known = row.answered().into_iter().find(|known| known.call == answered.call);
        answered.answer = match (progress(known.as_ref(), &command.asks), command.asks) {
            (Progress::Answered(answer), _) => answer,
            (_, Err(why)) => why,
            (Progress::Cut, _) => CUT.to_owned(),
            (Progress::New, Ok(asked)) => {
                if !can_be_repeated(&asked) {
                    note(app, &row, &answered).await?;
                }
                done(app, &project, &row, &comment.by, &asked).await?.unwrap_or_else(|why| format!("not done: {why}"))
            }
        };
        note(app, &row, &answered).await?;
        words.push(format!("{}: {}", answered.command, answered.answer));
    }
    let mut tx = app.records.tx_by_rule("comment", clock::now()).await?;
    tx.add_work(&comment_anew(project.id, &row.number)).await?;
    tx.commit().await?;
    Ok(Outcome::Done(Some(words.join("; "))))
}

/// What stands in an answer's place while the command is done, where doing it twice would do it twice.
const BEGUN: &str = "begun";
/// The answer where the service ended in between.
const CUT: &str = "begun, and the service ended meanwhile: look at its runs, and ask again if there is none";

/// How far a command came before.
#[derive(Debug, PartialEq, Eq)]
enum Progress {
    New,
    /// It was begun, and nobody knows how far it came: it is not done twice.
    Cut,
    Answered(String),
}

fn progress(known: Option<&Answered>, asks: &Result<Spoken, String>) -> Progress {
    match known {
        None => Progress::New,
        Some(known) if known.answer != BEGUN => Progress::Answered(known.answer.clone()),
        Some(_) if asks.as_ref().is_ok_and(can_be_repeated) => Progress::New,
        Some(_) => Progress::Cut,
    }
}

/// Done twice, it comes to the same.
fn can_be_repeated(asked: &Spoken) -> bool {
    !matches!(asked, Spoken::Again | Spoken::AgainFailed)
}

async fn note(app: &App, row: &ProposalRow, answered: &Answered) -> Result<(), StoreError> {
    let mut tx = app.records.tx_by_rule("comment", clock::now()).await?;
    tx.set_answer(row.id, answered).await?;
    tx.commit().await
}

/// What a command needs.
fn action(asked: &Spoken) -> Action {
    match asked {
        Spoken::Land | Spoken::Leave | Spoken::Hold => Action::Land,
        Spoken::Approve { .. } => Action::Approve,
        Spoken::Again | Spoken::AgainFailed => Action::RunAgain,
        Spoken::Say { .. } => Action::ApproveDeployment,
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
        Spoken::Say { agrees, project: of, number, job } => say(app, &actor, project, (of, *number), job.clone(), *agrees).await,
    }
}

/// A word on what a job of a run would put into its environment.
async fn say(
    app: &App,
    actor: &Actor,
    project: &Project,
    (of, number): (&str, i64),
    job: Option<String>,
    agrees: bool,
) -> Result<Result<String, String>, StoreError> {
    if of != project.name {
        return Ok(Err(format!("{of}/{number} is not of {}", project.name)));
    }
    let Some(run) = app.records.run(of, number).await? else { return Ok(Err(format!("there is no run {of}/{number}"))) };
    match said(app, actor, project, &run, Said { job, agrees, reason: None }).await {
        Ok(()) => Ok(Ok(if agrees { "it is approved" } else { "it is refused" }.to_owned())),
        Err(NotSaid::Store(error)) => Err(error),
        Err(NotSaid::No(why)) => Ok(Err(why)),
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
    let short = short(&row.head);
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
    tx.set_review(project.id, &row.number, (login, Given::Here), Some(true), Some(&row.head)).await?;
    tx.note(Entry::new(Action::Approve, format!("proposal {}", row.number)).of(&project.name).after(&row.head));
    tx.commit().await?;
    tick(app, project, &row.target).await?;
    Ok(Ok(format!("{short} is approved")))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn known(answer: &str) -> Answered {
        Answered { by: "odd".into(), command: "again".into(), answer: answer.into(), call: "7 0".into() }
    }

    #[test]
    fn what_cannot_be_repeated_is_not_done_twice() {
        assert_eq!(progress(None, &Ok(Spoken::Again)), Progress::New);
        assert_eq!(progress(Some(&known(BEGUN)), &Ok(Spoken::Again)), Progress::Cut, "the service ended while it was done");
        assert_eq!(progress(Some(&known(BEGUN)), &Ok(Spoken::Land)), Progress::New);
        for asks in [Ok(Spoken::AgainFailed), Ok(Spoken::Land), Err("no such command".to_owned())] {
            assert_eq!(progress(Some(&known("1 run begun: tidegauge/7")), &asks), Progress::Answered("1 run begun: tidegauge/7".into()));
        }
    }
}
