//! The whole system through its real interfaces: the client binary, HTTP, git, and the console in a browser.

mod client;
mod console;
mod guides;
mod hooks;
mod isolation;
mod journey;
mod lost;
mod mistakes;
mod outside;
mod shapes;

use ordotaxis_testbed::World;

/// The binary under test.
const ORDOTAXIS: &str = env!("CARGO_BIN_EXE_ordotaxis");

async fn world() -> World {
    World::start(ORDOTAXIS).await
}
