//! TOML text → [`Pipeline`], with the place of everything and all diagnostics in one go. A key is added in `keys`,
//! given a field in `pipeline` or `extras` and read in `file` or `job`.

mod capacity;
mod diagnostic;
pub(crate) mod document;
mod duration;
mod extras;
mod file;
mod formats;
mod gate;
mod job;
mod keys;
mod pipeline;
mod place;
pub(crate) mod reader;
mod rollout;
mod rollout_form;
mod schedule;
pub(crate) mod schema;
pub(crate) mod shape;
mod step;

pub use capacity::{Capacity, mebibytes};
pub use diagnostic::{Code, Diagnostic, Lines, Severity, counted, has_errors, nearest};
pub use extras::{Cache, Extras, Fact, Helper, Placed, Publish, Releases, Retry, Split, Upload, connection_stem};
pub use file::{read, read_any_length};
pub use gate::{Bound, Compare, GateRule, NUMBERS};
pub(crate) use pipeline::Body;
pub use pipeline::{
    Borrow, Cell, CellSettings, CellsOf, Checkout, CheckoutLine, Depth, GitFiles, Give, GiveLine, Input, Job, JobId, Matrix, Pattern,
    Pipeline, StageRules, Starts, Take, Upon, WhenNone,
};
pub use place::{At, Span};
pub(crate) use reader::inside;
pub use rollout::{First, Rollout, RolloutWay, Watch};
pub use schedule::Schedule;
pub use schema::schema;
pub(crate) use step::StepLine;
pub use step::{Env, Step};

/// The largest file that is read, in bytes. Reading needs up to 26 times the text in memory.
pub const FILE_LIMIT: usize = 1024 * 1024;
/// The most jobs one pipeline may have, after the matrix.
pub const JOB_LIMIT: usize = 100_000;
/// The most stages one pipeline may have; keeps the order's edges bounded.
pub const STAGE_LIMIT: usize = 1_000;
/// How many patterns may follow each other.
pub const PATTERN_DEPTH: usize = 20;
