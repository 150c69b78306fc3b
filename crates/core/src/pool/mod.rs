//! Runners that are made when jobs queue and removed when there is nothing for them: what to make, what to remove, and why.
//!
//! ```text
//! queued jobs, runners, machines, what the provider said ── Pools ──▶ make, remove, list, drain ── provider ──▶ what it said
//! ```
//!
//! A provider is believed as little as possible. A machine has a name that was written down before anybody was asked to make it.
//! What a provider lists under a name of ours that nobody knows is removed; what it does not list, and nobody hears, is gone; what
//! is to go counts until a list that was asked for afterwards does not name it.
//!
//! - [`Rules`], [`Pool`]: what a pool may do, and how it goes with it;
//! - [`Machine`]: one machine's life;
//! - [`Pools`]: all of them: [`Pools::apply`] for what happened, [`Pools::look`] for what to do now;
//! - `count`: how many machines are missing;
//! - [`Outlook`]: why a queued job has none yet.

mod count;
mod event;
mod life;
mod listed;
mod look;
mod machine;
mod outlook;
mod pools;
mod rules;
mod seen;

pub use event::{Effect, Event, Listed};
pub use machine::{Machine, Stage};
pub use outlook::{Outlook, Outlooks};
pub use pools::Pools;
pub use rules::{Pool, Rules, Trouble};
pub use seen::{Doing, Left, Seen, likely_end};
