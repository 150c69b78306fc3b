//! A stand-in for a cloud: it makes machines when it is asked to, with a delay, a quota and a price, and it can be told to go wrong
//! in every way that clouds do. A machine is whatever its [`Boot`] makes of it: a process, or what a test brings.
//!
//! ```text
//! PUT /machines/NAME ── after a while ──▶ Boot ── its console ──▶ GET /machines/NAME/console
//! PUT /weather ──▶ what goes wrong from now on
//! ```
//!
//! - `weather`: what can go wrong;
//! - `sky`: the cloud itself; `order`: what it is asked for;
//! - `machine`: one machine, from its order to its end;
//! - `process`: machines that are processes;
//! - `page`: the addresses.

mod machine;
mod order;
mod page;
mod process;
mod sky;
mod weather;

pub use order::{Boot, Console, Order};
pub use process::Processes;
pub use sky::{Cloud, Counts};
pub use weather::Weather;
