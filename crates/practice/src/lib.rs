//! Stand-ins for the outside world, for the demo and the tests: small and plain, but real. So far a forge: bare
//! repositories served by git's own smart HTTP, signed webhooks, commit statuses, one page a repository.

mod backend;
mod forge;
mod hook;
mod large;
mod page;
mod status;

pub use forge::{Forge, ForgeError};
pub use status::Status;
