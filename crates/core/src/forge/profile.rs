//! A profile: what its text says, read.

use super::pattern::Pattern;
use super::place::Field;
use super::request::{Kind, Request};
use super::text::Text;
use indexmap::IndexMap;
use std::collections::BTreeMap;

/// One dialect of forges.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Profile {
    pub signature: Signature,
    /// How a delivery's body is written.
    pub body: Body,
    /// What names a delivery, so that one that comes twice is known. None: the way of signing says it, or the body's digest.
    pub id: Option<Field>,
    /// How each kind of event is found in a delivery, in the order of the file.
    pub events: Vec<Pattern>,
    pub requests: BTreeMap<Kind, Request>,
    /// Our states, the forge's words.
    pub words: IndexMap<String, String>,
}

/// How deliveries are signed. The secret is the text that the project shows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Signature {
    /// The Standard Webhooks specification, version 1, symmetric.
    StandardWebhooks,
    /// A keyed digest (RFC 2104) in a header.
    Hmac { hash: Hash, header: String, prefix: String, written: Written, over: Text },
    /// The secret itself in a header.
    Token { header: String },
}

/// The digest of a [`Signature::Hmac`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Hash {
    Sha256,
    Sha512,
}

/// How bytes are written as text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Written {
    Hex,
    Base64,
}

/// How a delivery's body is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Body {
    Json,
    /// An HTML form; its fields are texts.
    Form,
    /// An HTML form with JSON in this field.
    FormField(String),
}

impl Profile {
    /// The forge's word for one of our states; the state's own word where the profile names none.
    pub fn word(&self, state: &str) -> String {
        self.words.get(state).map_or(state, String::as_str).to_owned()
    }
}
