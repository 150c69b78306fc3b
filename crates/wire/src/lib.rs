//! Every message between service, runner, client and console, once. Field names are forever: they are added, never
//! renamed. Times are RFC 3339 in UTC; durations are whole milliseconds and end in `_ms`.
//!
//! One file a resource, with what is asked and what is answered:
//!
//! - [`project`], [`run`], [`board`], [`fleet`] (runners and the queue), [`log`], [`artifact`], [`results`] (tests, findings,
//!   numbers), [`failure`] (why a job failed), [`compare`], [`cache`], [`storage`], [`secret`], [`pipeline`], [`work`];
//! - [`delivery`] (what forges sent, and profiles), [`proposal`], [`landing`], [`environment`], [`release`], [`trace`];
//! - [`person`], [`session`], [`token`], [`journal`], [`sought`] (what is found by words);
//! - [`plan`]: a plan as `plan --format json` prints it, and diagnostics;
//! - [`runner`]: the runner protocol;
//! - [`problem`]: RFC 9457 problem details; [`words`]: times and sizes as people read them.

pub mod artifact;
pub mod board;
pub mod cache;
pub mod compare;
pub mod delivery;
pub mod environment;
pub mod failure;
pub mod fleet;
pub mod gate;
pub mod insight;
pub mod journal;
pub mod landing;
pub mod log;
pub mod look;
pub mod notice;
pub mod person;
pub mod pipeline;
pub mod plan;
pub mod pool;
pub mod problem;
pub mod project;
pub mod proposal;
pub mod release;
pub mod results;
pub mod run;
pub mod runner;
pub mod secret;
pub mod session;
pub mod sought;
pub mod storage;
pub mod token;
pub mod trace;
pub mod words;
pub mod work;

/// A moment from stored milliseconds; what is out of range becomes the epoch.
pub fn moment(ms: i64) -> jiff::Timestamp {
    jiff::Timestamp::from_millisecond(ms).unwrap_or_default()
}
