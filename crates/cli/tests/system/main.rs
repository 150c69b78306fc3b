//! The whole system through its real interfaces: the client binary, HTTP, git, and the console in a browser.

mod client;
mod console;
mod contract;
mod depth;
mod guides;
mod here;
mod hooks;
mod isolation;
mod journey;
mod language;
mod lost;
mod mistakes;
mod outside;
mod shapes;
mod starts;

use ordotaxis_testbed::World;

/// The binary under test.
const ORDOTAXIS: &str = env!("CARGO_BIN_EXE_ordotaxis");

async fn world() -> World {
    World::start(ORDOTAXIS).await
}
