//! A forge's dialect as data: a profile says where things stand in what a forge sends, how that is signed, and which
//! requests the forge takes. Text → [`Profile`], with every mistake told as those of pipelines are; a delivery and a
//! profile → [`Event`]s; a request of the profile and values → a [`Call`]; the forge's answer → an [`Outcome`].
//!
//! To add a word to profiles: its key in `keys`, its field in the type, its reading in `read`.

mod event;
mod hook;
mod keys;
mod place;
mod read;
mod request;
mod text;

pub use event::{Event, Offer, Review};
pub use hook::{Body, Delivery, Miss, NoBody, Reading};
pub use place::{Condition, Field, From, Holds, Spot};
pub use read::{profile, schema};
pub use request::{Answer, Call, Kind, NotFilled, Outcome, Page, Payload, Request, next_by_link};
pub use text::Text;

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
    pub events: Vec<hook::Pattern>,
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

impl Profile {
    /// The forge's word for one of our states; the state's own word where the profile names none.
    pub fn word(&self, state: &str) -> String {
        self.words.get(state).map_or(state, String::as_str).to_owned()
    }
}
