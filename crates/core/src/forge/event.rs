//! What a forge can tell of.

use serde::Serialize;

/// Something that happened at a forge.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "event", rename_all = "snake_case")]
pub enum Event {
    /// A branch names another commit than before, or is new.
    Push {
        branch: String,
        commit: String,
        before: Option<String>,
        by: Option<String>,
    },
    Tag {
        tag: String,
        commit: String,
        by: Option<String>,
    },
    /// A branch or tag was removed.
    Gone {
        name: String,
        /// Which of the two it was; none where the forge does not say.
        tag: Option<bool>,
        by: Option<String>,
    },
    /// A proposal was offered, or what it offers changed.
    Proposal(Offer),
    Closed {
        proposal: String,
        by: Option<String>,
    },
    Landed {
        proposal: String,
        commit: Option<String>,
        by: Option<String>,
    },
    Comment {
        proposal: String,
        text: String,
        by: Option<String>,
    },
    Review(Review),
}

/// A proposal as a forge tells of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Offer {
    /// What the forge calls it: a number on most.
    pub number: Option<String>,
    pub title: Option<String>,
    /// The branch that it is aimed at.
    pub target: String,
    pub source: Option<String>,
    /// The newest commit of what is offered.
    pub commit: String,
    /// It comes from another repository than its target's; true where that is not known.
    pub outside: bool,
    pub draft: bool,
    /// Who offers it.
    pub by: Option<String>,
    /// Its page.
    pub link: Option<String>,
    /// Whether it is still offered.
    pub open: bool,
}

/// A repository as a forge lists it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Hosted {
    /// What the forge calls it: `{repository}` of other requests.
    pub name: String,
    /// What `git clone` takes.
    pub git: String,
}

/// Someone's word on a proposal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Review {
    pub proposal: String,
    pub by: String,
    /// True for an approval, false for a refusal. None: it is neither any more.
    pub approves: Option<bool>,
    /// What was looked at, where the forge says that.
    pub commit: Option<String>,
}

/// A commit's first digits, as sentences name it.
pub fn short(commit: &str) -> String {
    commit.chars().take(8).collect()
}

impl Event {
    /// The table of a profile that it is read by.
    pub fn word(&self) -> &'static str {
        match self {
            Event::Push { .. } => "push",
            Event::Tag { .. } => "tag",
            Event::Gone { .. } => "gone",
            Event::Proposal(_) => "proposal",
            Event::Closed { .. } => "closed",
            Event::Landed { .. } => "landed",
            Event::Comment { .. } => "comment",
            Event::Review(_) => "review",
        }
    }

    /// In words: `a push to main`.
    pub fn sentence(&self) -> String {
        let by = |by: &Option<String>| by.as_ref().map(|by| format!(" by {by}")).unwrap_or_default();
        match self {
            Event::Push { branch, commit, by: who, .. } => format!("a push to {branch}, {}{}", short(commit), by(who)),
            Event::Tag { tag, commit, by: who } => format!("the tag {tag}, {}{}", short(commit), by(who)),
            Event::Gone { name, tag, by: who } => {
                let what = tag.map_or("", |tag| if tag { "the tag " } else { "the branch " });
                format!("{what}{name} was removed{}", by(who))
            }
            Event::Proposal(offer) => {
                let number = offer.number.as_ref().map(|number| format!(" {number}")).unwrap_or_default();
                let draft = if offer.draft { ", a draft" } else { "" };
                format!("proposal{number} for {}, {}{}{draft}", offer.target, short(&offer.commit), by(&offer.by))
            }
            Event::Closed { proposal, by: who } => format!("proposal {proposal} was closed{}", by(who)),
            Event::Landed { proposal, by: who, .. } => format!("proposal {proposal} has landed{}", by(who)),
            Event::Comment { proposal, by: who, .. } => format!("a comment on proposal {proposal}{}", by(who)),
            Event::Review(review) => {
                let what = match review.approves {
                    Some(true) => "approves",
                    Some(false) => "refuses",
                    None => "has no word any more on",
                };
                format!("{} {what} proposal {}", review.by, review.proposal)
            }
        }
    }
}
