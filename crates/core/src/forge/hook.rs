//! Reads a delivery: which kinds of event it holds, and each event's fields.

use super::event::Event;
use super::part::Part;
use super::pattern::{Miss, Pattern};
use super::profile::{Body, Profile};
use super::text::Text;
use serde_json::Value;
use std::borrow::Cow;
use std::collections::BTreeMap;

/// The most events that are read from one delivery.
pub(super) const MOST_EVENTS: usize = 1_000;

/// A delivery as it came.
pub struct Delivery<'a> {
    /// By lower-case name.
    pub headers: &'a BTreeMap<String, String>,
    pub body: &'a [u8],
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
                return format!("[{}]: there is no list at {}", pattern.table, pattern.each.as_deref().unwrap_or_default());
            };
            let part = Part { headers, whole: body, item };
            let unmet = pattern.when.iter().find(|condition| !condition.holds(&part)).map(|condition| condition.unmet(&part));
            format!("[{}]: {}", pattern.table, unmet.unwrap_or_else(|| "it would fit".into()))
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
