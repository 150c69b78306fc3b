//! Forge profiles: TOML files that say where in a forge's webhook things stand, how it is signed, and which request
//! sets a status. No forge is named in code; `profiles/` ships the practice forge's, and a service's data folder may
//! hold more.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit, Mac};
use ordotaxis_core::engine::State;
use ordotaxis_core::plan::{Cause, Occasion};
use serde::Deserialize;
use serde_json::Value;
use sha2::Sha256;
use std::collections::BTreeMap;
use std::path::Path;

/// How far a webhook's time may be from ours, in seconds (Standard Webhooks asks for a bound against replays).
const CLOCK_TOLERANCE: i64 = 300;

/// One dialect of forges: how its webhooks are read, and how statuses are sent to it.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Profile {
    hook: Hook,
    pub(crate) status: Option<StatusRequest>,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
struct Hook {
    signature: Signature,
    push: Push,
    tag: Option<Tag>,
    proposal: Option<Proposal>,
}

#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Signature {
    /// The Standard Webhooks specification, version 1, symmetric.
    StandardWebhooks,
}

/// JSON Pointers (RFC 6901) into the body.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
struct Push {
    when: When,
    branch: String,
    commit: String,
    /// What the branch named before.
    before: Option<String>,
    by: Option<String>,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
struct Tag {
    when: When,
    tag: String,
    commit: String,
    by: Option<String>,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
struct Proposal {
    when: When,
    target: String,
    source: Option<String>,
    /// Whether it comes from another repository than its target's: true or false. A proposal of which that is not known
    /// counts as one from outside.
    outside: Option<String>,
    /// The newest commit of what is offered.
    commit: String,
    by: Option<String>,
}

#[derive(Debug, Clone, Deserialize)]
struct When {
    pointer: String,
    is: String,
}

/// The HTTP request that sends one status.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct StatusRequest {
    pub(crate) method: String,
    /// A URI Template (RFC 6570).
    pub(crate) url: String,
    #[serde(default)]
    pub(crate) headers: BTreeMap<String, String>,
    body: BTreeMap<String, String>,
    words: BTreeMap<String, String>,
}

/// Why a forge's profile could not be used.
#[derive(Debug, thiserror::Error)]
pub enum ProfileError {
    #[error("the profile {name} could not be read")]
    Read {
        name: String,
        #[source]
        source: std::io::Error,
    },
    #[error("the profile {name} is not one")]
    Form {
        name: String,
        #[source]
        source: Box<toml::de::Error>,
    },
}

/// All profiles by name: the shipped one and those in `folder`, if there is such a folder.
pub(crate) fn load(folder: &Path) -> Result<BTreeMap<String, Profile>, ProfileError> {
    let mut profiles = BTreeMap::new();
    profiles.insert("practice".to_owned(), parse("practice", include_str!("../profiles/practice.toml"))?);
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    for path in entries.map(|entry| entry.path()).filter(|path| path.extension().is_some_and(|ext| ext == "toml")) {
        let name = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let text = std::fs::read_to_string(&path).map_err(|source| ProfileError::Read { name: name.clone(), source })?;
        profiles.insert(name.clone(), parse(&name, &text)?);
    }
    Ok(profiles)
}

fn parse(name: &str, text: &str) -> Result<Profile, ProfileError> {
    toml::from_str(text).map_err(|source| ProfileError::Form { name: name.to_owned(), source: Box::new(source) })
}

impl Profile {
    /// The delivery's id, when the body is signed with `secret`. Compared in constant time, over the raw body.
    pub(crate) fn verified(&self, header: impl Fn(&str) -> Option<String>, body: &[u8], secret: &str, now_s: i64) -> Option<String> {
        match self.hook.signature {
            Signature::StandardWebhooks => {
                let (id, time) = (header("webhook-id")?, header("webhook-timestamp")?);
                let sent: i64 = time.parse().ok()?;
                let key = STANDARD.decode(secret.strip_prefix("whsec_")?).ok()?;
                let mut mac = Hmac::<Sha256>::new_from_slice(&key).ok()?;
                mac.update(format!("{id}.{time}.").as_bytes());
                mac.update(body);
                let signatures = header("webhook-signature")?;
                let right = signatures
                    .split(' ')
                    .filter_map(|part| part.strip_prefix("v1,"))
                    .any(|part| STANDARD.decode(part).is_ok_and(|bytes| mac.clone().verify_slice(&bytes).is_ok()));
                (right && (now_s - sent).abs() <= CLOCK_TOLERANCE).then_some(id)
            }
        }
    }

