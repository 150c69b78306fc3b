//! What a runner offers: the tools found on this machine with their versions, its cores and its memory; and how its
//! configuration file adds to that.

use crate::config::Config;
use crate::isolation::Fences;
use crate::paths::{on_path, tool_homes};
use ordotaxis_core::dispatch::{version_found, version_wanted};
use ordotaxis_wire::runner::Tool;
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

/// A tool that was found, and the folder it lies in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Found {
    pub(crate) tool: Tool,
    pub(crate) folder: PathBuf,
}

/// Folders of tools that do not lie with the system's programs: fences show them, read-only.
pub(crate) fn folders_shown(config: &Config) -> Vec<PathBuf> {
    let configured = config.all_tools().filter_map(|tool| tool.folder);
    let names = KNOWN.iter().filter(|_| config.probe.unwrap_or(true)).map(|(name, _)| *name);
    let found = names.chain(config.tools.iter().map(|tool| tool.name.as_str())).filter_map(on_path);
    let homes = tool_homes().into_iter().map(|(_, home)| PathBuf::from(home));
    let all = config.shows.iter().cloned().chain(homes).chain(configured).chain(found);
    all.filter(|folder| folder.is_absolute() && !folder.starts_with("/usr") && folder != Path::new("/")).collect()
}

/// Everything that is there and works for a job, in order of names: in a sandbox a tool is tried in one.
pub(crate) async fn find(config: &Config, fences: &Fences) -> Vec<Found> {
    let configured = config.all_tools().map(|tool| (tool.name, tool.folder, tool.version.unwrap_or_default()));
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

/// Cores and bytes of memory of this machine; 0 where that is not known.
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
        // Several versions, each in a folder of its own.
        for version in ["3.11.2", "3.12.1"] {
            let bin = folder.path().join("tides").join(version).join("bin");
            std::fs::create_dir_all(&bin).unwrap();
            std::fs::write(bin.join("tide"), format!("#!/bin/sh\necho tide {version}\n")).unwrap();
            std::fs::set_permissions(bin.join("tide"), std::fs::Permissions::from_mode(0o755)).unwrap();
        }
        let globs =
            format!("probe = false\n[[tool]]\nname = \"tide\"\nfolders = [\"{}/tides/*/bin\", \"/none/*\"]\n", folder.path().display());
        std::fs::write(&path, globs).unwrap();
        let there = find(&Config::load(&path).unwrap(), &Fences::none()).await;
        let versions: Vec<&str> = there.iter().map(|found| found.tool.version.as_str()).collect();
        assert_eq!(versions, ["3.11.2", "3.12.1"]);
        let wanted = BTreeMap::from([("tide".to_owned(), "~3.11".to_owned())]);
        assert_eq!(folders_for(&there, wanted.iter()), [folder.path().join("tides/3.11.2/bin")]);
        std::fs::write(&path, "lables = []\n").unwrap();
        assert!(Config::load(&path).unwrap_err().to_string().contains("lables"));
    }
}
