//! A runner: claims jobs and does them. It starts every connection itself and needs no open port.
//!
//! - `identity`: who it is, kept in its folder after [`enrol`];
//! - `client`: the protocol, with growing, jittered pauses while the service is away;
//! - `work`: the slots, the beat, and leaving;
//! - `job`: one job from lease to result: `workspace` (a clean folder), `take`, `step`, `give`;
//! - `ship`: log bytes and phases on their way;
//! - `isolation`, `processes`: how a step is fenced in, and how all of it is ended.

mod archive;
mod client;
mod identity;
mod isolation;
mod job;
mod late;
mod log_pipe;
mod processes;
mod ship;
mod step;
mod work;
mod workspace;

pub use archive::unpack_checked;
pub use client::{CallError, enrol};
pub use identity::{Identity, IdentityError};
pub use isolation::Isolation;
pub use work::{Leave, Settings, WorkError, work};
pub use workspace::own_mounts;
