//! Notices: what is worth telling, who wants to hear of it, and how it is said.
//!
//! - `turns`: whether a pipeline broke or was fixed, told once each;
//! - `storm`: many notices for one receiver become one message;
//! - `letter`: a message as text and as HTML;
//! - `cloud`: the same as an event for programs; `signed`: what proves who sends it.

mod cloud;
mod letter;
mod signed;
mod storm;
mod turns;

pub use cloud::cloud_event;
pub use letter::{Letter, letter};
pub use signed::{webhook_key, webhook_signature};
pub use storm::{FREELY, rest};
pub use turns::{Judged, Turn, Turns};

use serde::{Deserialize, Serialize};

macro_rules! occasions {
    ($($(#[$doc:meta])* $name:ident $word:literal $says:literal;)*) => {
        /// What a notice can be about.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
        #[serde(rename_all = "kebab-case")]
        pub enum Occasion { $($(#[$doc])* $name,)* }

        impl Occasion {
            /// Every occasion.
            pub const ALL: [Occasion; [$($word),*].len()] = [$(Occasion::$name),*];

            /// Its word, as people write it. Words never change.
            pub fn word(self) -> &'static str {
                match self { $(Occasion::$name => $word,)* }
            }

            /// What it means, in a few words.
            pub fn says(self) -> &'static str {
                match self { $(Occasion::$name => $says,)* }
            }
        }
    };
}

occasions! {
    /// Something fails on the main branch that did not.
    Broke "broke" "something fails on the main branch that did not fail before";
    /// A pipeline of the main branch passes again.
    Fixed "fixed" "a pipeline of the main branch passes again";
    /// Someone must do something.
    Waits "waits" "something waits for you: an approval, a run to allow, a job to start";
    /// A proposal landed through the queue.
    Landed "landed" "a proposal landed through the queue";
    /// A proposal left the queue without landing.
    Left "left" "a proposal left the queue without landing";
    /// A runner went away in the middle of a job.
    Runner "runner" "a runner went away in the middle of a job";
    /// The forge's hooks did not come.
    Hook "hook" "the forge's hooks did not come; what they should have told was found by looking";
    /// Something was put well into an environment.
    Deployed "deployed" "something was put into an environment";
    /// A deployment failed, or what was there before is there again.
    RolledBack "rolled-back" "a deployment failed, or what was there before was put there again";
    /// Someone went past the rules of an environment.
    Emergency "emergency" "someone went past the rules of an environment";
}

impl Occasion {
    /// The occasion of a word.
    pub fn from_word(word: &str) -> Option<Occasion> {
        Occasion::ALL.into_iter().find(|occasion| occasion.word() == word)
    }
}

/// What someone wants to be told. Stored as JSON, version 1.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Choice {
    pub on: Vec<Occasion>,
    pub whose: Whose,
    pub by: By,
}

/// Of whose affairs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Whose {
    /// What concerns one's own commits, proposals and approvals.
    Own,
    All,
}

/// How someone is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum By {
    Mail,
    /// Not at all.
    Nothing,
}

impl Default for Choice {
    /// What holds for whoever has chosen nothing: what concerns their own commits.
    fn default() -> Choice {
        let on = vec![
            Occasion::Broke,
            Occasion::Fixed,
            Occasion::Waits,
            Occasion::Landed,
            Occasion::Left,
            Occasion::RolledBack,
            Occasion::Emergency,
        ];
        Choice { on, whose: Whose::Own, by: By::Mail }
    }
}

impl Choice {
    /// Whether a notice is wanted. `own`: it concerns who chose.
    pub fn wants(&self, occasion: Occasion, own: bool) -> bool {
        self.by != By::Nothing && self.on.contains(&occasion) && (own || self.whose == Whose::All)
    }
}

/// Something that is told. Stored as JSON, version 1: fields are added, never renamed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Notice {
    pub project: String,
    pub occasion: Occasion,
    /// What happened, in one sentence without the project and without a full stop.
    pub sentence: String,
    pub parts: Vec<Part>,
    pub link: String,
    /// Notices of one thread belong together: a run, and the one that mends it.
    pub thread: String,
    /// `PROJECT/NUMBER`
    pub run: Option<String>,
    pub proposal: Option<String>,
    pub commit: Option<String>,
    /// Commits that may be the reason, newest first.
    pub commits: Vec<Change>,
}

/// Some lines under a heading.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Part {
    pub title: String,
    pub lines: Vec<String>,
}

/// A commit, as people name it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    pub id: String,
    pub title: String,
    pub author: String,
}

/// The longest line of a notice, in characters; most of it comes from elsewhere.
pub(crate) const LONGEST: usize = 300;

/// Text from elsewhere as one line that steers nothing.
pub(crate) fn line(text: &str) -> String {
    let plain = text.split_whitespace().collect::<Vec<_>>().join(" ");
    plain.chars().filter(|c| !c.is_control() && !matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')).take(LONGEST).collect()
}
