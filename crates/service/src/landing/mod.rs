//! Landing: acts for the core's queue. What happens is told to the queue in the transaction that keeps it, and what the
//! queue asks for is written down as work in the same transaction: whatever breaks off, nothing is forgotten and nothing is
//! believed twice.
//!
//! - `change`: one event, from the queue on disk to the queue on disk;
//! - `act`: what the queue asks for, done: trials made, begun and stopped, branches pushed;
//! - `reason`: why a trial failed;
//! - `rules`: the rules of the main branch, and what a proposal still lacks by them;
//! - `step`: what people ask of it;
//! - `gate`: whether a push to a plain git server may go on;
//! - `expected`: when each will likely land;
//! - `tick`: hours that open and close, approvals that were given, what could not be done tried again.

mod act;
mod asked;
mod change;
mod expected;
mod gate;
mod reason;
mod rules;
mod step;
mod tick;

pub(crate) use act::work_off;
pub(crate) use asked::LandingWork;
pub(crate) use change::{told_moved, told_of_proposal, told_of_review};
pub(crate) use expected::expected;
pub(crate) use gate::{GateError, gate};
pub(crate) use rules::{RulesError, Words, rules_of, text_on_main};
pub(crate) use step::{NotLanding, step};
pub(crate) use tick::{tick, work};
