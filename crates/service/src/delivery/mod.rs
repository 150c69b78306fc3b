//! Delivery: acts for the core's environments. What a run says to an environment, and what that says to runs, is written down as
//! work in the transaction that makes it so, in one lane an environment: whatever breaks off, nothing is forgotten, and nothing
//! is believed twice.
//!
//! ```text
//! keeper: a job is ready, or has ended ── work ──▶ act ── change ──▶ environment on disk ── work ──▶ act ──▶ keeper
//! ```
//!
//! - `act`: one piece of work: what is told to an environment, what it asks for;
//! - `change`: one event, from the environment on disk to the environment on disk;
//! - `around`: the rules of the moment, who people are, what was well elsewhere;
//! - `wish`: what a job would put there, and whose change that is; `ended`: how a deployment ended;
//! - `behind`: how far what is there is behind the main branch;
//! - `lend`: what a job that deploys is leased besides;
//! - `preview`: what proposals' runs put somewhere is taken away again;
//! - `promote`: what is put where next: promotions and roll-backs;
//! - `speak`: what people say to environments;
//! - `urgent`: the way round the rules;
//! - `tick`: hours that open, approvals that run out, rules that changed.

mod act;
mod around;
mod behind;
mod change;
mod distances;
mod ended;
mod lend;
mod preview;
mod promote;
mod speak;
mod tick;
mod urgent;
mod wish;

pub(crate) use act::work_off;
pub(crate) use around::{Around, Standing};
pub(crate) use behind::behind;
pub(crate) use distances::Distances;
pub(crate) use lend::add_delivery;
pub(crate) use preview::close_now;
pub(crate) use promote::{promote, roll_back};
pub(crate) use speak::{NotSaid, Said, frozen, said};
pub(crate) use tick::work;
pub(crate) use urgent::urgent;
