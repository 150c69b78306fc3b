//! The outside: forges. What they send is read and written down; what is asked of them goes through one place.
//!
//! - `profiles`: the dialects that are known;
//! - `signed`: whether a delivery is the forge's;
//! - `take`: a delivery read, kept, and made into work;
//! - `offered`: proposals that are made here, where there is no forge;
//! - `call`: one request to a forge, with its limits; `pages`: lists of it;
//! - `now`: how a proposal is at its forge now;
//! - `repositories`: what a forge has that may become a project;
//! - `poll`: repositories are looked at, so that what no hook tells is found.

mod call;
mod now;
mod occasion;
mod offered;
mod pages;
mod poll;
mod polls;
mod profiles;
mod repositories;
mod signed;
mod take;

pub(crate) use call::{CallError, Forge};
pub(crate) use now::{LookError, look_at, offered_now};
pub(crate) use offered::offer;
pub(crate) use poll::work as poll;
pub(crate) use polls::Polls;
pub use profiles::ProfileError;
pub(crate) use profiles::{PLAIN, Profiles};
pub(crate) use repositories::repositories;
pub(crate) use take::{Came, Taken, again, is_signed, read, take};
