//! The rules of a project, `ordotaxis/rules.toml`: text → [`Rules`], with every mistake told as those of pipelines are. They
//! are read from the main branch only: what admits changes must not be changed by the change that it admits.
//!
//! - `keys`: every key with what it may look like;
//! - `read`, `read_environment`, `read_parts`: the reading;
//! - `environment`: what comes into environments;
//! - `hours`: times of the week;
//! - `words`: what they say, in sentences.

mod environment;
mod hours;
mod keys;
mod read;
mod read_environment;
mod read_parts;
mod words;

pub use environment::{Agreement, Asks, Check, Entries, EnvironmentRules, OnFailure};
pub use hours::{Hours, HoursError, all_open, opens};
pub use read::{read, schema};

use crate::landing::Manner;
use crate::language::Span;
use crate::notice::Occasion;
use indexmap::IndexMap;

/// Where they stand in a repository.
pub const FILE: &str = "ordotaxis/rules.toml";

/// What holds for a project.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Rules {
    /// By name of the branch.
    pub branches: IndexMap<String, BranchRules>,
    pub environments: Entries,
    /// Those that the service keeps: they hold as well.
    pub kept_environments: Entries,
    /// Addresses that are told what happens, by name.
    pub notices: IndexMap<String, NoticeRule>,
    pub told: Told,
}

/// What the forge is told besides each pipeline's verdict.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Told {
    /// Jobs with a status of their own.
    pub jobs: ToldJobs,
    /// Each proposal has a comment that says how it is.
    pub comments: bool,
}

/// Which jobs have a status of their own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ToldJobs {
    All,
    /// By `STAGE.JOB` for all its cells, or `STAGE.JOB[CELL]`.
    Named(Vec<String>),
}

impl Default for Told {
    fn default() -> Told {
        Told { jobs: ToldJobs::Named(Vec::new()), comments: true }
    }
}

impl ToldJobs {
    /// Whether a job is among them: by its id, and by that without its cell.
    pub fn holds(&self, id: &str, without_cell: &str) -> bool {
        match self {
            ToldJobs::All => true,
            ToldJobs::Named(names) => names.iter().any(|name| name == id || name == without_cell),
        }
    }
}

/// An address of the project's that is told what happens.
#[derive(Debug, Clone, PartialEq)]
pub struct NoticeRule {
    /// Where it stands in the file.
    pub span: Span,
    pub on: Vec<Occasion>,
    /// Mail addresses.
    pub mail: Vec<String>,
    /// A webhook, and the name of the secret that signs what is sent to it.
    pub hook: Option<(String, String)>,
}

/// How changes come into a branch.
#[derive(Debug, Clone, PartialEq)]
pub struct BranchRules {
    /// Where it stands in the file.
    pub span: Span,
    /// Proposals land through the queue, and nothing else is pushed.
    pub queue: bool,
    /// Pipelines that must pass on the combined result.
    pub wants: Vec<String>,
    /// All of these must be there.
    pub approvals: Vec<Approvals>,
    pub how: How,
    pub manner: Manner,
    /// Times in which nothing lands.
    pub closed: Vec<Hours>,
}

/// Who must agree with the newest commit of a proposal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Approvals {
    /// How many.
    pub of: usize,
    /// Persons and `@groups`, of whom it must be; anybody who may operate the project when empty.
    pub by: Vec<String>,
    /// Whether the author counts.
    pub author: bool,
}

/// How a proposal is put into its branch.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum How {
    /// A commit with two parents.
    Merge,
    /// One commit with all that it changes.
    Squash,
    /// Each of its commits, one after the other.
    Rebase,
}

impl Default for BranchRules {
    fn default() -> BranchRules {
        BranchRules {
            span: 0..0,
            queue: false,
            wants: vec!["main".to_owned()],
            approvals: Vec::new(),
            how: How::Merge,
            manner: Manner::default(),
            closed: Vec::new(),
        }
    }
}

impl Rules {
    /// A branch's rules; those of a branch that the file does not name are that everything is free.
    pub fn branch(&self, name: &str) -> BranchRules {
        self.branches.get(name).cloned().unwrap_or_default()
    }

    /// Both together: what either asks for is asked for. `more` can so never make anything easier.
    #[must_use]
    pub fn stricter(mut self, more: &Rules) -> Rules {
        for (name, more) in &more.branches {
            let own = self.branch(name);
            self.branches.insert(name.clone(), own.stricter(more));
        }
        for (name, notice) in &more.notices {
            self.notices.entry(name.clone()).or_insert_with(|| notice.clone());
        }
        self.kept_environments.extend(more.environments.iter().map(|(name, rules)| (name.clone(), rules.clone())));
        self
    }
}

impl BranchRules {
    fn stricter(mut self, more: &BranchRules) -> BranchRules {
        // A branch that is free wants nothing yet: what it wants by itself is nobody's word.
        if self.queue || !more.queue {
            let new: Vec<String> = more.wants.iter().filter(|name| !self.wants.contains(name)).cloned().collect();
            self.wants.extend(new);
        } else {
            self.wants.clone_from(&more.wants);
            (self.how, self.manner) = (more.how, more.manner);
        }
        self.queue |= more.queue;
        self.approvals.extend(more.approvals.iter().cloned());
        self.closed.extend(more.closed.iter().cloned());
        self
    }
}
