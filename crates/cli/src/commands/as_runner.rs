//! What this machine is as a runner: how it can fence steps in, and what its configuration says.

use crate::failure::Failure;
use crate::fence::IsolationChoice;
use ordotaxis_runner::{Config, Isolation};
use std::path::PathBuf;

/// How steps are fenced in here: as chosen, if that works, else as well as it can be.
pub(super) fn isolation(choice: Option<IsolationChoice>) -> Result<Isolation, Failure> {
    match choice {
        Some(IsolationChoice::Host) => Ok(Isolation::Host),
        Some(IsolationChoice::Container) if Isolation::container_works() => Ok(Isolation::Container),
        Some(IsolationChoice::Container) => Err(Failure::new(
            2,
            "containers cannot be made here",
            "install podman and runc (`apt-get install podman runc`), or use --isolation sandbox",
        )),
        Some(IsolationChoice::Sandbox) if !Isolation::sandbox_works() => Err(Failure::new(
            2,
            "sandboxes cannot be made here",
            "install bubblewrap (`apt-get install bubblewrap`), or use --isolation host",
        )),
        Some(IsolationChoice::Sandbox) => Ok(Isolation::Sandbox),
        None if Isolation::sandbox_works() => Ok(Isolation::Sandbox),
        None => Ok(Isolation::Host),
    }
}

/// A runner's configuration, or that there is none.
pub(super) fn configured(config: Option<PathBuf>) -> Result<Config, Failure> {
    let wrong = |error: ordotaxis_runner::ConfigError| Failure::new(2, error.to_string(), "mend the file, or leave out --config");
    config.map_or_else(|| Ok(Config::default()), |path| Config::load(&path).map_err(wrong))
}
