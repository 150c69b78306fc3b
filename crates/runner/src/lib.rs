//! A runner: claims jobs and does them. It starts every connection itself and needs no open port.
//!
//! - `identity`: who it is, kept in its folder after [`enrol`];
//! - `client`: the protocol, with growing, jittered pauses while the service is away;
//! - `work`: the slots, the beat, and leaving;
//! - `job`: one job from lease to result: `workspace` (a clean folder), `artifacts` (take, give), `caches`, `steps`, `beside`;
//! - `save`, `fetch`, `layers`: files on their way to and from the store, and what of it is here already;
//! - `reports`, `publish`: what else a job leaves, and what of it goes elsewhere;
//! - `ship`, `mask`: log bytes and phases on their way, secrets taken out;
//! - `isolation`: how a job is fenced in; `stage`, `sandbox`, `filter`, `netns`, `container`, `limits`: what fences are made of;
//! - `beneath`: the one way to files that a job can change;
//! - `processes`: how all of a job is ended;
//! - `tools`: what this machine offers.

mod archive;
mod artifacts;
mod beneath;
mod beside;
mod caches;
mod client;
mod container;
mod environment;
mod fetch;
mod filter;
mod identity;
mod isolation;
mod job;
mod late;
mod layers;
mod limits;
mod log_pipe;
mod mask;
mod netns;
mod processes;
mod publish;
mod reports;
mod sandbox;
mod save;
mod ship;
mod stage;
mod step;
mod steps;
mod tools;
mod work;
mod workspace;

pub use archive::unpack;
pub use beside::looks_ready;
pub use client::{CallError, enrol};
pub use identity::{Identity, IdentityError};
pub use isolation::Isolation;
pub use tools::{Config, ConfigError, Limits};
pub use work::{Leave, Settings, WorkError, work};
pub use workspace::own_mounts;
