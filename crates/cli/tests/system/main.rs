//! The whole system through its real interfaces: the client binary, HTTP, git, and the console in a browser.

mod adding;
mod ages;
mod ahead;
mod backup;
mod between;
mod checkout;
mod client;
mod console;
mod contract;
mod delivered;
mod delivery;
mod depth;
mod described;
mod direct;
mod doctor;
mod drafting;
mod edge;
mod escape;
mod everywhere;
mod failures;
mod faults;
mod forges;
mod found;
mod fourth;
mod gatehook;
mod guides;
mod here;
mod hooks;
mod hosts;
mod identity;
mod indexes;
mod init;
mod inside;
mod insight;
mod isolation;
mod journey;
mod kept;
mod landing;
mod language;
mod lists;
mod lost;
mod many;
mod metrics;
mod mistakes;
mod notices;
mod order;
mod outside;
mod pages;
mod phone;
mod plain;
mod pools;
mod private;
mod proxy;
mod reading;
mod rehearse;
mod releases;
mod rights;
mod rollouts;
mod setting;
mod shapes;
mod shipped;
mod slurm;
mod starting;
mod starts;
mod stored;
mod storm;
mod streamed;
mod talk;
mod telemetry;
mod told;
mod trace;
mod unheard;
mod who;

use ordotaxis_testbed::World;

/// The binary under test.
const ORDOTAXIS: &str = env!("CARGO_BIN_EXE_ordotaxis");

async fn world() -> World {
    World::start(ORDOTAXIS).await
}

/// With a configuration of the service's own.
async fn world_with(config: &'static str) -> World {
    World::start_with(ORDOTAXIS, config).await
}
