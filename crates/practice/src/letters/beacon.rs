//! A shared word in a header, nouns and verbs, repositories by number, forms as requests, pages that the answer itself
//! leads to; what is gone is a conflict.

use super::letter::{Letter, Signed};
use crate::book::{Offered, Proposal};
use crate::news::{Move, News, Turn};
use serde_json::{Value, json};

/// Proposals have keys such as `m3`, comments such as `s12`.
fn key(proposal: &Proposal) -> String {
    format!("m{}", proposal.number)
}

pub(crate) fn merge(url: &str, house: &str, proposal: &Proposal) -> Value {
    let state = match (proposal.state, proposal.draft) {
        (Offered::Landed, _) => "joined",
        (Offered::Closed, _) => "out",
        (Offered::Open, true) => "sketch",
        (Offered::Open, false) => "lit",
    };
    json!({
        "key": key(proposal),
        "title": proposal.title,
        "state": state,
        "joined": proposal.landed_as,
        "site": format!("{url}/{house}#proposal"),
        "from": { "line": proposal.source, "id": proposal.commit, "house": if proposal.outside { 7_000 } else { 1 } },
        "to": { "line": proposal.target, "house": 1 },
        "keeper": { "name": proposal.by },
    })
}

pub(super) fn letters(url: &str, house: &str, news: &News) -> Vec<Letter> {
    let letter = |mut body: Value, by: &str| {
        body["keeper"] = json!({ "name": null, "handle": by });
        Letter { kind: "", body }
    };
    match news {
        News::Moved { moves, by } => moves.iter().filter_map(|one| Some(letter(moved(one)?, by))).collect(),
        News::Proposal { proposal, turn, by } => {
            let verb = match turn {
                Turn::Offered => "lit",
                Turn::Changed => "moved",
                Turn::Closed => "out",
                Turn::Landed => "joined",
            };
            vec![letter(json!({ "noun": "merge", "verb": verb, "merge": merge(url, house, proposal) }), by)]
        }
        News::Comment { proposal, text, by } => {
            vec![letter(json!({ "noun": "saying", "verb": "lit", "saying": text, "merge": merge(url, house, proposal) }), by)]
        }
        News::Review { proposal, review } => {
            let verb = if review.approves { "yes" } else { "no" };
            vec![letter(json!({ "noun": "nod", "verb": verb, "merge": merge(url, house, proposal) }), &review.by)]
        }
    }
}

fn moved(one: &Move) -> Option<Value> {
    let verb = match (&one.before, &one.now) {
        (_, None) => "dark",
        (None, _) => "lit",
        _ => "moved",
    };
    match (one.name.strip_prefix("refs/heads/"), one.name.strip_prefix("refs/tags/")) {
        (Some(branch), _) => {
            Some(json!({ "noun": "line", "verb": verb, "line": { "name": branch, "tip": { "id": one.now, "before": one.before } } }))
        }
        (_, Some(tag)) => Some(json!({ "noun": "label", "verb": verb, "label": { "name": tag, "at": one.now } })),
        _ => None,
    }
}

pub(super) fn signed(letter: &Letter, secret: &str, id: &str) -> Signed {
    let mut body = letter.body.clone();
    body["flash"] = id.into();
    let headers = vec![("content-type", "application/json".to_owned()), ("x-beacon-word", secret.to_owned())];
    Signed { headers, body: body.to_string() }
}
