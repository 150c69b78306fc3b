//! Runners on demand: acts for `core::pool`. What is wanted and who is there is taken from the keeper, what is to be done is
//! written down first, and then done by a pool's provider; what comes of that is an event of the next look.
//!
//! ```text
//! keeper: jobs queue, runners come and go ── rings ──▶ task ── machines on disk ──▶ act ── provider: make, list, remove
//!                                                       ▲                                     │
//!                                                       └──────────── what it said ───────────┘
//! ```
//!
//! - `settings`: what a pool is set to, checked, as the core takes it;
//! - `task`: the loop: one look after another;
//! - `act`: what a look wants done;
//! - `provider`: who makes machines;
//! - `handle`: how the rest of the service reaches all that;
//! - `view`: what people are shown.
//!
//! To add a provider: a file in `provider`, a variant there, and its settings in `ordotaxis_wire::pool`.

mod act;
mod handle;
mod provider;
mod settings;
mod task;
mod view;

pub(crate) use handle::{PoolNow, Pools};
pub use provider::command::{ProgramError, try_program};
pub(crate) use settings::check;
pub use settings::is_pool_name;
pub(crate) use task::{take_configured, work};
pub(crate) use view::{DAY_MS, machine_view, pool_views};
