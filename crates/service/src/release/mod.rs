//! Releases: made when a job with `releases` has passed, from what that run made and from nothing else.
//!
//! ```text
//! lease: could it be made? ──no──▶ the job does not begin
//! keeper: the job has passed ── work ──▶ make: notes, evidence, tag ──▶ records ── work ──▶ tell: the forge
//! ```
//!
//! - `ready`: what is looked at before the job begins;
//! - `make`: the release itself; `notes`: its notes; `evidence`: what it rests on;
//! - `tell`: the forge is told;
//! - `act`: what people do with it.

mod act;
mod evidence;
mod make;
mod notes;
mod ready;
mod tell;
mod wanted;

pub(crate) use act::{NotDone, edit, publish, withdraw};
pub(crate) use make::work_off;
pub(crate) use ready::add_release;
pub(crate) use wanted::ReleaseWork;
