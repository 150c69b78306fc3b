//! Every message between service, runner, client and console, once. Field names are forever: they are added, never
//! renamed. Times are RFC 3339 in UTC; durations are whole milliseconds and end in `_ms`.
//!
//! - [`view`]: what the service tells people: projects, runs, jobs, the board.
//! - [`plan`]: a plan as `plan --format json` prints it, and diagnostics.
//! - [`ask`]: what people ask of the service.
//! - [`runner`]: the runner protocol.
//! - [`problem`]: RFC 9457 problem details.
//! - [`words`]: times and sizes as people read them.

pub mod ask;
pub mod journal;
pub mod person;
pub mod pipeline;
pub mod plan;
pub mod problem;
pub mod runner;
pub mod session;
pub mod token;
pub mod view;
pub mod words;
pub mod work;

/// A moment from stored milliseconds; what is out of range becomes the epoch.
pub fn moment(ms: i64) -> jiff::Timestamp {
    jiff::Timestamp::from_millisecond(ms).unwrap_or_default()
}
