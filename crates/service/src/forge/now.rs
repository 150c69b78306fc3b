//! How a proposal is at its forge now. It is asked when the proposal is to land, when a hook may have been lost, and when
//! hooks came out of order. What a hook tells while the forge is asked is newer, and stays.

use super::call::{CallError, Forge};
use super::occasion::work_of;
use super::pages::{listed, odd};
use crate::app::App;
use crate::clock;
use crate::landing::{told_of_proposal, told_of_review};
use crate::talk::comment_anew;
use ordotaxis_core::forge::{Event, Kind, Offer, Request, Review};
use ordotaxis_git::GitError;
use ordotaxis_store::{ForgeWord, Given, Project, ProposalRow, StoreError, Tx};
use std::collections::BTreeMap;

/// Why nobody knows how things are.
#[derive(Debug, thiserror::Error)]
pub(crate) enum LookError {
    #[error("{0}")]
    Git(#[from] GitError),
    #[error("{0}")]
    Forge(#[from] CallError),
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// A proposal as its forge shows it; none where there is no forge, or its profile does not know how to ask.
pub(crate) async fn offered_now(app: &App, project: &Project, number: &str) -> Result<Option<Offer>, CallError> {
    match Forge::of(app, project) {
        Some(forge) => offered(&forge?, number).await,
        None => Ok(None),
    }
}

fn values(number: &str) -> BTreeMap<&'static str, String> {
    BTreeMap::from([("proposal", number.to_owned())])
}

async fn offered(forge: &Forge<'_>, number: &str) -> Result<Option<Offer>, CallError> {
    let kind = Kind::Proposal;
    if !forge.can(kind) {
        return Ok(None);
    }
    let called = forge.ask(kind, values(number)).await?;
    let offer = forge.request(kind)?.offer(&called.body).ok_or_else(|| odd(kind, "there is nothing where `items` points"))?;
    let offer = offer.map_err(|miss| odd(kind, miss.to_string()))?;
    match &offer.number {
        Some(other) if other != number => Err(odd(kind, format!("it is proposal {other}, and not {number}"))),
        _ => Ok(Some(offer)),
    }
}

/// Everybody's word on a proposal; none where the profile does not know how to ask, or the list has no end.
async fn words(forge: &Forge<'_>, number: &str) -> Result<Option<Vec<Review>>, CallError> {
    if !forge.can(Kind::Reviews) {
        return Ok(None);
    }
    let list = listed(forge, Kind::Reviews, values(number), Request::reviews).await?;
    Ok(list.whole.then_some(list.items))
}

/// Asks the forge how a proposal is and who approves it, and writes down what is otherwise than it was known.
pub(crate) async fn look_at(app: &App, project: &Project, row: &ProposalRow) -> Result<(), LookError> {
    let Some(forge) = Forge::of(app, project) else { return Ok(()) };
    let forge = forge?;
    let before = (row.clone(), app.records.forge_words(row.id).await?);
    let offer = offered(&forge, &row.number).await?;
    take(app, project, before, offer, words(&forge, &row.number).await?).await
}

/// Asks the forge only who approves a proposal.
pub(super) async fn listen(app: &App, project: &Project, row: &ProposalRow) -> Result<(), LookError> {
    let Some(forge) = Forge::of(app, project) else { return Ok(()) };
    let before = (row.clone(), app.records.forge_words(row.id).await?);
    take(app, project, before, None, words(&forge?, &row.number).await?).await
}

/// Writes down what the forge said, if nothing else was told since `before`.
async fn take(
    app: &App,
    project: &Project,
    before: (ProposalRow, Vec<ForgeWord>),
    offer: Option<Offer>,
    words: Option<Vec<Review>>,
) -> Result<(), LookError> {
    let (row, known) = &before;
    let mut tx = app.records.tx_by_rule("look", clock::now()).await?;
    if tx.proposal_now(row.id).await?.as_ref() != Some(&before) {
        return Ok(());
    }
    if let Some(offer) = offer {
        believe(&mut tx, project, row, offer).await?;
    }
    if let Some(words) = words {
        hear(&mut tx, project, row, known, &words).await?;
    }
    Ok(tx.commit().await?)
}

async fn believe(tx: &mut Tx, project: &Project, row: &ProposalRow, offer: Offer) -> Result<(), StoreError> {
    if !offer.open {
        tx.end_proposal(project.id, &row.number, "closed", None).await?;
        return told_of_proposal(tx, project.id, &row.number, None, "it was closed").await;
    }
    let commit = offer.commit.clone();
    tx.set_proposal(project.id, &row.number, &offer).await?;
    if commit != row.head {
        told_of_proposal(tx, project.id, &row.number, Some(&commit), "it offers another commit now: ask again").await?;
        let once = format!("found proposal {} {commit}", row.number);
        tx.add_work(&work_of(project, &Event::Proposal(offer), once)).await?;
    }
    Ok(())
}

/// Words that the forge lists otherwise than they were known. An approval in a list that does not name its commit may be of
/// an older one: it is not taken.
async fn hear(tx: &mut Tx, project: &Project, row: &ProposalRow, known: &[ForgeWord], words: &[Review]) -> Result<(), StoreError> {
    let of = |who: &str| known.iter().find(|word| word.who == who);
    let last: BTreeMap<&str, &Review> = words.iter().map(|word| (word.by.as_str(), word)).collect();
    let mut heard = Vec::new();
    for (who, word) in &last {
        let same =
            |known: &ForgeWord| known.approves == word.approves && word.commit.as_ref().is_none_or(|commit| *commit == known.commit_id);
        let unclear = word.approves == Some(true) && word.commit.is_none();
        let new = of(who).map_or(word.approves.is_some(), |known| !same(known));
        if new && !unclear {
            heard.push((*who, word.approves, word.commit.as_deref()));
        }
    }
    heard.extend(
        known
            .iter()
            .filter(|word| word.approves.is_some() && !last.contains_key(word.who.as_str()))
            .map(|word| (word.who.as_str(), None, Some(word.commit_id.as_str()))),
    );
    for (who, approves, commit) in &heard {
        tx.set_review(project.id, &row.number, (who, Given::Forge), *approves, *commit).await?;
    }
    if !heard.is_empty() {
        told_of_review(tx, project.id, &row.number).await?;
        tx.add_work(&comment_anew(project.id, &row.number)).await?;
    }
    Ok(())
}
