//! Forms with JSON in a field, a keyed digest over a header and the body, many moves in one delivery, pages that the `Link`
//! header leads to.

use super::letter::{Letter, Signed};
use crate::book::{Offered, Proposal};
use crate::news::{News, Turn};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use serde_json::{Value, json};
use sha2::Sha512;

pub(crate) fn passage(url: &str, berth: &str, proposal: &Proposal, turn: Option<Turn>) -> Value {
    let phase = match (turn, proposal.state) {
        (Some(Turn::Landed), _) | (_, Offered::Landed) => "moored",
        (Some(Turn::Closed), _) | (_, Offered::Closed) => "withdrawn",
        (Some(Turn::Changed), _) => "changed",
        _ => "asked",
    };
    json!({
        "no": proposal.number,
        "words": proposal.title,
        "into": format!("refs/heads/{}", proposal.target),
        "out_of": proposal.source,
        "tip": proposal.commit,
        "stranger": proposal.outside,
        "unready": proposal.draft,
        "phase": phase,
        "moored_as": proposal.landed_as,
        "asked_by": { "called": proposal.by },
        "page": format!("{url}/{berth}#proposal-{}", proposal.number),
    })
}

pub(super) fn letter(url: &str, berth: &str, news: &News) -> Letter {
    let (kind, by, mut body) = match news {
        News::Moved { moves, by } => {
            let moved: Vec<Value> = moves.iter().map(|one| json!({ "mark": one.name, "was": one.before, "is": one.now })).collect();
            ("moved", by, json!({ "moved": moved }))
        }
        News::Proposal { proposal, turn, by } => ("passage", by, json!({ "passage": passage(url, berth, proposal, Some(*turn)) })),
        News::Comment { proposal, text, by } => ("remark", by, json!({ "passage": passage(url, berth, proposal, None), "remark": text })),
        News::Review { proposal, review } => {
            let leave = if review.approves { "given" } else { "denied" };
            ("leave", &review.by, json!({ "passage": passage(url, berth, proposal, None), "leave": leave }))
        }
    };
    body["berth"] = berth.into();
    body["hand"] = json!({ "called": by });
    Letter { kind, body }
}

pub(super) fn signed(letter: &Letter, secret: &str, id: &str) -> Signed {
    let body = url::form_urlencoded::Serializer::new(String::new()).append_pair("notice", &letter.body.to_string()).finish();
    let when = jiff::Timestamp::now().as_second().to_string();
    let seal = Hmac::<Sha512>::new_from_slice(secret.as_bytes())
        .map(|mac| STANDARD.encode(mac.chain_update(format!("{when}\n{body}")).finalize().into_bytes()))
        .unwrap_or_default();
    let headers = vec![
        ("content-type", "application/x-www-form-urlencoded".to_owned()),
        ("x-harbour-kind", letter.kind.to_owned()),
        ("x-harbour-letter", id.to_owned()),
        ("x-harbour-when", when),
        ("x-harbour-seal", format!("sha512:{seal}")),
    ];
    Signed { headers, body }
}
