//! Logs of jobs, sent on: each line at least once, in order, from what is stored. A target that is away is waited for; what it has
//! is written down after each part, so that nothing is lost over a restart.
//!
//! ```text
//! events: an attempt began ── task ── ships on disk ──▶ lines of the log ── form ──▶ collector
//!                                        ▲                                            │
//!                                        └────────────── so many have arrived ────────┘
//! ```
//!
//! - `task`: one a target: which logs, how far;
//! - `gather`: the next lines of a log;
//! - `form`: how lines are written.

mod form;
mod gather;
mod task;

pub(crate) use task::{forget_others, work};
