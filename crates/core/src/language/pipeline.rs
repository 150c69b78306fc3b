//! A pipeline as its file says it: every part with its place in the text, no name resolved yet. [`crate::plan`] resolves.

use super::capacity::Capacity;
use super::extras::Extras;
use super::extras::Placed;
use super::place::{At, Span};
use super::schedule::Schedule;
use super::step::{Env, StepLine};
use crate::order::Line;
use crate::template::Template;
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};
use std::fmt;

/// A job's full name, `STAGE.NAME`; of one cell `STAGE.NAME[VALUE,VALUE]`.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(transparent)]
#[schema(value_type = String)]
pub struct JobId(String);

impl JobId {
    /// `STAGE.NAME`. Neither is checked here.
    pub fn new(stage: &str, name: &str) -> Self {
        // Made for every job several times: without the machinery of formatting.
        let mut id = String::with_capacity(stage.len() + 1 + name.len());
        id.push_str(stage);
        id.push('.');
        id.push_str(name);
        JobId(id)
    }

    /// The whole id as text.
    pub fn into_string(self) -> String {
        self.0
    }

    /// The whole id as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl JobId {
    /// A job's id with one of its cells: `build.gauge[gcc,O2]`.
    ///
    /// ```
    /// use ordotaxis_core::language::JobId;
    /// let cell = JobId::new("build", "gauge").of_cell("gcc,O2");
    /// assert_eq!((cell.as_str(), cell.without_cell()), ("build.gauge[gcc,O2]", "build.gauge"));
    /// ```
    pub fn of_cell(&self, cell: &str) -> Self {
        JobId(format!("{}[{cell}]", self.0))
    }

    /// The job's own name without its cell.
    pub fn without_cell(&self) -> &str {
        self.0.split('[').next().unwrap_or_default()
    }
}

impl fmt::Display for JobId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// A whole file. Its parts keep the order of the file.
#[derive(Debug, Clone, Default)]
pub struct Pipeline {
    pub title: Option<String>,
    pub order: Vec<Line>,
    /// False: after a failure nothing more is started.
    pub stops_at_failure: bool,
    pub starts: Starts,
    pub env: Env,
    pub defaults: Body,
    pub stages: IndexMap<String, StageRules>,
    pub patterns: IndexMap<String, Pattern>,
    pub borrows: IndexMap<String, At<Borrow>>,
    pub jobs: Vec<Job>,
}

/// What makes a run begin.
#[derive(Debug, Clone)]
pub struct Starts {
    /// Globs over branches; one with `!` takes away. None: any branch, for a file without `[starts]`.
    pub push: Option<Vec<String>>,
    /// Globs over the branches that proposals are aimed at.
    pub proposal: Vec<String>,
    pub tag: Vec<String>,
    pub schedule: Vec<(String, Schedule)>,
    /// `NAME`, or `PROJECT/NAME` of another project.
    pub pipeline: Vec<At<String>>,
    pub by_hand: bool,
    pub inputs: IndexMap<String, Input>,
    pub overtake: bool,
}

impl Default for Starts {
    fn default() -> Self {
        Starts {
            push: None,
            proposal: Vec::new(),
            tag: Vec::new(),
            schedule: Vec::new(),
            pipeline: Vec::new(),
            by_hand: true,
            inputs: IndexMap::new(),
            overtake: true,
        }
    }
}

/// What may be given: to a run that someone starts, or to a pattern by who follows it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Input {
    pub span: Span,
    pub choices: Option<Vec<String>>,
    pub default: Option<String>,
    pub says: Option<String>,
}

/// What `[stage.NAME]` says for all jobs of a stage.
#[derive(Debug, Clone, Default)]
pub struct StageRules {
    pub span: Span,
    pub condition: Option<At<String>>,
    pub labels: Option<Vec<At<Template>>>,
    pub env: Env,
    pub gate: Vec<At<super::GateRule>>,
}

/// What `[pattern.NAME]` offers to jobs that follow it.
#[derive(Debug, Clone)]
pub struct Pattern {
    pub span: Span,
    pub inputs: IndexMap<String, Input>,
    pub body: Body,
}

/// Patterns in a file of another repository.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Borrow {
    pub git: String,
    /// A tag or a commit.
    pub at: String,
    pub file: String,
}

/// One `[job.STAGE.NAME]`.
#[derive(Debug, Clone)]
pub struct Job {
    pub stage: String,
    pub name: String,
    /// The table's header.
    pub span: Span,
    pub body: Body,
}

impl Job {
    /// The job's id without cells.
    pub fn id(&self) -> JobId {
        JobId::new(&self.stage, &self.name)
    }
}

/// What a job, a pattern or `[defaults]` says; everything may be left to another one.
#[derive(Debug, Clone, Default)]
pub struct Body {
    pub steps: Option<Vec<StepLine>>,
    pub prepare: Option<Vec<StepLine>>,
    pub labels: Option<Vec<At<Template>>>,
    pub takes: Option<Vec<At<Take>>>,
    pub gives: Option<Vec<GiveLine>>,
    pub after: Option<Vec<At<String>>>,
    pub eager: Option<bool>,
    pub env: Env,
    pub timeout_ms: Option<u64>,
    pub may_fail: Option<bool>,
    pub checkout: Option<CheckoutLine>,
    pub condition: Option<At<String>>,
    pub upon: Option<Vec<Upon>>,
    pub matrix: Option<Box<Matrix>>,
    /// What is otherwise for some cells; later ones count.
    pub settings: Vec<CellSettings>,
    pub at_once: Option<usize>,
    pub keep_going: Option<bool>,
    pub follows: Option<At<String>>,
    pub given: Env,
    pub extras: Option<Box<Extras>>,
}

