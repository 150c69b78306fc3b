//! What a runner offers: the tools found on this machine with their versions, its cores and its memory; and how its
//! configuration file adds to that.

use crate::config::Config;
use crate::isolation::Fences;
use crate::paths::{on_path, tool_homes};
use nix::sys::signal::{Signal, killpg};
use nix::unistd::Pid;
use ordotaxis_core::dispatch::{version_found, version_wanted};
use ordotaxis_wire::runner::Tool;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, BufReader};

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
/// Asks all tools side by side. Its arguments are, of each in turn, its folder and the command that says its version; it prints
/// a line for each as soon as that has answered: which it is, and the beginning of what it says. Lines so short are written whole.
const ASK: &str = "n=0
while [ $# -gt 1 ]; do
    (
        PATH=\"$1:$PATH\"
        said=$(eval \"$2\" 2> /dev/null < /dev/null | head -c 2000 | tr '\\n' ' ')
        printf '%s %s\\n' \"$n\" \"$said\"
    ) &
    n=$((n + 1))
    shift 2
done
wait";
/// No more than this is read of what they say.
const SAID: u64 = 256 * 1024;

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
    let there: Vec<(String, PathBuf, String)> = known
        .chain(configured)
        .filter_map(|(name, folder, version)| {
            let folder = folder.or_else(|| on_path(&name))?;
            let command = if version.is_empty() { format!("{name} --version") } else { version };
            Some((name, folder, command))
        })
        .collect();
    let arguments: Vec<String> = there.iter().flat_map(|(_, folder, command)| [folder.display().to_string(), command.clone()]).collect();
    let mut versions = match fences.trial(ASK, &arguments) {
        Ok(command) if !there.is_empty() => versions_said(command).await,
        _ => BTreeMap::new(),
    };
    let mut found = Vec::new();
    for (at, (name, folder, _)) in there.into_iter().enumerate() {
        match versions.remove(&at) {
            Some(version) => found.push(Found { tool: Tool { name, version }, folder }),
            None => tracing::warn!(tool = name, folder = %folder.display(), "does not say its version where jobs run; it is not offered"),
        }
    }
    found.sort_by(|a, b| (&a.tool.name, &a.tool.version).cmp(&(&b.tool.name, &b.tool.version)));
    found
}

/// What [`ASK`] prints, as far as it comes in time: versions, by the place of the tool.
async fn versions_said(mut command: tokio::process::Command) -> BTreeMap<usize, String> {
    let mut versions = BTreeMap::new();
    command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null()).process_group(0).kill_on_drop(true);
    let Ok(mut child) = command.spawn() else { return versions };
    let Some(output) = child.stdout.take() else { return versions };
    let reading = async {
        let mut lines = BufReader::new(output.take(SAID)).split(b'\n');
        while let Ok(Some(line)) = lines.next_segment().await {
            let line = String::from_utf8_lossy(&line);
            let said = line.split_once(' ').and_then(|(at, said)| Some((at.parse().ok()?, version_found(said)?.to_string())));
            versions.extend(said);
        }
    };
    let _ = tokio::time::timeout(PATIENCE, reading).await;
    // Whatever has not answered yet; in a sandbox all ends with its first process.
    if let Some(group) = child.id().and_then(|pid| i32::try_from(pid).ok()) {
        let _ = killpg(Pid::from_raw(group), Signal::SIGKILL);
    }
    let _ = child.wait().await;
    versions
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

    /// One that says nothing, says nonsense, says too much or never ends is left out, and keeps no other from being asked.
    #[tokio::test]
    async fn tools_that_do_not_say_their_version_are_left_out() {
        let tools = [
            ("mute", "exit 1"),
            ("word", "echo none"),
            ("quits", "exit 0; echo 3.1"),
            ("broken", "case ("),
            ("lines", "printf 'a\\n1 9.9\\n'; printf '0 9.9\\n'"),
            ("loud", "yes 7.5"),
            ("well", "echo well 2.4 of the survey"),
            ("asks", "read -r line; echo 5.$?"),
            ("hangs", "trap '' TERM; sleep 60; echo 1.1"),
        ];
        let folder = tempfile::tempdir().unwrap();
        let table =
            |(name, command): &(&str, &str)| format!("[[tool]]\nname = {name:?}\nfolder = {:?}\nversion = {command:?}\n", folder.path());
        let path = folder.path().join("config.toml");
        std::fs::write(&path, format!("probe = false\n{}", tools.iter().map(table).collect::<String>())).unwrap();
        let begun = std::time::Instant::now();
        let there = find(&Config::load(&path).unwrap(), &Fences::none()).await;
        let there: Vec<(&str, &str)> = there.iter().map(|found| (found.tool.name.as_str(), found.tool.version.as_str())).collect();
        assert_eq!(there, [("asks", "5.1.0"), ("lines", "9.9.0"), ("loud", "7.5.0"), ("well", "2.4.0")]);
        assert!(begun.elapsed() < Duration::from_secs(50), "what hangs is not waited for");
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
