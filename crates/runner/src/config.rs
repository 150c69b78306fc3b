//! A runner's configuration file, and what one job may use.

use serde::Deserialize;
use std::path::{Path, PathBuf};

/// A runner's configuration file (`--config`). All keys may be left out.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Config {
    /// Of the labels that the invitation granted, those that are offered; all of them when absent.
    pub labels: Option<Vec<String>>,
    #[serde(default)]
    pub limits: Limits,
    #[serde(default, rename = "tool")]
    pub tools: Vec<ConfiguredTool>,
    /// Folders that jobs may read in a sandbox, beside the system's and those of tools.
    #[serde(default)]
    pub shows: Vec<PathBuf>,
    /// What of the machine jobs may have; all of it when absent.
    #[serde(default)]
    pub offers: Offers,
    /// Whether to look for the tools that every runner looks for; yes when absent.
    pub probe: Option<bool>,
}

/// What of a machine jobs may have together. None: all that there is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Offers {
    pub cores: Option<u32>,
    pub memory_mib: Option<u64>,
    /// Graphics processors: nobody looks for them.
    pub gpus: Option<u32>,
}

impl Offers {
    /// Cores, bytes of memory and graphics processors that jobs may have of a machine with so many.
    pub(crate) fn of_machine(self, (cores, memory): (u32, u64)) -> (u32, u64, u32) {
        let memory_there = self.memory_mib.map(|mib| mib.saturating_mul(1 << 20));
        (self.cores.unwrap_or(cores), memory_there.unwrap_or(memory), self.gpus.unwrap_or(0))
    }
}

/// What one job may use. None: what [`Limits::with_usual`] says.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Limits {
    pub memory_mib: Option<u64>,
    pub processes: Option<u64>,
    /// Of what it writes, in its folder and its `/tmp`.
    pub disk_mib: Option<u64>,
    /// How long it may take that does not say it itself.
    pub hours: Option<u64>,
}

/// A tool that only this machine's owner knows of.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ConfiguredTool {
    pub name: String,
    /// Where it lies; found on `PATH` when absent.
    pub folder: Option<PathBuf>,
    /// Where several versions of it lie, as globs: `/opt/python/*/bin`.
    #[serde(default)]
    pub folders: Vec<String>,
    /// The command that says its version; `NAME --version` when absent.
    pub version: Option<String>,
}

/// Why a runner's configuration cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ConfigError {
    #[error("the runner's configuration {} could not be read", path.display())]
    Read {
        path: PathBuf,
        #[source]
        source: std::io::Error,
    },
    #[error("the runner's configuration {} has a mistake: {}", path.display(), source.message())]
    Form {
        path: PathBuf,
        #[source]
        source: Box<toml::de::Error>,
    },
}

impl Config {
    /// Reads a configuration file; unknown keys are mistakes.
    pub fn load(path: &Path) -> Result<Config, ConfigError> {
        let text = std::fs::read_to_string(path).map_err(|source| ConfigError::Read { path: path.to_owned(), source })?;
        toml::from_str(&text).map_err(|source| ConfigError::Form { path: path.to_owned(), source: Box::new(source) })
    }
}

impl Config {
    /// The tools that are configured, each folder of each for itself.
    pub(crate) fn all_tools(&self) -> impl Iterator<Item = ConfiguredTool> {
        self.tools.iter().flat_map(|tool| {
            let mut all: Vec<Option<PathBuf>> = tool.folders.iter().flat_map(|glob| folders(glob)).map(Some).collect();
            if tool.folder.is_some() || tool.folders.is_empty() {
                all.push(tool.folder.clone());
            }
            all.into_iter().map(|folder| ConfiguredTool { folder, folders: Vec::new(), ..tool.clone() })
        })
    }
}

/// The folders that a glob fits, in order.
fn folders(glob: &str) -> Vec<PathBuf> {
    let found: Vec<PathBuf> = match glob::glob(glob) {
        Ok(paths) => paths.flatten().filter(|path| path.is_absolute() && path.is_dir()).collect(),
        Err(error) => {
            tracing::warn!(glob, %error, "this is not a glob");
            return Vec::new();
        }
    };
    if found.is_empty() {
        tracing::warn!(glob, "no folder of this machine fits; it has to begin with `/`");
    }
    found
}

/// Time and processes where nothing is configured: generous for any build, and an end for what runs wild.
const USUAL_HOURS: u64 = 6;

const USUAL_PROCESSES: u64 = 4096;

/// Of the machine's memory, and of what is free on the disk, in tenths.
const USUAL_TENTHS: u64 = 8;

impl Limits {
    /// With a limit for everything: what is not configured comes from the machine's own size. `free` is what is free on the
    /// disk that jobs write to, in bytes; `groups` says whether control groups can limit memory here.
    pub(crate) fn with_usual(self, memory: u64, free: u64, groups: bool) -> Limits {
        let share = |bytes: u64| (bytes / 10 * USUAL_TENTHS) >> 20;
        Limits {
            // Without groups only the addresses of a process could be limited, of which many programs reserve far more than they use.
            memory_mib: self.memory_mib.or((memory > 0 && groups).then(|| share(memory))),
            processes: self.processes.or(Some(USUAL_PROCESSES)),
            disk_mib: self.disk_mib.or((free > 0).then(|| share(free))),
            hours: self.hours.or(Some(USUAL_HOURS)),
        }
    }

    /// In words, for people.
    pub(crate) fn told(&self) -> String {
        let memory = self.memory_mib.map_or("memory unlimited".to_owned(), |mib| format!("{mib} MiB of memory"));
        let some = |limit: Option<u64>, what: &str| limit.map(|limit| format!("{limit} {what}"));
        let rest = [some(self.processes, "processes"), some(self.disk_mib, "MiB written"), some(self.hours, "hours")];
        format!("at most {memory}, {}", rest.into_iter().flatten().collect::<Vec<_>>().join(", "))
    }
}