/// The matrix: axes, and the cells taken out and added.
#[derive(Debug, Clone, Default)]
pub struct Matrix {
    pub span: Span,
    pub each: IndexMap<String, Vec<At<String>>>,
    pub except: Vec<At<Cell>>,
    pub also: Vec<At<Cell>>,
}

/// What a job says for those of its cells that have these values.
#[derive(Debug, Clone)]
pub struct CellSettings {
    pub span: Span,
    /// Values of some axes.
    pub of: Cell,
    pub labels: Option<Vec<At<Template>>>,
    pub tools: IndexMap<String, Placed>,
    pub image: Option<Placed>,
    pub network: Option<bool>,
    pub capacity: Capacity,
    pub timeout_ms: Option<u64>,
    pub may_fail: Option<bool>,
    pub env: Env,
}

/// Axis → value, in the order of the axes.
pub type Cell = IndexMap<String, String>;

/// `STAGE.NAME/ARTIFACT`, the folder it is unpacked in, and of which cells.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Take {
    pub job: String,
    pub artifact: String,
    pub to: Option<At<Template>>,
    pub cells: CellsOf,
}

/// Which cells of a job are taken from.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum CellsOf {
    #[default]
    All,
    /// Those with the same values of the axes that both have.
    Same,
    These(Cell),
}

/// An artifact as the file writes it.
#[derive(Debug, Clone)]
pub struct GiveLine {
    pub artifact: String,
    pub paths: Vec<At<Template>>,
    pub none: WhenNone,
    pub keep_ms: Option<u64>,
    pub upon: Vec<Upon>,
}

/// An artifact as a plan holds it, with its placeholders filled as far as possible.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Give {
    pub artifact: String,
    /// Globs below the job's folder.
    pub paths: Vec<String>,
    pub none: WhenNone,
    /// How long it is kept after the job's end; as long as the service says when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keep_ms: Option<u64>,
    /// Ends of the job upon which it is given; when empty, passed alone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub upon: Vec<Upon>,
}

/// An outcome that lets what waits for it start.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Upon {
    Passed,
    Failed,
    Skipped,
    Stopped,
    Lost,
}

impl Upon {
    /// Each with its word in the file.
    pub const ALL: [(&'static str, Upon); 5] =
        [("passed", Upon::Passed), ("failed", Upon::Failed), ("skipped", Upon::Skipped), ("stopped", Upon::Stopped), ("lost", Upon::Lost)];
}

/// Whether, where and how the commit's files are put, as the file writes it.
#[derive(Debug, Clone)]
pub enum CheckoutLine {
    None,
    Files { dir: Option<At<Template>>, git: GitFiles },
}

/// What happens when an artifact's globs match nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum WhenNone {
    #[default]
    Fail,
    Warn,
    Ignore,
}

/// What a job's folder holds before its steps.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Checkout {
    /// An empty folder.
    None,
    /// The commit's files, clean, in this folder below the job's own (`.` for itself).
    Files {
        dir: String,
        #[serde(flatten)]
        git: GitFiles,
    },
}

impl Default for Checkout {
    fn default() -> Self {
        Checkout::Files { dir: ".".into(), git: GitFiles::default() }
    }
}

/// Which of a commit's files and of its history a checkout has. What is as by default is not stored.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(default)]
pub struct GitFiles {
    #[serde(skip_serializing_if = "Depth::is_one")]
    pub depth: Depth,
    /// Submodules and theirs, each at the commit that the repository names.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub submodules: bool,
    /// Files of git-lfs in place of the pointers to them.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub lfs: bool,
    /// Globs: only files that fit one of these; all where there are none.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub paths: Vec<String>,
}

/// How much history a checkout has: so many commits, the newest counted, or all. Written as in a file: `3`, `"all"`.
///
/// ```
/// use ordotaxis_core::language::Depth;
/// assert_eq!("all".parse(), Ok(Depth::All));
/// assert_eq!("3".parse(), Ok(Depth::Commits(3)));
/// assert!("0".parse::<Depth>().is_err());
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(try_from = "DepthForm", into = "DepthForm")]
pub enum Depth {
    Commits(u32),
    All,
}

impl Default for Depth {
    fn default() -> Self {
        Depth::Commits(1)
    }
}

impl Depth {
    fn is_one(&self) -> bool {
        *self == Depth::default()
    }
}

impl std::fmt::Display for Depth {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Depth::Commits(commits) => write!(f, "{commits}"),
            Depth::All => f.write_str("all"),
        }
    }
}

impl std::str::FromStr for Depth {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Depth, Self::Err> {
        match text.parse::<u32>() {
            Ok(commits) if commits > 0 => Ok(Depth::Commits(commits)),
            _ if text == "all" => Ok(Depth::All),
            _ => Err("a depth is a number of commits from 1, or \"all\""),
        }
    }
}

#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum DepthForm {
    Commits(u32),
    Word(String),
}

impl TryFrom<DepthForm> for Depth {
    type Error = &'static str;

    fn try_from(form: DepthForm) -> Result<Depth, Self::Error> {
        match form {
            DepthForm::Commits(commits) => commits.to_string().parse(),
            DepthForm::Word(word) => word.parse(),
        }
    }
}

impl From<Depth> for DepthForm {
    fn from(depth: Depth) -> DepthForm {
        match depth {
            Depth::Commits(commits) => DepthForm::Commits(commits),
            Depth::All => DepthForm::Word("all".into()),
        }
    }
}
