//! git, through its command line: mirrors of repositories, what is in a commit, checkouts, notes.
//!
//! [`command`] builds every call the same way; [`Mirror`] holds one bare copy of a repository and the verbs on it;
//! [`Mirrors`] finds the mirror of a project. A mirror's fetches run one at a time, and its objects are read through one
//! process. [`Mirror::pack`] sends of a mirror what a [`Store`] on another machine takes in and checks out.

mod access;
mod address;
mod bare;
mod changed;
mod command;
mod history;
mod land;
mod large;
mod mirror;
mod newest;
mod notes;
mod objects;
mod pack;
mod packet;
mod pointer;
mod quick;
mod receive;
mod store;
mod submodules;
mod tag;
mod tagging;
mod tags;
mod timing;

pub use access::{Access, Key, Login};
pub use address::{Address, AddressError};
pub use command::GitError;
pub use history::Between;
pub use land::{Pushed, Put, PutHow, Saying};
pub use mirror::{CommitInfo, Mirror, Mirrors};
pub use newest::Named;
pub use pack::{PackAsk, PackStream};
pub use pointer::Pointer;
pub use store::{Layout, Store};
pub use submodules::Submodule;
pub use tag::Tag;
pub use tagging::Tagged;
pub use timing::{Call, Calls, calls};
