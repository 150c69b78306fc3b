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

async fn hear(tx: &mut Tx, project: &Project, row: &ProposalRow, known: &[ForgeWord], words: &[Review]) -> Result<(), StoreError> {
    let heard = heard(known, words);
    for word in &heard {
        tx.set_review(project.id, &row.number, (word.who, Given::Forge), word.approves, word.commit).await?;
    }
    if !heard.is_empty() {
        told_of_review(tx, project.id, &row.number).await?;
        tx.add_work(&comment_anew(project.id, &row.number)).await?;
    }
    Ok(())
}

/// A word that is otherwise than it was known.
#[derive(Debug, PartialEq, Eq)]
struct Heard<'a> {
    who: &'a str,
    /// None: it was taken back.
    approves: Option<bool>,
    commit: Option<&'a str>,
}

/// What a forge's list says otherwise than it was known; the last of someone's words counts. An approval that does not name
/// its commit may be of an older one: it is not taken.
fn heard<'a>(known: &'a [ForgeWord], words: &'a [Review]) -> Vec<Heard<'a>> {
    let last: BTreeMap<&str, &Review> = words.iter().map(|word| (word.by.as_str(), word)).collect();
    let before = |who: &str| known.iter().find(|word| word.who == who);
    let is_same = |known: &ForgeWord, word: &Review| {
        known.approves == word.approves && word.commit.as_ref().is_none_or(|commit| *commit == known.commit_id)
    };
    let is_new = |(who, word): &(&str, &Review)| before(who).map_or(word.approves.is_some(), |known| !is_same(known, word));
    let is_clear = |(_, word): &(&str, &Review)| word.approves != Some(true) || word.commit.is_some();
    let told = last.iter().map(|(who, word)| (*who, *word)).filter(is_new).filter(is_clear);
    let told = told.map(|(who, word)| Heard { who, approves: word.approves, commit: word.commit.as_deref() });
    let gone = known.iter().filter(|word| word.approves.is_some() && !last.contains_key(word.who.as_str()));
    told.chain(gone.map(|word| Heard { who: &word.who, approves: None, commit: Some(&word.commit_id) })).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn word(who: &str, approves: Option<bool>, commit: &str) -> ForgeWord {
        ForgeWord { who: who.into(), approves, commit_id: commit.into() }
    }

    fn review(by: &str, approves: Option<bool>, commit: Option<&str>) -> Review {
        Review { proposal: String::new(), by: by.into(), approves, commit: commit.map(str::to_owned) }
    }

    #[test]
    fn an_approval_counts_for_the_commit_that_it_names() {
        let known = [word("maren", Some(true), "c1")];
        assert_eq!(heard(&known, &[review("maren", Some(true), Some("c1"))]), [], "as it was known");
        assert_eq!(heard(&known, &[review("maren", Some(true), None)]), [], "nothing says that it is another");
        let newer = [review("maren", Some(true), Some("c1")), review("maren", Some(true), Some("c2"))];
        assert_eq!(heard(&known, &newer), [Heard { who: "maren", approves: Some(true), commit: Some("c2") }]);
        assert_eq!(heard(&[], &[review("odd", Some(true), None)]), [], "it may be of an older one");
        assert_eq!(heard(&[], &[review("odd", Some(false), None)]), [Heard { who: "odd", approves: Some(false), commit: None }]);
        assert_eq!(heard(&known, &[]), [Heard { who: "maren", approves: None, commit: Some("c1") }], "it is not there any more");
        assert_eq!(heard(&[word("maren", None, "c1")], &[]), [], "it was taken back before");
    }

    fn list() -> impl Strategy<Value = Vec<Review>> {
        let one = (0..3_usize, any::<Option<bool>>(), 0..3_usize);
        prop::collection::vec(
            one.prop_map(|(who, approves, commit)| review(&format!("p{who}"), approves, Some(&format!("c{commit}")))),
            0..8,
        )
    }

    proptest! {
        /// Writing down what was heard leads to what the list says; hearing it once more brings nothing.
        #[test]
        fn what_is_heard_leads_to_what_the_list_says(first in list(), second in list()) {
            let mut known: Vec<ForgeWord> = Vec::new();
            for list in [&first, &second] {
                let new: Vec<ForgeWord> = heard(&known, list).into_iter().map(|one| word(one.who, one.approves, one.commit.unwrap_or_default())).collect();
                known.retain(|old| !new.iter().any(|one| one.who == old.who));
                known.extend(new);
                prop_assert_eq!(heard(&known, list), []);
            }
            let said = |known: &[ForgeWord]| known.iter().filter_map(|one| Some((one.who.clone(), one.approves?, one.commit_id.clone()))).collect::<std::collections::BTreeSet<_>>();
            let last: BTreeMap<&str, &Review> = second.iter().map(|one| (one.by.as_str(), one)).collect();
            let wanted = last.values().filter_map(|one| Some((one.by.clone(), one.approves?, one.commit.clone()?))).collect();
            prop_assert_eq!(said(&known), wanted);
        }
    }
}
