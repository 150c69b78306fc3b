//! What one job may use: memory and processes by control groups where this runner may make them (version 1 or 2), else by
//! the limits of processes; what it writes by looking.

use crate::tools::Limits;
use std::path::{Path, PathBuf};

/// Programs need room for their own; less would fail everything.
const LEAST_MEMORY: u64 = 8 * 1024 * 1024;

/// The groups of one job; gone when this is dropped.
pub(crate) struct Group {
    folders: Vec<PathBuf>,
    limits: Limits,
}

impl Group {
    /// None when there is nothing to limit.
    pub(crate) fn open(name: &str, limits: Limits) -> Option<Group> {
        if limits.memory_mib.is_none() && limits.processes.is_none() {
            return None;
        }
        let memory = limits.memory_mib.map(|mib| (mib * 1024 * 1024).max(LEAST_MEMORY).to_string());
        let processes = limits.processes.map(|count| count.max(8).to_string());
        let root = Path::new("/sys/fs/cgroup");
        let group = |base: PathBuf, settings: &[(&str, &Option<String>)]| {
            let path = base.join("ordotaxis").join(name);
            std::fs::create_dir_all(&path).ok()?;
            let set = settings.iter().filter_map(|(file, value)| Some((file, value.as_ref()?)));
            let done: Result<(), std::io::Error> = set.into_iter().try_for_each(|(file, value)| std::fs::write(path.join(file), value));
            if done.is_err() {
                let _ = std::fs::remove_dir(&path);
            }
            done.ok().map(|()| path)
        };
        let folders = if root.join("cgroup.controllers").exists() {
            let _ = std::fs::create_dir(root.join("ordotaxis"));
            let _ = std::fs::write(root.join("ordotaxis/cgroup.subtree_control"), "+memory +pids");
            vec![group(root.to_owned(), &[("memory.max", &memory), ("pids.max", &processes)])]
        } else {
            vec![
                memory.as_ref().and_then(|_| group(root.join("memory"), &[("memory.limit_in_bytes", &memory)])),
                processes.as_ref().and_then(|_| group(root.join("pids"), &[("pids.max", &processes)])),
            ]
        };
        Some(Group { folders: folders.into_iter().flatten().collect(), limits })
    }

    /// A command that puts itself under the limits and then becomes what follows.
    pub(crate) fn wrapped(&self) -> Vec<String> {
        if self.folders.is_empty() {
            let mut prlimit = vec!["prlimit".to_owned()];
            prlimit.extend(self.limits.memory_mib.map(|mib| format!("--as={}", mib * 1024 * 1024)));
            prlimit.extend(self.limits.processes.map(|count| format!("--nproc={count}")));
            prlimit.push("--".into());
            return prlimit;
        }
        let enter: Vec<String> = self.folders.iter().map(|folder| format!("echo $$ > '{}/cgroup.procs'", folder.display())).collect();
        vec!["sh".into(), "-c".into(), format!("{} && exec \"$@\"", enter.join(" && ")), "sh".into()]
    }

    /// How often something was ended since the job used more memory than it may.
    pub(crate) fn out_of_memory(&self) -> bool {
        let counts = |folder: &PathBuf| {
            let text = ["memory.oom_control", "memory.events"].iter().filter_map(|file| std::fs::read_to_string(folder.join(file)).ok());
            let kills =
                |text: String| text.lines().filter_map(|line| line.strip_prefix("oom_kill ")?.trim().parse::<u64>().ok()).sum::<u64>();
            text.map(kills).sum::<u64>()
        };
        self.folders.iter().map(counts).sum::<u64>() > 0
    }
}

impl Drop for Group {
    fn drop(&mut self) {
        // Processes that were just killed are in it for a moment longer.
        for folder in &self.folders {
            let gone = (0..50).any(|try_number| {
                if try_number > 0 {
                    std::thread::sleep(std::time::Duration::from_millis(2));
                }
                std::fs::remove_dir(folder).is_ok()
            });
            if !gone {
                tracing::warn!(folder = %folder.display(), "a control group could not be removed");
            }
        }
    }
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
