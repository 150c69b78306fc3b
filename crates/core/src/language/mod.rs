//! TOML text → [`Pipeline`], with the place of everything and all diagnostics in one go. A key is added in `keys`,
//! given a field in `pipeline` and read in `file` or `job`.

mod diagnostic;
mod file;
mod job;
mod keys;
mod pipeline;
mod reader;

pub use diagnostic::{Code, Diagnostic, Lines, Severity, has_errors, nearest};
pub use file::read;
pub use pipeline::{At, Checkout, Defaults, Give, Job, JobId, Pipeline, Span, Starts, Step, Take, WhenNone};

/// The largest file that is read, in bytes. Reading needs up to 26 times the text in memory.
pub const FILE_LIMIT: usize = 1024 * 1024;
/// The most jobs one pipeline may have.
pub const JOB_LIMIT: usize = 100_000;
/// The most stages one pipeline may have; keeps the order's edges bounded.
pub const STAGE_LIMIT: usize = 1_000;
