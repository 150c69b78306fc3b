//! What happened, and whether a pipeline's start rules make it begin.

use crate::expression::Values;
use crate::language::Starts;
use globset::GlobBuilder;
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};

/// The kind of occasion, as pipelines, people and forges name it.
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
    Landing,
    /// What an earlier run made goes into one more environment.
    Promotion,
    /// What was in an environment before is put there again.
    RollBack,
    /// A preview is taken away.
    Closing,
}

impl Event {
    /// Every kind, in the order of the guides.
    pub const ALL: [Event; 10] = [
        Event::Push,
        Event::Proposal,
        Event::Tag,
        Event::Schedule,
        Event::ByHand,
        Event::Pipeline,
        Event::Landing,
        Event::Promotion,
        Event::RollBack,
        Event::Closing,
    ];

    /// The kind as pipelines and the API write it.
    pub fn word(self) -> &'static str {
        match self {
            Event::Push => "push",
            Event::Proposal => "proposal",
            Event::Tag => "tag",
            Event::Schedule => "schedule",
            Event::ByHand => "by_hand",
            Event::Pipeline => "pipeline",
            Event::Landing => "landing",
            Event::Promotion => "promotion",
            Event::RollBack => "roll_back",
            Event::Closing => "closing",
        }
    }
}

/// A name in the repository.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Ref {
    Branch(String),
    Tag(String),
}

/// What a proposal's commit merges.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Merges {
    /// The commit that is offered: verdicts go here.
    pub head: String,
    /// The target's commit that it is merged into.
    pub base: String,
}

/// What is done with what an earlier run made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Carry {
    /// It goes into one more environment.
    On,
    /// It was in the environment before, and is put there again.
    Back,
    /// It is taken away from there.
    Away,
}

/// What happened. Each kind holds what it is about and nothing else.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Cause {
    /// A branch moved to another commit.
    Push {
        branch: String,
        /// The commit that it named before, where the forge says that.
        before: Option<String>,
    },
    /// Someone offers commits for a branch.
    Proposal {
        /// The branch that it is aimed at.
        target: String,
        /// The branch that it comes from. Its name is the proposer's to choose, so no rule decides by it.
        source: Option<String>,
        /// From outside the project's own repository, or not known to be from inside: it gets no secrets.
        outside: bool,
        /// What the forge calls it.
        number: Option<String>,
        /// Once the two are merged; before that the occasion's commit is the one that is offered.
        merges: Option<Merges>,
    },
    Tag {
        tag: String,
    },
    Schedule {
        /// The schedule's own text, as the file writes it; any schedule when absent.
        line: Option<String>,
        /// The branch whose newest commit is taken; the main branch when absent.
        branch: Option<String>,
    },
    /// Someone starts it. With no name it is about a commit that no branch names, or about the main branch.
    ByHand {
        on: Option<Ref>,
    },
    /// A run of another pipeline passed.
    Passed {
        /// That pipeline, `PROJECT/NAME`; any when absent.
        pipeline: Option<String>,
        on: Option<Ref>,
    },
    /// Proposals are tried together, on top of those ahead of them, before they land.
    Landing {
        /// The branch that they land in.
        target: String,
        /// The trial's number in the branch's queue.
        trial: u64,
        /// Some of them are from outside.
        outside: bool,
        /// What the commit is put on top of.
        base: String,
    },
    /// Jobs of an earlier run are done once more with what it made; nothing is built.
    Carried {
        way: Carry,
        /// The earlier run is of what someone offered who may not push.
        outside: bool,
        /// The earlier run, `PROJECT/NUMBER`.
        of: String,
        environment: String,
        on: Option<Ref>,
    },
}

/// What made, or could make, a run begin. Stored with the run, in the form that `occasion_form` says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Occasion {
    pub cause: Cause,
    /// The commit's full id. None: the newest of the branch, or a plan is made without a commit.
    pub commit: Option<String>,
    /// Who pushed, offered or started it.
    pub by: Option<String>,
    pub author: Option<String>,
    pub message: Option<String>,
    /// Paths that differ from what was there before. None: not known, so anything may have changed.
    pub changed: Option<Vec<String>>,
    pub inputs: IndexMap<String, String>,
    /// Only this pipeline is meant.
    pub meant: Option<String>,
    /// Pipelines whose passed runs led here, oldest first: a circle of them must end.
    pub led_by: Vec<String>,
    /// The project that the pipeline belongs to.
    pub project: Option<String>,
    /// Only these jobs, and those they take from.
    pub only: Vec<String>,
}

