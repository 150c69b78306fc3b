//! What a runner offers: the tools found on this machine with their versions, its cores and its memory; and how its
//! configuration file adds to that.

use crate::isolation::Fences;
use ordotaxis_core::dispatch::{version_found, version_wanted};
use ordotaxis_wire::runner::Tool;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

/// Looked for on every machine; a configuration adds others. Each says its version with `--version`, but where it is
/// written otherwise.
const KNOWN: &[(&str, &str)] = &[
    ("cargo", ""),
    ("clang", ""),
    ("cmake", ""),
    ("gcc", ""),
    ("git", ""),
    ("go", "go version"),
    ("java", "java -version 2>&1"),
    ("make", ""),
    ("node", ""),
    ("python3", ""),
    ("rustc", ""),
];
/// A tool that takes longer to say its version is left out.
const PATIENCE: Duration = Duration::from_secs(5);

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
    /// Whether to look for the tools that every runner looks for; yes when absent.
    pub probe: Option<bool>,
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

/// Time and processes where nothing is configured: generous for any build, and an end for what runs wild.
const USUAL_HOURS: u64 = 6;
const USUAL_PROCESSES: u64 = 4096;
/// Of the machine's memory, and of what is free on the disk, in tenths.
const USUAL_TENTHS: u64 = 8;

impl Limits {
    /// With a limit for everything: what is not configured comes from the machine's own size. `free` is what is free on the
    /// disk that jobs write to, in bytes.
    pub(crate) fn with_usual(self, memory: u64, free: u64) -> Limits {
        let share = |bytes: u64| (bytes / 10 * USUAL_TENTHS) >> 20;
        Limits {
            // Without groups only the addresses of a process could be limited, of which many programs reserve far more than they use.
            memory_mib: self.memory_mib.or((memory > 0 && crate::limits::can_group()).then(|| share(memory))),
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

/// A tool that only this machine's owner knows of.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ConfiguredTool {
    pub name: String,
    /// Where it lies; found on `PATH` when absent.
    pub folder: Option<PathBuf>,
    /// The command that says its version; `NAME --version` when absent.
    pub version: Option<String>,
}

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
    pub fn load(path: &Path) -> Result<Config, ConfigError> {
        let text = std::fs::read_to_string(path).map_err(|source| ConfigError::Read { path: path.to_owned(), source })?;
        toml::from_str(&text).map_err(|source| ConfigError::Form { path: path.to_owned(), source: Box::new(source) })
    }
}

/// A tool that was found, and the folder it lies in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Found {
    pub(crate) tool: Tool,
    pub(crate) folder: PathBuf,
}

/// Folders of tools that do not lie with the system's programs: fences show them, read-only.
pub(crate) fn folders_shown(config: &Config) -> Vec<PathBuf> {
    let configured = config.tools.iter().filter_map(|tool| tool.folder.clone());
    let names = KNOWN.iter().filter(|_| config.probe.unwrap_or(true)).map(|(name, _)| *name);
    let found = names.chain(config.tools.iter().map(|tool| tool.name.as_str())).filter_map(on_path);
    let homes = tool_homes().into_iter().map(|(_, home)| PathBuf::from(home));
    let all = config.shows.iter().cloned().chain(homes).chain(configured).chain(found);
    all.filter(|folder| folder.is_absolute() && !folder.starts_with("/usr") && folder != Path::new("/")).collect()
}

/// Where installed tool chains are kept, as the runner's own environment or home says: a step finds them though its home
/// is another.
pub(crate) fn tool_homes() -> Vec<(String, String)> {
    let set = |name: &str| std::env::var(name).ok().map(|value| (name.to_owned(), value));
    let mut homes: Vec<(String, String)> =
        ["RUSTUP_HOME", "JAVA_HOME", "GOROOT", "PYENV_ROOT", "NVM_DIR"].into_iter().filter_map(set).collect();
    if std::env::var_os("RUSTUP_HOME").is_none()
        && let Some(home) = std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".rustup")).filter(|home| home.is_dir())
    {
        homes.push(("RUSTUP_HOME".to_owned(), home.display().to_string()));
    }
    homes
}

/// Everything that is there and works for a job, in order of names: in a sandbox a tool is tried in one.
pub(crate) async fn find(config: &Config, fences: &Fences) -> Vec<Found> {
    let configured = config.tools.iter().map(|tool| (tool.name.clone(), tool.folder.clone(), tool.version.clone().unwrap_or_default()));
    let known =
        KNOWN.iter().filter(|_| config.probe.unwrap_or(true)).map(|(name, version)| ((*name).to_owned(), None, (*version).to_owned()));
    let mut probes = tokio::task::JoinSet::new();
    for (name, folder, version) in known.chain(configured) {
        let Some(folder) = folder.or_else(|| on_path(&name)) else { continue };
        let asked = if version.is_empty() { format!("{name} --version") } else { version };
        if let Ok(command) = fences.trial(&asked, &folder) {
            probes.spawn(probe(name, folder, command));
        }
    }
    let mut found: Vec<Found> = probes.join_all().await.into_iter().flatten().collect();
    found.sort_by(|a, b| (&a.tool.name, &a.tool.version).cmp(&(&b.tool.name, &b.tool.version)));
    found
}

