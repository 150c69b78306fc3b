//! The three dialects that the forge can speak. They say the same and share nothing in how they say it: what reads all
//! three can read a fourth.

mod beacon;
mod harbour;
mod practice;

use crate::announce::News;
use crate::forge::Forge;
use axum::Router;
use serde_json::Value;

/// How the forge speaks.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, clap::ValueEnum)]
pub enum Dialect {
    /// JSON, signed after the Standard Webhooks specification; statuses as JSON
    #[default]
    Practice,
    /// Forms with JSON in a field, a keyed digest over a header and the body, many moves in one delivery
    Harbour,
    /// A shared word in a header, nouns and verbs, forms as requests
    Beacon,
}

/// A delivery before it is signed.
#[derive(Debug, Clone)]
pub(crate) struct Letter {
    /// What the headers say of its kind.
    pub(crate) kind: &'static str,
    pub(crate) body: Value,
}

/// A delivery as it goes out.
pub(crate) struct Signed {
    pub(crate) headers: Vec<(&'static str, String)>,
    pub(crate) body: String,
}

impl Dialect {
    /// What its profile is called.
    pub fn word(self) -> &'static str {
        match self {
            Dialect::Practice => "practice",
            Dialect::Harbour => "harbour",
            Dialect::Beacon => "beacon",
        }
    }

    pub(crate) fn letters(self, url: &str, repository: &str, news: &News) -> Vec<Letter> {
        match self {
            Dialect::Practice => practice::letters(url, repository, news),
            Dialect::Harbour => vec![harbour::letter(url, repository, news)],
            Dialect::Beacon => beacon::letters(url, repository, news),
        }
    }

    /// The delivery with what shows that it is this forge's. `id` names it, also when it is sent again.
    pub(crate) fn signed(self, letter: &Letter, secret: &str, id: &str) -> Signed {
        match self {
            Dialect::Practice => practice::signed(letter, secret, id),
            Dialect::Harbour => harbour::signed(letter, secret, id),
            Dialect::Beacon => beacon::signed(letter, secret, id),
        }
    }

    /// What the dialect takes.
    pub(crate) fn router(self) -> Router<Forge> {
        match self {
            Dialect::Practice => practice::router(),
            Dialect::Harbour => harbour::router(),
            Dialect::Beacon => beacon::router(),
        }
    }
}
