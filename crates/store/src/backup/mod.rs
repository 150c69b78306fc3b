//! Backups: a consistent copy of all that lasts, taken while the service runs, and the way back.
//!
//! A place for backups holds any number of copies, each with a database of its own; packs, which never change, lie beside and
//! are written once for all copies. A copy counts once its `whole.json` is there, which is written last. So whatever breaks off
//! leaves the copies before as they were.
//!
//! ```text
//! TO/FORMAT                      ordotaxis backup 1
//! TO/copies/2026-…Z/database     SQLite, one file
//! TO/copies/2026-…Z/logs/…       logs that were not yet in the store
//! TO/copies/2026-…Z/keys/…       where that was asked for
//! TO/copies/2026-…Z/packs        name, bytes and SHA-256 of every pack, a line each
//! TO/copies/2026-…Z/whole.json   what the copy holds
//! TO/copies/2026-…Z/changes/…    what changed in the database since, where a service sends it (`whole.json` then has format 2)
//! TO/copies/2026-…Z/more-packs/… packs that came with the changes
//! TO/copies/2026-…Z/more-logs/…  what logs have grown by since
//! TO/packs/ab/ab12…              packs
//! ```
//!
//! Logs are copied before the database, and packs after it: what moves from one to the other meanwhile is then in both.
//!
//! - `back_up`: makes a copy; `keep`: drops old ones;
//! - `stream`: makes a copy and sends what changes after it; `wal` reads that, `changes` says how it lies
//!   there, `growing` does the same for logs;
//! - `restore`: makes a data folder of one;
//! - `shelf`: the place for backups.

mod back_up;
mod changes;
mod error;
mod growing;
mod keep;
mod restore;
mod shelf;
mod stream;
#[cfg(test)]
mod stream_tests;
#[cfg(test)]
mod tests;
mod wal;
mod whole;

pub use back_up::{Ask, Made, back_up};
pub use error::BackupError;
pub use keep::keep;
pub use restore::{Restored, restore};
pub use shelf::Shelf;
pub use stream::Stream;
pub use whole::Whole;
