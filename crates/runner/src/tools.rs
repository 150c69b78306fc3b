//! What a runner offers: the tools found on this machine with their versions, its cores and its memory; and how its
//! configuration file adds to that.

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
    /// Beside those of the command line.
    #[serde(default)]
    pub labels: Vec<String>,
    #[serde(default)]
    pub limits: Limits,
    #[serde(default, rename = "tool")]
    pub tools: Vec<ConfiguredTool>,
    /// Whether to look for the tools that every runner looks for; yes when absent.
    pub probe: Option<bool>,
}

/// What one job may use. None: no limit but the machine's.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Limits {
    pub memory_mib: Option<u64>,
    pub processes: Option<u64>,
    /// Of what it writes, in its folder and its `/tmp`.
    pub disk_mib: Option<u64>,
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

/// Everything that is there, in order of names.
pub(crate) async fn find(config: &Config) -> Vec<Found> {
    let configured = config.tools.iter().map(|tool| (tool.name.clone(), tool.folder.clone(), tool.version.clone().unwrap_or_default()));
    let known =
        KNOWN.iter().filter(|_| config.probe.unwrap_or(true)).map(|(name, version)| ((*name).to_owned(), None, (*version).to_owned()));
    let probes = known.chain(configured).map(|(name, folder, version)| tokio::spawn(probe(name, folder, version)));
    let mut found = Vec::new();
    for probe in probes.collect::<Vec<_>>() {
        found.extend(probe.await.ok().flatten());
    }
    found.sort_by(|a, b| (&a.tool.name, &a.tool.version).cmp(&(&b.tool.name, &b.tool.version)));
    found
}

async fn probe(name: String, folder: Option<PathBuf>, version: String) -> Option<Found> {
    let folder = match folder {
        Some(folder) => folder,
        None => on_path(&name)?,
    };
    let asked = if version.is_empty() { format!("{name} --version") } else { version };
    let path = std::env::join_paths([folder.clone()].into_iter().chain(paths())).ok()?;
    let mut command = tokio::process::Command::new("sh");
    command.args(["-c", &asked]).env("PATH", path).stdin(Stdio::null()).stderr(Stdio::null()).kill_on_drop(true);
    let output = tokio::time::timeout(PATIENCE, command.output()).await.ok()?.ok()?;
    let version = version_found(&String::from_utf8_lossy(&output.stdout))?.to_string();
    Some(Found { tool: Tool { name, version }, folder })
}

fn paths() -> Vec<PathBuf> {
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
        let there = find(&Config::load(&path).unwrap()).await;
        assert_eq!(there, [found("tideflash", "2.7.0", &folder.path().display().to_string())]);
        std::fs::write(&path, "lables = []\n").unwrap();
        assert!(Config::load(&path).unwrap_err().to_string().contains("lables"));
    }
}
