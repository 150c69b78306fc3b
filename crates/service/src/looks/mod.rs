//! First looks: a repository is read before it is a project. What has to last over several calls (the key, the hook secret,
//! what the forge sent meanwhile) is in memory and in a folder of its own, for the person who began it and for an hour; a
//! project that is made of it takes them over. Nothing of it is in the database.
//!
//! - `open`: those that are open;
//! - `hear`: a delivery for a project that is not there yet;
//! - `commit`: a commit's files as a folder, for the first pipeline file that is offered;
//! - `see`: what a repository has.

mod commit;
mod hear;
mod open;
mod see;

pub(crate) use commit::first_file_of;
pub(crate) use hear::hear;
pub(crate) use open::{FirstLook, FirstLooks, Heard};
pub(crate) use see::{see, view};
