//! What one job may use: memory and processes by control groups where this runner may make them (version 1 or 2), else by
//! the limits of processes; what it writes by looking; its time.
//!
//! A slot has one group, used by its jobs one after the other: making new groups for every job costs milliseconds.

use crate::config::Limits;
use crate::paths::program;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

/// Programs need room for their own; less would fail everything.
const LEAST_MEMORY: u64 = 8 * 1024 * 1024;

/// What a step's shell ends with when it cannot be put under its limits: of the codes that shells keep for themselves, the
/// one for what is there and cannot be run.
const NOT_LIMITED: i32 = 126;

/// The groups of one slot, while a job has them.
pub(crate) struct Group {
    folders: Vec<PathBuf>,
    memory: Option<u64>,
    processes: Option<u64>,
    /// How often a process was killed for lack of memory before this job.
    kills_before: u64,
}

/// What a slot's groups are called: the same again when a runner restarts in its folder.
fn name(mark: &str, slot: u32) -> String {
    format!("{mark}-{slot}")
}

fn set(path: &Path, settings: &[(&str, Option<String>)]) -> Option<PathBuf> {
    std::fs::create_dir_all(path).ok()?;
    let mut all = settings.iter().filter_map(|(file, value)| Some((file, value.as_ref()?)));
    all.try_for_each(|(file, value)| std::fs::write(path.join(file), value)).ok()?;
    Some(path.to_owned())
}

/// The groups of all slots of a runner, made when a slot has its first job, and the memory that each lets its job have.
#[derive(Default)]
pub(crate) struct Groups(Mutex<HashMap<u32, Given>>);

/// Groups, and the memory that they let a job have.
type Given = (Vec<PathBuf>, Option<u64>);

impl Groups {
    /// The group of a slot, for its next job. A job that asked for so much memory has no more than that.
    pub(crate) fn open(&self, mark: &str, slot: u32, limits: &Limits, asked_mib: Option<u64>) -> Group {
        let bytes = |mib: u64| mib.saturating_mul(1024 * 1024).max(LEAST_MEMORY);
        let own = limits.memory_mib.map(bytes);
        let memory = own.into_iter().chain(asked_mib.map(bytes)).min();
        let processes = limits.processes.map(|count| count.max(8));
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        // Someone may have removed them.
        let there = |(folders, given): &&Given| *given == memory && folders.iter().all(|folder| folder.exists());
        let folders = match known.get(&slot).filter(there) {
            Some((folders, _)) => folders.clone(),
            None => groups(&name(mark, slot), memory, processes),
        };
        known.insert(slot, (folders.clone(), memory));
        // Without groups only addresses can be limited, of which many programs reserve far more than they use.
        let memory = if folders.is_empty() { own } else { memory };
        let mut group = Group { folders, memory, processes, kills_before: 0 };
        group.kills_before = group.kills();
        group
    }
}

impl Group {
    /// What a shell does to put itself, and all that it starts, under the limits: commands on one line, after which it has
    /// ended if one of them failed. None where that takes a program of its own, since no groups can be made.
    pub(crate) fn prelude(&self) -> Option<String> {
        // `set -e` by itself minds only the last command of such a list.
        (!self.folders.is_empty()).then(|| format!("{} || exit {NOT_LIMITED}", self.own_limits().join(" && ")))
    }

    fn own_limits(&self) -> Vec<String> {
        // No dump of a job's memory is to be handed to a program of the machine's that takes such dumps.
        let mut script = vec!["ulimit -c 0".to_owned()];
        script.extend(self.folders.iter().map(|folder| format!("echo $$ > '{}/cgroup.procs'", folder.display())));
        script
    }

    /// A shell that puts itself under the limits, opens the filters of system calls as 8 and 9, and becomes what follows.
    pub(crate) fn wrapped(&self, filters: Option<&[PathBuf; 2]>) -> Vec<String> {
        let mut script = self.own_limits();
        if let Some([refused, unknown]) = filters {
            script.push(format!("exec 8< '{}' 9< '{}'", refused.display(), unknown.display()));
        }
        let mut line = vec![program("sh"), "-c".to_owned(), format!("{} && exec \"$@\"", script.join(" && ")), "sh".to_owned()];
        if self.folders.is_empty() {
            line.push(program("prlimit"));
            line.extend(self.memory.map(|bytes| format!("--as={bytes}")));
            line.extend(self.processes.map(|count| format!("--nproc={count}")));
            line.push("--".into());
        }
        line
    }

    /// Whether something was ended since the job used more memory than it may.
    pub(crate) fn out_of_memory(&self) -> bool {
        self.memory.is_some() && self.kills() > self.kills_before
    }

