//! Releases: versions and their order, notes, evidence.
//!
//! - `version`: what a version may be, and which of two is newer;
//! - `wanted`: the release that a job makes;
//! - `notes`: the part of a file that is about one version, and notes collected from what landed.

mod notes;
mod version;
mod wanted;

pub use notes::{Landed, collected, section};
pub use version::{compare, is_version};
pub use wanted::{NotesFrom, Wanted, wanted};
