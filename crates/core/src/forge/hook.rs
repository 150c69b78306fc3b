//! Reads a delivery: which kinds of event it holds, and each event's fields.

use super::event::{Event, Offer, Review};
use super::place::{Condition, Field};
use super::{Profile, Text};
use serde_json::Value;
use std::borrow::Cow;
use std::collections::BTreeMap;

/// The most events that are read from one delivery.
pub(super) const MOST_EVENTS: usize = 1_000;

/// How a delivery's body is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Body {
    Json,
    /// An HTML form; its fields are texts.
    Form,
    /// An HTML form with JSON in this field.
    FormField(String),
}

/// A delivery as it came.
pub struct Delivery<'a> {
    /// By lower-case name.
    pub headers: &'a BTreeMap<String, String>,
    pub body: &'a [u8],
}

/// What is looked at: one item of a body.
pub(super) struct Part<'a> {
    pub(super) headers: &'a BTreeMap<String, String>,
    pub(super) whole: &'a Value,
    pub(super) item: &'a Value,
}

impl Part<'_> {
    pub(super) fn header(&self, name: &str) -> Option<String> {
        self.headers.get(&name.to_ascii_lowercase()).cloned()
    }
}

/// Why a body could not be read at all.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NoBody {
    #[error("the body is not JSON: {0}")]
    NotJson(String),
    #[error("the body is a form, and the profile expects JSON: set `body = {{ form = \"{field}\" }}` below [hook]")]
    FormNotJson { field: String },
    #[error("the body is no form with the field `{0}`")]
    NoField(String),
    #[error("the body is JSON, and the profile expects a form with the field `{0}`: take `body` below [hook] away")]
    JsonNotForm(String),
}

/// How one kind of event is found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    /// The table of the profile: `push`.
    pub event: &'static str,
    pub line: usize,
    /// All must hold.
    pub when: Vec<Condition>,
    /// A list in the body, of which each item is an event.
    pub each: Option<String>,
    /// By name.
    pub fields: BTreeMap<&'static str, Field>,
}

/// A field that must be there and is not.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Miss {
    pub event: &'static str,
    pub field: &'static str,
    /// Where it was looked for.
    pub looked_for: String,
    /// The profile's line; 0 where the profile says nothing of the field.
    pub line: usize,
}

impl std::fmt::Display for Miss {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Miss { event, field, looked_for, line } = self;
        match line {
            0 => write!(f, "the profile says nothing of `{field}` of [hook.{event}]"),
            line => write!(f, "`{field}` of [hook.{event}] is not at {looked_for} (line {line} of the profile)"),
        }
    }
}

/// What a delivery holds.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Reading {
    pub events: Vec<Event>,
    /// Of kinds that were recognised and could not be read.
    pub misses: Vec<Miss>,
}

impl Profile {
    /// The delivery's body as JSON, by the profile's `body`.
    pub fn body(&self, delivery: &Delivery<'_>) -> Result<Value, NoBody> {
        let is_form = delivery.headers.get("content-type").is_some_and(|kind| kind.starts_with("application/x-www-form-urlencoded"));
        let form = || url::form_urlencoded::parse(delivery.body);
        let json = |bytes: &[u8]| serde_json::from_slice(bytes).map_err(|error| NoBody::NotJson(error.to_string()));
        match &self.body {
            Body::Json => json(delivery.body).map_err(|error| match form().next().filter(|_| is_form) {
                Some((field, _)) => NoBody::FormNotJson { field: field.chars().take(40).collect() },
                None => error,
            }),
            Body::Form => Ok(form().map(|(name, value)| (name.into_owned(), Value::String(value.into_owned()))).collect()),
            Body::FormField(field) => match form().find(|(name, _)| name == field) {
                Some((_, value)) => json(value.as_bytes()),
                None if serde_json::from_slice::<Value>(delivery.body).is_ok() => Err(NoBody::JsonNotForm(field.clone())),
                None => Err(NoBody::NoField(field.clone())),
            },
        }
    }

    /// What names the delivery, where the profile says where that stands.
    pub fn delivery_id(&self, headers: &BTreeMap<String, String>, body: &Value) -> Option<String> {
        self.id.as_ref()?.text(&Part { headers, whole: body, item: body })
    }

    /// Why each table does not fit a delivery: (line of the profile, in words).
    pub fn unfit(&self, headers: &BTreeMap<String, String>, body: &Value) -> Vec<(usize, String)> {
        let why = |pattern: &Pattern| {
            let items = pattern.items(body);
            let Some(item) = items.first() else {
                return format!("[hook.{}]: there is no list at {}", pattern.event, pattern.each.as_deref().unwrap_or_default());
            };
            let part = Part { headers, whole: body, item };
            let unmet = pattern.when.iter().find(|condition| !condition.holds(&part)).map(|condition| condition.unmet(&part));
            format!("[hook.{}]: {}", pattern.event, unmet.unwrap_or_else(|| "it would fit".into()))
        };
        self.events.iter().map(|pattern| (pattern.line, why(pattern))).collect()
    }

    /// All events of a delivery whose body was read. Empty, without a miss: of a kind that the profile does not know.
    pub fn events(&self, headers: &BTreeMap<String, String>, body: &Value) -> Reading {
        let mut reading = Reading::default();
        for pattern in &self.events {
            for item in pattern.items(body) {
                let part = Part { headers, whole: body, item };
                if !pattern.when.iter().all(|condition| condition.holds(&part)) {
                    continue;
                }
                if reading.events.len() + reading.misses.len() >= MOST_EVENTS {
                    return reading;
                }
                match pattern.event(&part) {
                    Ok(event) => reading.events.push(event),
                    Err(miss) => reading.misses.push(miss),
                }
            }
        }
        reading
    }
}

