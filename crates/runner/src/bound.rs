//! Folders and files that are seen at a second place: what fences bind lies where the jobs' user can get to it.

use crate::own::program;
use nix::mount::{MntFlags, MsFlags, mount, umount2};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

/// Shows a folder or file at a second place as well.
pub(crate) fn bind(from: &Path, to: &Path) -> io::Result<()> {
    Ok(mount(Some(from), to, None::<&str>, MsFlags::MS_BIND, None::<&str>)?)
}

/// The program where fences bind it from: where it lies, or a place that the jobs' user can get to.
#[derive(Debug)]
pub(crate) struct Bound {
    place: Option<PathBuf>,
    from: Mutex<PathBuf>,
}

impl Bound {
    /// Shows it at a place as well, where one is given.
    pub(crate) fn new(place: Option<PathBuf>) -> io::Result<Bound> {
        let own = program()?;
        if let Some(place) = &place {
            std::fs::write(place, "")?;
            bind(&own, place)?;
        }
        Ok(Bound { place, from: Mutex::new(own) })
    }

    /// Where it can be bound from now: a file that was replaced cannot be, also where it is shown.
    pub(crate) fn now(&self) -> io::Result<PathBuf> {
        let own = program()?;
        let Some(place) = &self.place else { return Ok(own) };
        let mut from = self.from.lock().unwrap_or_else(PoisonError::into_inner);
        if *from != own {
            // Where the last try ended half way, nothing is mounted there.
            let _ = umount2(place, MntFlags::MNT_DETACH);
            bind(&own, place)?;
            *from = own;
        }
        Ok(place.clone())
    }
}
