//! Go modules.

use crate::first::folder::Folder;
use crate::first::job::{Job, Kind};

/// What is fetched and built lies in the job's folder, so that it is kept; Go leaves out folders that begin with a dot.
const HOMES: &str = "GOMODCACHE=$PWD/.go/mod GOCACHE=$PWD/.go/build";

pub(super) fn look(folder: &Folder) -> Option<Kind> {
    let module = folder.read("go.mod")?;
    let key = if folder.has("go.sum") { "go.sum" } else { "go.mod" };
    let job = |stage, name: &str, comment: &str, does: &str| {
        Job::new(stage, name, comment, &[&format!("{HOMES} go {does} ./...")]).cached("go", &[".go"], key)
    };
    let jobs = vec![
        job("check", "vet", "Looks at the sources.", "vet"),
        job("build", "all", "Builds everything.", "build"),
        job("test", "unit", "Runs the tests.", "test"),
    ];
    let wanted = module.lines().find_map(|line| line.strip_prefix("go ")).map(str::trim);
    let unsure =
        wanted.map(|version| format!("go.mod wants Go {version}: tools = {{ go = \">={version}\" }} gives jobs to runners that have it."));
    Some(Kind { says: "a Go module".into(), about: "a Go module (go.mod)".into(), jobs, unsure: unsure.into_iter().collect() })
}
