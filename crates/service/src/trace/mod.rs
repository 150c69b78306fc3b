//! Where things come from and where they went. When a run has ended, each of its artifacts gets a signed statement, and the
//! files in it are noted by their digests; whoever asks for a commit, a digest or a place is answered from that.
//!
//! ```text
//! react: a run has ended ── work ──▶ noted: statements, files, what was published ──▶ records ──▶ found
//! ```
//!
//! - `noted`: the work after a run;
//! - `said`: what is said of one artifact, and its signature;
//! - `found`: from a thing to the chains that it stands in.

mod found;
mod noted;
mod said;

pub(crate) use found::{NotFound, find};
pub(crate) use noted::{follows, work_off};
pub(crate) use said::{envelope, statement};