impl Occasion {
    /// The cause and nothing more.
    pub fn new(cause: Cause) -> Occasion {
        Occasion {
            cause,
            commit: None,
            by: None,
            author: None,
            message: None,
            changed: None,
            inputs: IndexMap::new(),
            meant: None,
            led_by: Vec::new(),
            project: None,
            only: Vec::new(),
        }
    }

    /// A push to a branch of which nothing more is known.
    pub fn push(branch: impl Into<String>) -> Occasion {
        Occasion::new(Cause::Push { branch: branch.into(), before: None })
    }

    /// A tag that was pushed, of which nothing more is known.
    pub fn tag(tag: impl Into<String>) -> Occasion {
        Occasion::new(Cause::Tag { tag: tag.into() })
    }

    /// From inside the repository, of a branch that is not named.
    pub fn proposal(target: impl Into<String>) -> Occasion {
        Occasion::new(Cause::Proposal { target: target.into(), source: None, outside: false, number: None, merges: None })
    }

    /// A start by hand that names neither branch nor tag.
    pub fn by_hand() -> Occasion {
        Occasion::new(Cause::ByHand { on: None })
    }

    /// The kind of its cause.
    pub fn event(&self) -> Event {
        match self.cause {
            Cause::Push { .. } => Event::Push,
            Cause::Proposal { .. } => Event::Proposal,
            Cause::Tag { .. } => Event::Tag,
            Cause::Schedule { .. } => Event::Schedule,
            Cause::ByHand { .. } => Event::ByHand,
            Cause::Passed { .. } => Event::Pipeline,
            Cause::Landing { .. } => Event::Landing,
            Cause::Carried { way: Carry::On, .. } => Event::Promotion,
            Cause::Carried { way: Carry::Back, .. } => Event::RollBack,
            Cause::Carried { way: Carry::Away, .. } => Event::Closing,
        }
    }

    /// None for a tag, and for a proposal: that is no branch's state yet.
    pub fn branch(&self) -> Option<&str> {
        match &self.cause {
            Cause::Push { branch, .. } => Some(branch),
            Cause::Schedule { branch, .. } => branch.as_deref(),
            Cause::ByHand { on: Some(Ref::Branch(branch)) }
            | Cause::Passed { on: Some(Ref::Branch(branch)), .. }
            | Cause::Carried { on: Some(Ref::Branch(branch)), .. } => Some(branch),
            Cause::Proposal { .. }
            | Cause::Tag { .. }
            | Cause::ByHand { .. }
            | Cause::Passed { .. }
            | Cause::Landing { .. }
            | Cause::Carried { .. } => None,
        }
    }

    /// The tag that it is about.
    pub fn tag_name(&self) -> Option<&str> {
        match &self.cause {
            Cause::Tag { tag } => Some(tag),
            Cause::ByHand { on: Some(Ref::Tag(tag)) }
            | Cause::Passed { on: Some(Ref::Tag(tag)), .. }
            | Cause::Carried { on: Some(Ref::Tag(tag)), .. } => Some(tag),
            _ => None,
        }
    }

    /// The branch that a proposal is aimed at, or lands in.
    pub fn target(&self) -> Option<&str> {
        match &self.cause {
            Cause::Proposal { target, .. } | Cause::Landing { target, .. } => Some(target),
            _ => None,
        }
    }

    /// The trial of a landing queue, by number.
    pub fn trial(&self) -> Option<u64> {
        if let Cause::Landing { trial, .. } = &self.cause { Some(*trial) } else { None }
    }

    /// The earlier run whose jobs are done once more, and the environment that they are done for.
    pub fn carried_from(&self) -> Option<(&str, &str)> {
        if let Cause::Carried { of, environment, .. } = &self.cause { Some((of, environment)) } else { None }
    }

    /// The branch that a proposal comes from.
    pub fn source(&self) -> Option<&str> {
        if let Cause::Proposal { source, .. } = &self.cause { source.as_deref() } else { None }
    }

    /// What the forge calls a proposal.
    pub fn proposal_number(&self) -> Option<&str> {
        if let Cause::Proposal { number, .. } = &self.cause { number.as_deref() } else { None }
    }

