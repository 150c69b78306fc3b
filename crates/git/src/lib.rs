//! git, through its command line: mirrors of repositories, what is in a commit, clean trees, notes.
//!
//! [`command`] builds every call the same way; [`Mirror`] holds one bare copy of a repository and the verbs on it;
//! [`Mirrors`] finds the mirror of a project. A mirror's fetches run one at a time.

mod address;
mod command;
mod history;
mod mirror;
mod notes;

pub use address::{Address, AddressError};
pub use command::GitError;
pub use mirror::{CommitInfo, Mirror, Mirrors};