    /// The memory that its job may use, in MiB.
    pub(crate) fn memory_mib(&self) -> Option<u64> {
        self.memory.map(|bytes| bytes / (1024 * 1024))
    }

    fn kills(&self) -> u64 {
        let counts = |folder: &PathBuf| {
            let text = ["memory.oom_control", "memory.events"].iter().filter_map(|file| std::fs::read_to_string(folder.join(file)).ok());
            let kills =
                |text: String| text.lines().filter_map(|line| line.strip_prefix("oom_kill ")?.trim().parse::<u64>().ok()).sum::<u64>();
            text.map(kills).sum::<u64>()
        };
        self.folders.iter().map(counts).sum()
    }
}

const ROOT: &str = "/sys/fs/cgroup";

fn groups(name: &str, memory: Option<u64>, processes: Option<u64>) -> Vec<PathBuf> {
    let root = Path::new(ROOT);
    let (memory, processes) = (memory.map(|bytes| bytes.to_string()), processes.map(|count| count.to_string()));
    if root.join("cgroup.controllers").exists() {
        let own = root.join("ordotaxis");
        let _ = std::fs::create_dir(&own);
        let _ = std::fs::write(root.join("cgroup.subtree_control"), "+memory +pids");
        let _ = std::fs::write(own.join("cgroup.subtree_control"), "+memory +pids");
        return set(&own.join(name), &[("memory.max", memory), ("pids.max", processes)]).into_iter().collect();
    }
    let one = |kind: &str, file: &str, value: Option<String>| {
        value.as_ref()?;
        set(&root.join(kind).join("ordotaxis").join(name), &[(file, value)])
    };
    let both = [one("memory", "memory.limit_in_bytes", memory), one("pids", "pids.max", processes)];
    both.into_iter().flatten().collect()
}

/// Whether memory and processes can be limited by control groups here.
pub(crate) fn can_group() -> bool {
    let name = format!("try-{}", std::process::id());
    let made = groups(&name, Some(1 << 30), Some(4096)).len();
    remove(&name);
    made > 0
}

fn remove(name: &str) {
    for kind in ["", "memory", "pids"] {
        let _ = std::fs::remove_dir(Path::new(ROOT).join(kind).join("ordotaxis").join(name));
    }
}

/// Removes the groups of a runner that leaves.
pub(crate) fn remove_all(mark: &str, slots: u32) {
    (0..slots).for_each(|slot| remove(&name(mark, slot)));
}

/// How many bytes lie below these folders, other file systems mounted there left out. What cannot be read counts as
/// nothing; what goes meanwhile, too.
pub(crate) fn used(folders: &[PathBuf]) -> u64 {
    use std::os::unix::fs::MetadataExt;
    let device = |folder: &PathBuf| folder.metadata().ok().map(|data| data.dev());
    let own = folders.last().and_then(device);
    let files =
        folders.iter().filter(|folder| device(folder) == own).flat_map(|folder| walkdir::WalkDir::new(folder).same_file_system(true));
    files.flatten().filter_map(|entry| entry.metadata().ok()).map(|data| data.blocks() * 512).sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::process::{Command, Output};

    fn group(folders: &[PathBuf]) -> Group {
        Group { folders: folders.to_vec(), memory: None, processes: Some(64), kills_before: 0 }
    }

    /// Runs a step with the limits before it, in the shell that steps have.
    fn run(group: &Group, step: &str) -> Output {
        let whole = format!("{}; {step}", group.prelude().unwrap());
        Command::new("/bin/sh").args(["-eu", "-c", &whole]).output().unwrap()
    }

    #[test]
    fn a_step_that_cannot_be_put_under_all_its_limits_does_not_run() {
        let folder = tempfile::tempdir().unwrap();
        let (there, gone) = (folder.path().to_owned(), folder.path().join("gone"));
        for folders in [vec![gone.clone()], vec![gone.clone(), there.clone()], vec![there.clone(), gone.clone()]] {
            let done = run(&group(&folders), "echo it ran");
            assert_eq!((done.status.code(), &done.stdout[..]), (Some(NOT_LIMITED), &b""[..]), "{folders:?}: {done:?}");
        }
        let done = run(&group(std::slice::from_ref(&there)), "echo \"it ran as $$\"");
        let said = String::from_utf8(done.stdout).unwrap();
        let written = std::fs::read_to_string(there.join("cgroup.procs")).unwrap();
        assert_eq!(said, format!("it ran as {written}"), "the shell itself is in the group");
        assert!(group(&[]).prelude().is_none());
    }
}
