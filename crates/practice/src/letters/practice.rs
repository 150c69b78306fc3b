//! The dialect that the forge speaks by itself.

use super::letter::{Letter, Signed};
use crate::book::Proposal;
use crate::news::{News, Turn};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use serde_json::{Value, json};
use sha2::Sha256;

pub(crate) fn about(url: &str, repository: &str, proposal: &Proposal) -> Value {
    json!({
        "repository": repository,
        "number": proposal.number,
        "title": proposal.title,
        "source": proposal.source,
        "outside": proposal.outside,
        "draft": proposal.draft,
        "target": proposal.target,
        "commit": proposal.commit,
        "state": proposal.state,
        "by": proposal.by,
        "link": format!("{url}/{repository}#proposal-{}", proposal.number),
    })
}

/// A proposal's fields with some of an event's own.
fn event(word: &str, about: Value, more: Value) -> Letter {
    let mut body = json!({ "event": word });
    for part in [about, more] {
        if let (Value::Object(body), Value::Object(part)) = (&mut body, part) {
            body.extend(part);
        }
    }
    Letter { kind: "", body }
}

pub(super) fn letters(url: &str, repository: &str, news: &News) -> Vec<Letter> {
    let about = |proposal| about(url, repository, proposal);
    match news {
        News::Moved { moves, by } => moves
            .iter()
            .filter_map(|one| {
                let (word, key, short) = match (one.name.strip_prefix("refs/heads/"), one.name.strip_prefix("refs/tags/")) {
                    _ if one.now.is_none() => ("gone", "name", one.name.as_str()),
                    (Some(branch), _) => ("push", "branch", branch),
                    (_, Some(tag)) => ("tag", "tag", tag),
                    _ => return None,
                };
                let before = one.before.clone().unwrap_or_default();
                Some(event(
                    word,
                    json!({ key: short, "commit": one.now, "before": before, "repository": repository, "by": by }),
                    Value::Null,
                ))
            })
            .collect(),
        News::Proposal { proposal, turn, by } => {
            let (word, more) = match turn {
                Turn::Offered | Turn::Changed => ("proposal", json!({ "by": proposal.by })),
                Turn::Closed => ("closed", json!({ "by": by })),
                Turn::Landed => ("landed", json!({ "by": by, "commit": proposal.landed_as })),
            };
            vec![event(word, about(proposal), more)]
        }
        News::Comment { proposal, text, by } => vec![event("comment", about(proposal), json!({ "text": text, "by": by }))],
        News::Review { proposal, review } => {
            vec![event("review", about(proposal), json!({ "by": review.by, "approves": review.approves, "commit": review.commit }))]
        }
    }
}

pub(super) fn signed(letter: &Letter, secret: &str, id: &str) -> Signed {
    let body = letter.body.to_string();
    let time = jiff::Timestamp::now().as_second().to_string();
    let signature = standard(secret, id, &time, &body);
    let headers = vec![
        ("content-type", "application/json".to_owned()),
        ("webhook-id", id.to_owned()),
        ("webhook-timestamp", time),
        ("webhook-signature", signature),
    ];
    Signed { headers, body }
}

/// After the Standard Webhooks specification: `v1,` and the HMAC-SHA256 of `id.time.body`.
fn standard(secret: &str, id: &str, time: &str, body: &str) -> String {
    let key = STANDARD.decode(secret.trim_start_matches("whsec_")).unwrap_or_default();
    let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(&key) else { return String::new() };
    mac.update(format!("{id}.{time}.{body}").as_bytes());
    format!("v1,{}", STANDARD.encode(mac.finalize().into_bytes()))
}
