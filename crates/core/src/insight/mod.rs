//! What the history of a project's jobs comes to: how long they take and wait, what got slower since when, how branches do, what
//! trying again costs, what was not done because its result was there, and who pays for machines.
//!
//! Times are milliseconds, moments milliseconds since 1970, money millionths of whatever it is counted in.

mod branches;
mod costs;
mod jobs;
mod level;
mod shift;

pub use branches::{BranchFigures, RunEnd, branches};
pub use costs::{Share, Used, shares};
pub use jobs::{JobFigures, Part, StepFigures, Tried, jobs};
pub use level::{Level, level};
pub use shift::{Shift, last_shift};