impl Pattern {
    fn items<'v>(&self, body: &'v Value) -> Vec<&'v Value> {
        match &self.each {
            None => vec![body],
            Some(pointer) => body.pointer(pointer).and_then(Value::as_array).into_iter().flatten().collect(),
        }
    }

    fn optional(&self, part: &Part<'_>, field: &'static str) -> Option<String> {
        self.fields.get(field)?.text(part).filter(|text| !text.is_empty())
    }

    fn needed(&self, part: &Part<'_>, field: &'static str) -> Result<String, Miss> {
        self.optional(part, field).ok_or_else(|| {
            let known = self.fields.get(field);
            let looked_for = known.map(Field::words).unwrap_or_default();
            Miss { event: self.event, field, looked_for, line: known.map_or(0, |field| field.line) }
        })
    }

    fn flag(&self, part: &Part<'_>, field: &'static str) -> Option<bool> {
        self.fields.get(field)?.flag(part)
    }

    /// A branch or tag without what git puts before its name.
    fn name(&self, part: &Part<'_>, field: &'static str, prefix: &str) -> Result<String, Miss> {
        let name = self.needed(part, field)?;
        Ok(name.strip_prefix(prefix).unwrap_or(&name).to_owned())
    }

    fn event(&self, part: &Part<'_>) -> Result<Event, Miss> {
        let by = self.optional(part, "by");
        let proposal = || self.needed(part, "number");
        Ok(match self.event {
            "push" => {
                let branch = self.name(part, "branch", "refs/heads/")?;
                match self.commit(part)? {
                    Some(commit) => Event::Push { branch, commit, before: self.optional(part, "before"), by },
                    None => Event::Gone { name: branch, by },
                }
            }
            "tag" => {
                let tag = self.name(part, "tag", "refs/tags/")?;
                match self.commit(part)? {
                    Some(commit) => Event::Tag { tag, commit, by },
                    None => Event::Gone { name: tag, by },
                }
            }
            "gone" => {
                let name = self.needed(part, "name")?;
                let short = ["refs/heads/", "refs/tags/"].iter().find_map(|prefix| name.strip_prefix(prefix));
                Event::Gone { name: short.unwrap_or(&name).to_owned(), by }
            }
            "closed" => Event::Closed { proposal: proposal()?, by },
            "landed" => Event::Landed { proposal: proposal()?, commit: self.optional(part, "commit"), by },
            "comment" => Event::Comment { proposal: proposal()?, text: self.needed(part, "text")?, by },
            "review" => Event::Review(self.review(part)?),
            _ => Event::Proposal(self.offer(part)?),
        })
    }

    /// The commit that a name has now; none where it was removed: nothing but zeros stands there.
    fn commit(&self, part: &Part<'_>) -> Result<Option<String>, Miss> {
        let commit = self.needed(part, "commit")?;
        Ok(Some(commit).filter(|commit| !commit.bytes().all(|byte| byte == b'0')))
    }

    /// A proposal, as a hook or a list tells of it.
    pub(super) fn offer(&self, part: &Part<'_>) -> Result<Offer, Miss> {
        Ok(Offer {
            number: self.optional(part, "number"),
            title: self.optional(part, "title"),
            target: self.name(part, "target", "refs/heads/")?,
            source: self.optional(part, "source").map(|name| name.strip_prefix("refs/heads/").unwrap_or(&name).to_owned()),
            commit: self.needed(part, "commit")?,
            outside: self.flag(part, "outside").unwrap_or(true),
            draft: self.flag(part, "draft").unwrap_or(false),
            by: self.optional(part, "by"),
            link: self.optional(part, "link"),
            open: self.flag(part, "open").unwrap_or(true),
        })
    }

    /// Someone's word on a proposal; a list of reviews need not name the proposal.
    pub(super) fn review(&self, part: &Part<'_>) -> Result<Review, Miss> {
        let proposal = if self.event == "review" { self.needed(part, "number")? } else { String::new() };
        let approves = match (self.flag(part, "approves"), self.flag(part, "refuses")) {
            (Some(true), _) => Some(true),
            (_, Some(true)) => Some(false),
            _ => None,
        };
        Ok(Review { proposal, by: self.needed(part, "by")?, approves, commit: self.optional(part, "commit") })
    }
}

/// What a keyed digest is taken over: `{body}` is the raw body, `{header.NAME}` a header. None where a header is missing.
pub(super) fn signed<'d>(over: &Text, delivery: &Delivery<'d>) -> Option<Cow<'d, [u8]>> {
    if over.only_name() == Some("body") {
        return Some(Cow::Borrowed(delivery.body));
    }
    over.bytes(|name| match name {
        "body" => Some(delivery.body.to_vec()),
        name => delivery.headers.get(&name.strip_prefix("header.")?.to_ascii_lowercase()).map(|value| value.clone().into_bytes()),
    })
    .map(Cow::Owned)
}

impl Delivery<'_> {
    /// The bytes that a signature is taken over.
    pub fn signed(&self, over: &Text) -> Option<Cow<'_, [u8]>> {
        signed(over, self)
    }
}
