//! What happened, and whether a pipeline's start rules make it begin.

use crate::expression::Values;
use crate::language::Starts;
use globset::GlobBuilder;
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Event {
    #[default]
    Push,
    Proposal,
    Tag,
    Schedule,
    ByHand,
    Pipeline,
}

impl Event {
    pub const ALL: [Event; 6] = [Event::Push, Event::Proposal, Event::Tag, Event::Schedule, Event::ByHand, Event::Pipeline];

    pub fn word(self) -> &'static str {
        match self {
            Event::Push => "push",
            Event::Proposal => "proposal",
            Event::Tag => "tag",
            Event::Schedule => "schedule",
            Event::ByHand => "by_hand",
            Event::Pipeline => "pipeline",
        }
    }
}

/// What made, or could make, a run begin. Stored with the run; fields are added, never renamed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Occasion {
    pub event: Event,
    /// None for a tag, and for a proposal: its branch is the proposer's to name, so nothing may be decided by it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub branch: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tag: Option<String>,
    /// The branch that a proposal is aimed at.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// The branch that a proposal comes from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// A proposal from outside the project's own repository, or one of which that is not known: it gets no secrets.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub outside: bool,
    /// The commit's full id; empty where a plan is made without one.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub commit: String,
    /// What a proposal offers, where `commit` is that merged with its target: verdicts go here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub head: Option<String>,
    /// Who pushed or started it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub author: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// Paths that differ from what was there before. None: not known, so anything may have changed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changed: Option<Vec<String>>,
    #[serde(default, skip_serializing_if = "IndexMap::is_empty")]
    #[schema(value_type = std::collections::BTreeMap<String, String>)]
    pub inputs: IndexMap<String, String>,
    /// The schedule's own text, as the file writes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schedule: Option<String>,
    /// The pipeline that passed, `PROJECT/NAME`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pipeline: Option<String>,
    /// What the branch named before a push.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// The target's commit that `commit` merges `head` into.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub base: Option<String>,
    /// Only this pipeline is meant.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub meant: Option<String>,
    /// Pipelines whose passed runs led here, oldest first: a circle of them must end.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub led_by: Vec<String>,
    /// The project that the pipeline belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub project: Option<String>,
    /// Only these jobs, and those they take from.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub only: Vec<String>,
}

impl Occasion {
    /// In words: `a push to main`.
    pub fn words(&self) -> String {
        let on = |name: &Option<String>| name.clone().unwrap_or_else(|| "no branch".into());
        match self.event {
            Event::Push => format!("a push to {}", on(&self.branch)),
            Event::Proposal => format!("a proposal aimed at {}", on(&self.target)),
            Event::Tag => format!("the tag {}", self.tag.as_deref().unwrap_or("(none)")),
            Event::Schedule => format!("the schedule, on {}", on(&self.branch)),
            Event::ByHand => format!("a start by hand on {}", self.tag.clone().unwrap_or_else(|| on(&self.branch))),
            Event::Pipeline => {
                format!("a passed run of {}, on {}", self.pipeline.as_deref().unwrap_or("another pipeline"), on(&self.branch))
            }
        }
    }

    /// What expressions see of it.
    pub(crate) fn values(&self) -> Values {
        let text = |text: &Option<String>| text.clone().unwrap_or_default();
        Values {
            event: self.event.word().to_owned(),
            branch: text(&self.branch),
            tag: text(&self.tag),
            target: text(&self.target),
            commit: self.commit.clone(),
            author: text(&self.author),
            message: text(&self.message),
            changed: self.changed.clone(),
            input: self.inputs.iter().map(|(name, value)| (name.clone(), value.clone())).collect(),
            ..Values::default()
        }
    }
}

/// True when the rules make the pipeline begin on this occasion.
pub fn starts(rules: &Starts, occasion: &Occasion) -> bool {
    let of = |globs: &[String], name: &Option<String>| name.as_ref().is_some_and(|name| among(globs, name));
    match occasion.event {
        Event::ByHand => rules.by_hand,
        Event::Push => match &rules.push {
            None => occasion.branch.is_some(),
            Some(globs) => of(globs, &occasion.branch),
        },
        Event::Proposal => of(&rules.proposal, &occasion.target),
        Event::Tag => of(&rules.tag, &occasion.tag),
        Event::Schedule => match &occasion.schedule {
            Some(line) => rules.schedule.iter().any(|(known, _)| known == line),
            None => !rules.schedule.is_empty(),
        },
        Event::Pipeline => match &occasion.pipeline {
            None => !rules.pipeline.is_empty(),
            Some(passed) => {
                let own = occasion.project.as_ref().and_then(|project| passed.strip_prefix(project.as_str())?.strip_prefix('/'));
                rules.pipeline.iter().any(|rule| rule.value == *passed || own == Some(rule.value.as_str()))
            }
        },
    }
}

/// Some glob fits, and none that begins with `!`. `*` stays within one part of a branch's name, `**` does not.
pub(super) fn among(globs: &[String], branch: &str) -> bool {
    let fits =
        |glob: &str| GlobBuilder::new(glob).literal_separator(true).build().is_ok_and(|glob| glob.compile_matcher().is_match(branch));
    globs.iter().any(|glob| !glob.starts_with('!') && fits(glob)) && !globs.iter().filter_map(|glob| glob.strip_prefix('!')).any(fits)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn globs_choose_branches_and_take_away() {
        let globs: Vec<String> = ["main", "topic/**", "fix/*", "!topic/wip/**"].map(String::from).to_vec();
        for (branch, wanted) in [
            ("main", true),
            ("maintenance", false),
            ("topic/a", true),
            ("topic/a/b", true),
            ("topic/wip/a", false),
            ("fix/a", true),
            ("fix/a/b", false),
        ] {
            assert_eq!(among(&globs, branch), wanted, "{branch}");
        }
    }
}
