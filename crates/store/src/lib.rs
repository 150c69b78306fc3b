//! What lasts. Three stores below one data folder:
//!
//! - [`Records`]: SQLite, for everything that is asked for by name or time; all SQL of the project is in here.
//! - [`Blobs`]: artifacts by digest, written to a staging name and published by rename.
//! - [`Logs`]: what attempts print.

mod blobs;
mod key;
mod logs;
mod records;

pub use blobs::{BlobError, Blobs, Upload};
pub use key::{Secret, digest_of};
pub use logs::{Found, Lines, LogId, Logs, Searched};
pub use records::{
    AttemptRow, BoardRow, BrokenRow, Busy, DueMessage, DueOccasion, DueSchedule, Forge, JobRow, Journal, Kind, Message, NewRunRow,
    NewRunner, PassedRun, Project, Records, RunChange, RunKey, RunRow, RunnerRow, SecretRow, StepRows, StoreError, StoredArtifact,
    StoredPipeline, StoredRun, Took, ToolRow,
};
