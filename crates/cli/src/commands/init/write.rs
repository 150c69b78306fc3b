//! What was found → a commented file. The comments are for someone who sees the language for the first time.

use super::kinds::{Job, Kind};
use std::fmt::Write;

pub(super) fn text(found: &[Kind], branch: &str) -> String {
    let jobs: Vec<&Job> = found.iter().flat_map(|kind| &kind.jobs).collect();
    let mut out = String::from(
        "# The pipeline of this repository. `ordotaxis check` finds mistakes in it, `ordotaxis plan` shows what would run,\n# `ordotaxis rehearse` runs it here, without a service.\n",
    );
    let about: Vec<&str> = found.iter().map(|kind| kind.about.as_str()).collect();
    let _ = writeln!(out, "# Written for {}.\n", if about.is_empty() { "a folder without build files".into() } else { about.join("; ") });
    out.push_str("language = 1\n");
    let stages: Vec<&str> = ["check", "build", "test"].into_iter().filter(|stage| jobs.iter().any(|job| job.stage == *stage)).collect();
    if stages.len() > 1 {
        let line = match stages.as_slice() {
            ["check", "build", rest @ ..] => ["check, build"].into_iter().chain(rest.iter().copied()).collect::<Vec<_>>().join(" > "),
            other => other.join(" > "),
        };
        let _ = writeln!(out, "\n# Stages: `>` is after, `,` is side by side.\norder = {line:?}");
    }
    let _ = writeln!(
        out,
        "\n# What makes a run begin. Anyone may also start one by hand.\n[starts]\npush     = [{branch:?}]\nproposal = [{branch:?}]     # a change offered to that branch, built as merged with it"
    );
    out.push_str("\n[defaults]\ntimeout = \"30m\"\n");
    for job in &jobs {
        out.push_str(&written(job));
    }
    if jobs.is_empty() {
        out.push_str("\n# Nothing to build was found: put your own commands here.\n[job.check.files]\nsteps = [\"ls\"]\n");
    }
    out
}

fn written(job: &Job) -> String {
    let mut out = format!("\n# {}\n[job.{}.{}]\n", job.comment, job.stage, job.name);
    match job.steps.as_slice() {
        [one] => {
            let _ = writeln!(out, "steps = [{}]", quoted(one));
        }
        steps => {
            out.push_str("steps = [\n");
            steps.iter().for_each(|step| {
                let _ = writeln!(out, "  {},", quoted(step));
            });
            out.push_str("]\n");
        }
    }
    for (name, globs) in &job.gives {
        let globs: Vec<String> = globs.iter().map(|glob| quoted(glob)).collect();
        let _ = writeln!(out, "gives = {{ {name} = [{}] }}", globs.join(", "));
    }
    if let Some((paths, files)) = &job.cache {
        let paths: Vec<String> = paths.iter().map(|path| quoted(path)).collect();
        let stem = format!("{}-{}", job.stage, job.name);
        let _ = writeln!(out, "# Kept from run to run; a new entry whenever {files} changes.\n[[job.{}.{}.cache]]", job.stage, job.name);
        let _ = writeln!(out, "paths = [{}]\nkey   = \"{stem}-{{hash:{files}}}\"\nelse  = [\"{stem}-\"]", paths.join(", "));
    }
    out
}

/// A TOML string: in double quotes, with what must be escaped.
fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}