    /// Whether what is run was offered by someone who may not push.
    pub fn is_from_outside(&self) -> bool {
        matches!(
            self.cause,
            Cause::Proposal { outside: true, .. } | Cause::Landing { outside: true, .. } | Cause::Carried { outside: true, .. }
        )
    }

    /// Where verdicts go: of a proposal the commit that is offered, not the one that merges it.
    pub fn told_on(&self) -> Option<&str> {
        match &self.cause {
            Cause::Proposal { merges: Some(merges), .. } => Some(&merges.head),
            _ => self.commit.as_deref(),
        }
    }

    /// The newest commit of this branch is meant, with all that belongs to the branch: secrets, say.
    pub fn set_branch(&mut self, name: String) {
        match &mut self.cause {
            Cause::Push { branch, .. } => *branch = name,
            Cause::Schedule { branch, .. } => *branch = Some(name),
            Cause::ByHand { on } | Cause::Passed { on, .. } => *on = Some(Ref::Branch(name)),
            Cause::Proposal { .. } | Cause::Tag { .. } | Cause::Landing { .. } | Cause::Carried { .. } => {}
        }
    }

    /// In words: `a push to main`.
    pub fn words(&self) -> String {
        let on = |name: Option<&str>| name.unwrap_or("no branch").to_owned();
        match &self.cause {
            Cause::Push { branch, .. } => format!("a push to {branch}"),
            Cause::Proposal { target, .. } => format!("a proposal aimed at {target}"),
            Cause::Landing { target, trial, .. } => format!("trial {trial} of what lands in {target}"),
            Cause::Carried { way: Carry::On, of, environment, .. } => format!("the promotion of {of} into {environment}"),
            Cause::Carried { way: Carry::Back, of, environment, .. } => format!("the roll-back of {environment} to {of}"),
            Cause::Carried { way: Carry::Away, environment, .. } => format!("the closing of {environment}"),
            Cause::Tag { tag } => format!("the tag {tag}"),
            Cause::Schedule { branch, .. } => format!("the schedule, on {}", on(branch.as_deref())),
            Cause::ByHand { .. } => format!("a start by hand on {}", on(self.tag_name().or(self.branch()))),
            Cause::Passed { pipeline, .. } => {
                format!(
                    "a passed run of {}, on {}",
                    pipeline.as_deref().unwrap_or("another pipeline"),
                    on(self.tag_name().or(self.branch()))
                )
            }
        }
    }

    /// What expressions see of it.
    pub(crate) fn values(&self) -> Values {
        let text = |text: Option<&str>| text.unwrap_or_default().to_owned();
        Values {
            event: self.event().word().to_owned(),
            branch: text(self.branch()),
            tag: text(self.tag_name()),
            target: text(self.target()),
            commit: text(self.commit.as_deref()),
            author: text(self.author.as_deref()),
            message: text(self.message.as_deref()),
            changed: self.changed.clone(),
            input: self.inputs.iter().map(|(name, value)| (name.clone(), value.clone())).collect(),
            ..Values::default()
        }
    }
}

/// True when the rules make the pipeline begin on this occasion.
pub fn starts(rules: &Starts, occasion: &Occasion) -> bool {
    match &occasion.cause {
        Cause::ByHand { .. } => rules.by_hand,
        // The rules of the branch say which pipelines are wanted.
        Cause::Landing { .. } => true,
        // It is made of a run, not of a file.
        Cause::Carried { .. } => false,
        Cause::Push { branch, .. } => rules.push.as_ref().is_none_or(|globs| among(globs, branch)),
        Cause::Proposal { target, .. } => among(&rules.proposal, target),
        Cause::Tag { tag } => among(&rules.tag, tag),
        Cause::Schedule { line: Some(line), .. } => rules.schedule.iter().any(|(known, _)| known == line),
        Cause::Schedule { line: None, .. } => !rules.schedule.is_empty(),
        Cause::Passed { pipeline: None, .. } => !rules.pipeline.is_empty(),
        Cause::Passed { pipeline: Some(passed), .. } => {
            let own = occasion.project.as_ref().and_then(|project| passed.strip_prefix(project.as_str())?.strip_prefix('/'));
            rules.pipeline.iter().any(|rule| rule.value == *passed || own == Some(rule.value.as_str()))
        }
    }
}

/// Some glob fits, and none that begins with `!`. `*` stays within one part of a branch's name, `**` does not.
pub(crate) fn among(globs: &[String], branch: &str) -> bool {
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