async fn probe(name: String, folder: PathBuf, mut command: tokio::process::Command) -> Option<Found> {
    command.stdin(Stdio::null()).stderr(Stdio::null()).kill_on_drop(true);
    let output = tokio::time::timeout(PATIENCE, command.output()).await.ok()?.ok()?;
    let Some(version) = version_found(&String::from_utf8_lossy(&output.stdout)) else {
        tracing::warn!(tool = name, folder = %folder.display(), "does not say its version where jobs run; it is not offered");
        return None;
    };
    Some(Found { tool: Tool { name, version: version.to_string() }, folder })
}

pub(crate) fn paths() -> Vec<PathBuf> {
    std::env::var_os("PATH").map(|paths| std::env::split_paths(&paths).collect()).unwrap_or_default()
}

fn on_path(name: &str) -> Option<PathBuf> {
    paths().into_iter().find(|folder| folder.join(name).is_file())
}

/// The folders of the tools that a job wants, each the newest that will do: they go first on `PATH`.
pub(crate) fn folders_for<'w>(found: &[Found], wanted: impl Iterator<Item = (&'w String, &'w String)>) -> Vec<PathBuf> {
    let mut folders: Vec<PathBuf> = Vec::new();
    for (name, wanted) in wanted {
        let Some(wanted) = version_wanted(wanted) else { continue };
        let fitting = found.iter().filter(|found| found.tool.name == *name);
        let fitting = fitting.filter_map(|found| Some((version_found(&found.tool.version)?, &found.folder)));
        let best = fitting.filter(|(version, _)| wanted.matches(version)).max_by(|(a, _), (b, _)| a.cmp(b));
        if let Some((_, folder)) = best.filter(|(_, folder)| !folders.contains(folder)) {
            folders.push(folder.clone());
        }
    }
    folders
}

/// Cores and bytes of memory of this machine; 0 where that cannot be told.
pub(crate) fn machine() -> (u32, u64) {
    let cores = std::thread::available_parallelism().map_or(0, |cores| u32::try_from(cores.get()).unwrap_or(0));
    let memory: BTreeMap<String, u64> = std::fs::read_to_string("/proc/meminfo")
        .unwrap_or_default()
        .lines()
        .filter_map(|line| {
            let (name, rest) = line.split_once(':')?;
            Some((name.to_owned(), rest.trim().trim_end_matches(" kB").parse().ok()?))
        })
        .collect();
    (cores, memory.get("MemTotal").copied().unwrap_or(0) * 1024)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(name: &str, version: &str, folder: &str) -> Found {
        Found { tool: Tool { name: name.into(), version: version.into() }, folder: folder.into() }
    }

    #[test]
    fn the_newest_that_will_do_is_chosen() {
        let there = [found("gcc", "12.2.0", "/usr/bin"), found("gcc", "13.1.0", "/opt/gcc-13/bin"), found("make", "4.3.0", "/usr/bin")];
        let folders = |wanted: &[(&str, &str)]| {
            let wanted: BTreeMap<String, String> = wanted.iter().map(|(name, version)| ((*name).into(), (*version).into())).collect();
            folders_for(&there, wanted.iter())
        };
        assert_eq!(folders(&[("gcc", "*")]), [PathBuf::from("/opt/gcc-13/bin")]);
        assert_eq!(folders(&[("gcc", "12"), ("make", "*")]), [PathBuf::from("/usr/bin")]);
        assert!(folders(&[("gcc", ">=14")]).is_empty());
    }

    #[tokio::test]
    async fn a_configured_tool_is_asked_for_its_version() {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        let tool = folder.path().join("tideflash");
        std::fs::write(&tool, "#!/bin/sh\necho tideflash 2.7 of the survey\n").unwrap();
        std::fs::set_permissions(&tool, std::fs::Permissions::from_mode(0o755)).unwrap();
        let text = format!(
            "probe = false\n[[tool]]\nname = \"tideflash\"\nfolder = \"{}\"\n[[tool]]\nname = \"nowhere\"\n",
            folder.path().display()
        );
        let path = folder.path().join("config.toml");
        std::fs::write(&path, text).unwrap();
        let there = find(&Config::load(&path).unwrap(), &Fences::none()).await;
        assert_eq!(there, [found("tideflash", "2.7.0", &folder.path().display().to_string())]);
        std::fs::write(&path, "lables = []\n").unwrap();
        assert!(Config::load(&path).unwrap_err().to_string().contains("lables"));
    }
}
