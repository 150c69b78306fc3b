//! Shell scripts and their tests, with bats where tests are written for it.

use crate::first::folder::{Folder, word};
use crate::first::job::{Job, Kind};

pub(super) fn look(folder: &Folder) -> Option<Kind> {
    let scripts = folder.all(|path| path.ends_with(".sh"));
    let bats = folder.all(|path| path.ends_with(".bats"));
    if scripts.is_empty() && bats.is_empty() {
        return None;
    }
    let mut jobs = Vec::new();
    let runs = |path: &str| if is_bash(folder, path) { "bash" } else { "sh" };
    if !scripts.is_empty() {
        let steps: Vec<String> = scripts.iter().map(|path| format!("{} -n {}", runs(path), word(path))).collect();
        jobs.push(Job { steps, ..Job::new("check", "syntax", "Every script must be readable.", &[]) });
    }
    if !bats.is_empty() {
        let mut places: Vec<&str> = bats.iter().map(|path| path.split_once('/').map_or(*path, |(top, _)| top)).collect();
        places.dedup();
        let places: Vec<String> = places.into_iter().map(word).collect();
        let steps = ["mkdir -p out", &format!("bats --recursive --report-formatter junit --output out {}", places.join(" "))];
        jobs.push(Job::new("test", "bats", "Runs the tests.", &steps).reporting("junit", "out/report.xml"));
    }
    let is_test = |path: &str| path.split('/').any(|part| part.starts_with("test")) && !path.contains("/lib") && !path.contains("helper");
    let tests: Vec<String> = scripts.iter().filter(|path| is_test(path)).map(|path| format!("{} {}", runs(path), word(path))).collect();
    if bats.is_empty() && !tests.is_empty() {
        jobs.push(Job { steps: tests, ..Job::new("test", "scripts", "Runs the scripts that are tests.", &[]) });
    }
    let says = if bats.is_empty() { "shell scripts" } else { "shell scripts with bats" };
    Some(Kind { says: says.into(), about: says.into(), jobs, unsure: Vec::new() })
}

fn is_bash(folder: &Folder, path: &str) -> bool {
    folder.read(path).is_some_and(|text| text.lines().next().is_some_and(|line| line.contains("bash")))
}
