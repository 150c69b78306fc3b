//! What the history of jobs comes to: read from the database, worked out by `core::insight`, shown to people ([`view`]) or given
//! away as a table ([`sheet`]).

mod days;
mod read;
mod sheet;
mod view;

pub(crate) use days::Days;
pub(crate) use read::{project, service};
pub(crate) use sheet::sheet;
