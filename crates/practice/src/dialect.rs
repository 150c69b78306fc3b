//! The three dialects that the forge can speak. They say the same and share nothing in how they say it: what reads all
//! three can read a fourth.

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

impl Dialect {
    /// What its profile is called.
    pub fn word(self) -> &'static str {
        match self {
            Dialect::Practice => "practice",
            Dialect::Harbour => "harbour",
            Dialect::Beacon => "beacon",
        }
    }
}
