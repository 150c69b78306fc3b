//! How much of a machine: what a job asks for (`cores`, `memory`, `gpus`), what a runner has.

use serde::{Deserialize, Serialize};

/// Cores, memory and graphics processors. Asked for, 0 means that it does not matter; offered, that there is none, or that it is
/// not known.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(default)]
pub struct Capacity {
    #[serde(skip_serializing_if = "is_zero")]
    pub cores: u32,
    #[serde(skip_serializing_if = "is_zero")]
    pub memory_mib: u32,
    #[serde(skip_serializing_if = "is_zero")]
    pub gpus: u32,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands a reference")]
fn is_zero(number: &u32) -> bool {
    *number == 0
}

impl Capacity {
    /// Nothing of anything.
    pub fn is_none(&self) -> bool {
        *self == Capacity::default()
    }

    /// Whether so much has room in that.
    ///
    /// ```
    /// use ordotaxis_core::language::Capacity;
    /// let (two, four) = (Capacity { cores: 2, ..Capacity::default() }, Capacity { cores: 4, memory_mib: 1024, gpus: 0 });
    /// assert!(two.fits_in(four) && !four.fits_in(two));
    /// assert_eq!(two.times_in(four), Some(2));
    /// assert_eq!(Capacity::default().times_in(four), None);
    /// ```
    pub fn fits_in(self, room: Capacity) -> bool {
        self.cores <= room.cores && self.memory_mib <= room.memory_mib && self.gpus <= room.gpus
    }

    /// How often so much has room in that; none where nothing is asked for, and any number has.
    pub fn times_in(self, room: Capacity) -> Option<usize> {
        let each = [(self.cores, room.cores), (self.memory_mib, room.memory_mib), (self.gpus, room.gpus)];
        each.into_iter().filter(|(asked, _)| *asked > 0).map(|(asked, there)| (there / asked) as usize).min()
    }

    /// What is left when so much is taken; never less than nothing.
    #[must_use]
    pub fn less(self, taken: Capacity) -> Capacity {
        Capacity {
            cores: self.cores.saturating_sub(taken.cores),
            memory_mib: self.memory_mib.saturating_sub(taken.memory_mib),
            gpus: self.gpus.saturating_sub(taken.gpus),
        }
    }

    /// Both together.
    #[must_use]
    pub fn and(self, other: Capacity) -> Capacity {
        Capacity {
            cores: self.cores.saturating_add(other.cores),
            memory_mib: self.memory_mib.saturating_add(other.memory_mib),
            gpus: self.gpus.saturating_add(other.gpus),
        }
    }

    /// Of each part what `self` says, and where it is silent what `other` does.
    #[must_use]
    pub fn over(self, other: Capacity) -> Capacity {
        let part = |own: u32, other: u32| if own == 0 { other } else { own };
        Capacity {
            cores: part(self.cores, other.cores),
            memory_mib: part(self.memory_mib, other.memory_mib),
            gpus: part(self.gpus, other.gpus),
        }
    }

    /// In words, such as `8 cores, 32 GiB of memory`; empty for nothing.
    pub fn words(self) -> String {
        let count = |number: u32, one: &str| match number {
            0 => None,
            1 => Some(format!("1 {one}")),
            more => Some(format!("{more} {one}s")),
        };
        let memory = (self.memory_mib > 0).then(|| format!("{} of memory", size_words(self.memory_mib)));
        let parts = [count(self.cores, "core"), memory, count(self.gpus, "gpu")];
        parts.into_iter().flatten().collect::<Vec<_>>().join(", ")
    }
}

/// MiB as a file writes them.
fn size_words(mib: u32) -> String {
    if mib.is_multiple_of(1024) { format!("{} GiB", mib / 1024) } else { format!("{mib} MiB") }
}

/// MiB from a size such as `512MiB`, `8GiB` or `1TiB`; none for anything else, and for zero.
///
/// ```
/// use ordotaxis_core::language::mebibytes;
/// assert_eq!(mebibytes("8GiB"), Some(8192));
/// assert_eq!(mebibytes("512 MiB"), Some(512));
/// assert!(["8G", "8", "GiB", "0GiB", "-1GiB", "1.5GiB", "9999999TiB", ""].iter().all(|bad| mebibytes(bad).is_none()));
/// ```
pub fn mebibytes(text: &str) -> Option<u32> {
    let text = text.trim();
    let units = [("MiB", 1), ("GiB", 1024), ("TiB", 1024 * 1024)];
    let (number, times) = units.iter().find_map(|(unit, times)| Some((text.strip_suffix(unit)?, *times)))?;
    let number: u32 = number.trim_end().parse().ok().filter(|number| *number > 0)?;
    number.checked_mul(times)
}
