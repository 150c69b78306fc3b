//! What happened, and whether a pipeline's start rules make it begin.

use crate::language::Starts;
use globset::GlobBuilder;
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Event {
    Push,
    ByHand,
}

impl Event {
    pub fn word(self) -> &'static str {
        match self {
            Event::Push => "push",
            Event::ByHand => "by_hand",
        }
    }
}

/// What made, or could make, a run begin.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Occasion {
    pub event: Event,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub branch: Option<String>,
    /// The commit's full id; empty where a plan is made without one.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub commit: String,
    /// Who pushed or started it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
}

/// True when the rules make the pipeline begin on this occasion.
pub fn starts(rules: &Starts, occasion: &Occasion) -> bool {
    match occasion.event {
        Event::ByHand => rules.by_hand,
        Event::Push => match (&rules.push, &occasion.branch) {
            (None, Some(_)) => true,
            (Some(globs), Some(branch)) => among(globs, branch),
            (_, None) => false,
        },
    }
}

/// Some glob fits, and none that begins with `!`. `*` stays within one part of a branch's name, `**` does not.
fn among(globs: &[String], branch: &str) -> bool {
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
