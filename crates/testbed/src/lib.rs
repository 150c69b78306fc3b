//! For tests only: a real service, forge and runners on free loopback ports, in one value that cleans up after itself.
//!
//! [`World`] starts them and speaks to them as people do: through the client binary, HTTP and git. [`Browser`] is
//! headless Chromium, driven by WebDriver. Nothing here sleeps for a fixed time: [`until`] waits for a condition.

mod alone;
mod browser;
mod collector;
mod gate;
mod mail;
mod objects;
mod port;
mod process;
mod proxy;
mod repository;
mod simulated;
mod slurm;
mod ssh;
mod ssh_server;
mod wait;
mod world;

pub use alone::Alone;
pub use browser::Browser;
pub use collector::{Collector, Line, Mood, Span};
pub use mail::{Mail, MailServer};
pub use objects::ObjectStorage;
pub use port::free_port;
pub use process::Process;
pub use proxy::Proxy;
pub use repository::Repository;
pub use simulated::{Answer, Simulated, leased, leased_ahead};
pub use slurm::{Node, Slurm};
pub use ssh::SshForge;
pub use ssh_server::SshServer;
pub use wait::{PATIENCE, until};
pub use world::{Ran, RunnerOptions, World};