    /// What the body says happened; none for an event of a kind that starts nothing.
    pub(crate) fn occasion(&self, body: &Value) -> Option<Occasion> {
        let text = |pointer: &str| body.pointer(pointer)?.as_str().map(str::to_owned);
        let optional = |pointer: &Option<String>| pointer.as_deref().and_then(text);
        let short = |pointer: &str, prefix: &str| text(pointer).map(|name| name.strip_prefix(prefix).unwrap_or(&name).to_owned());
        let is = |when: &When| text(&when.pointer).is_some_and(|word| word == when.is);
        let Hook { push, tag, proposal, .. } = &self.hook;
        if is(&push.when) {
            let (branch, commit) = (short(&push.branch, "refs/heads/")?, text(&push.commit)?);
            let cause = Cause::Push { branch, before: optional(&push.before) };
            return Some(Occasion { commit: Some(commit), by: optional(&push.by), ..Occasion::new(cause) });
        }
        if let Some(tag) = tag.as_ref().filter(|tag| is(&tag.when)) {
            let (name, commit) = (short(&tag.tag, "refs/tags/")?, text(&tag.commit)?);
            return Some(Occasion { commit: Some(commit), by: optional(&tag.by), ..Occasion::tag(name) });
        }
        let proposal = proposal.as_ref().filter(|proposal| is(&proposal.when))?;
        let (target, head) = (short(&proposal.target, "refs/heads/")?, text(&proposal.commit)?);
        let outside = proposal.outside.as_ref().and_then(|pointer| body.pointer(pointer)).and_then(Value::as_bool).unwrap_or(true);
        let cause = Cause::Proposal { target, source: optional(&proposal.source), outside, merges: None };
        Some(Occasion { commit: Some(head), by: optional(&proposal.by), ..Occasion::new(cause) })
    }
}

impl StatusRequest {
    /// The body with `{name}` filled in; `{word}` is the forge's word for the state.
    pub(crate) fn body(&self, state: State, values: &BTreeMap<&str, String>) -> Value {
        let word = self.words.get(state.word()).map_or(state.word(), String::as_str);
        let fill = |text: &String| {
            let text = text.replace("{word}", word);
            filled(&text, values)
        };
        self.body.iter().map(|(key, text)| (key.clone(), Value::String(fill(text)))).collect()
    }
}

/// Puts each value in place of its `{name}`.
pub(crate) fn filled(text: &str, values: &BTreeMap<&str, String>) -> String {
    values.iter().fold(text.to_owned(), |text, (name, value)| text.replace(&format!("{{{name}}}"), value))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn practice() -> Profile {
        load(Path::new("/nonexistent")).unwrap().remove("practice").unwrap()
    }

    /// The example of the Standard Webhooks specification.
    #[test]
    fn a_signature_is_verified_over_id_time_and_body() {
        let secret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw";
        let body = br#"{"test": 2432232314}"#;
        let header = |name: &str| {
            Some(match name {
                "webhook-id" => "msg_p5jXN8AQM9LWM0D4loKWxJek".to_owned(),
                "webhook-timestamp" => "1614265330".to_owned(),
                _ => "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=".to_owned(),
            })
        };
        let at = 1_614_265_330;
        assert_eq!(practice().verified(header, body, secret, at).as_deref(), Some("msg_p5jXN8AQM9LWM0D4loKWxJek"));
        assert!(practice().verified(header, br#"{"test": 2432232315}"#, secret, at).is_none());
        assert!(practice().verified(header, body, "whsec_AAAA9r8GKYqrTwjUPD8ILPZIo2LaLaSw", at).is_none());
        assert!(practice().verified(header, body, secret, at + 3600).is_none());
    }

    #[test]
    fn what_happened_is_read_where_the_profile_points() {
        let occasion = |body: Value| practice().occasion(&body);
        let pushed =
            occasion(serde_json::json!({ "event": "push", "branch": "main", "commit": "abc", "before": "99", "by": "Ines" })).unwrap();
        assert_eq!(pushed.cause, Cause::Push { branch: "main".into(), before: Some("99".into()) });
        assert_eq!((pushed.commit.as_deref(), pushed.by.as_deref()), (Some("abc"), Some("Ines")));
        let tagged = occasion(serde_json::json!({ "event": "tag", "tag": "v1", "commit": "abc" })).unwrap();
        assert_eq!(tagged.cause, Cause::Tag { tag: "v1".into() });
        let body = serde_json::json!({ "event": "proposal", "target": "main", "source": "topic/x", "commit": "abc" });
        let offered = occasion(body).unwrap();
        let from_anyone = Cause::Proposal { target: "main".into(), source: Some("topic/x".into()), outside: true, merges: None };
        assert_eq!((offered.cause, offered.commit.as_deref()), (from_anyone, Some("abc")));
        assert!(occasion(serde_json::json!({ "event": "star" })).is_none());
    }
}
