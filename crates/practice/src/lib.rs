//! Stand-ins for the outside world, for the demo and the tests: small and plain, but real. A mail sink; a host that
//! software is put on; a cloud that makes machines; and a forge: bare
//! repositories served by git's own smart HTTP, signed webhooks, commit statuses, proposals with reviews and comments, one
//! page a repository. It speaks three dialects, and fails or is slow when it is told to.

mod acts;
mod announce;
mod answer;
mod backend;
mod book;
mod calls;
mod cloud;
mod deliver;
mod dialect;
mod fault;
mod forge;
mod host;
mod large;
mod late;
mod letters;
mod mail;
mod meet;
mod news;
mod page;
mod people;
mod pushed;
mod serve;
mod status;

pub use book::{Comment, Offered, Proposal, Release, Review};
pub use cloud::{Boot, Cloud, Console, Counts, Order, Processes, Weather};
pub use dialect::Dialect;
pub use fault::{Fault, What};
pub use forge::{Forge, ForgeError};
pub use host::{Host, Trouble, run};
pub use mail::Sink;
pub use status::Status;
