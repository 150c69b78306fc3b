//! What was found → a commented file. The comments are for someone who sees the language for the first time.

use super::job::{Job, Kind};
use std::fmt::Write;

const HEAD: &str = "# The pipeline of this repository. `ordotaxis check` finds mistakes in it, `ordotaxis plan` shows what would run,
# `ordotaxis rehearse` runs it here, without a service.
";

/// The stages in the order that they are written, each with what stands before the next.
const STAGES: [(&str, &str); 4] = [("prepare", " > "), ("check", ", "), ("build", " > "), ("test", "")];

pub(super) fn text(found: &[Kind], below: &[&str], branch: &str) -> String {
    let jobs: Vec<&Job> = found.iter().flat_map(|kind| &kind.jobs).collect();
    let mut out = String::from(HEAD);
    let about: Vec<&str> = found.iter().map(|kind| kind.about.as_str()).collect();
    let _ = writeln!(out, "# Written for {}.", if about.is_empty() { "a folder without build files".into() } else { about.join("; ") });
    for unsure in found.iter().flat_map(|kind| &kind.unsure) {
        let _ = writeln!(out, "# Not sure: {unsure}");
    }
    if jobs.is_empty() && !below.is_empty() {
        let _ = writeln!(out, "# Not sure: these folders have builds of their own: {}.", below.join(", "));
    }
    out.push_str("\nlanguage = 1\n");
    if let Some(order) = order(&jobs) {
        let _ = writeln!(out, "\n# Stages: `>` is after, `,` is side by side.\norder = {}", quoted(&order));
    }
    let branch = quoted(branch);
    let _ = writeln!(
        out,
        "\n# What makes a run begin. Anyone may also start one by hand.\n[starts]\npush     = [{branch}]\nproposal = [{branch}]     # a change offered to that branch, built as merged with it"
    );
    out.push_str("\n[defaults]\ntimeout = \"30m\"\n");
    jobs.iter().for_each(|job| out.push_str(&written(job)));
    if jobs.is_empty() {
        out.push_str(
            "\n# Nothing that plainly builds or tests was found: put your own commands here.\n[job.check.files]\nsteps = [\"ls\"]\n",
        );
    }
    out
}

/// None with one stage: there is nothing to order.
fn order(jobs: &[&Job]) -> Option<String> {
    let stages: Vec<_> = STAGES.into_iter().filter(|(stage, _)| jobs.iter().any(|job| job.stage == *stage)).collect();
    if stages.len() < 2 {
        return None;
    }
    let mut order = String::new();
    for (at, (stage, between)) in stages.iter().enumerate() {
        order.push_str(stage);
        if let Some((next, _)) = stages.get(at + 1) {
            // Without a build between them, what is checked comes before what is tested.
            order.push_str(if *stage == "check" && *next != "build" { " > " } else { between });
        }
    }
    Some(order)
}

fn written(job: &Job) -> String {
    let mut out = format!("\n# {}\n", job.comment);
    for unsure in &job.unsure {
        let _ = writeln!(out, "# Not sure: {unsure}");
    }
    let _ = writeln!(out, "[job.{}.{}]", job.stage, job.name);
    if !job.takes.is_empty() {
        let _ = writeln!(out, "takes = {}", list(&job.takes));
    }
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
        let _ = writeln!(out, "gives = {{ {name} = {} }}", list(globs));
    }
    if !job.reports.is_empty() {
        let reports: Vec<String> = job.reports.iter().map(|(kind, path)| format!("{kind} = [{}]", quoted(path))).collect();
        let _ = writeln!(out, "reports = {{ {} }}", reports.join(", "));
    }
    if !job.reuse.is_empty() {
        let _ = writeln!(
            out,
            "# While none of these changes, the result of an earlier run is taken over.\nreuse = {{ inputs = {} }}",
            list(&job.reuse)
        );
    }
    if let Some(cache) = &job.cache {
        let super::job::Cache { stem, paths, file } = cache;
        let _ = writeln!(out, "# Kept from run to run; a new entry whenever {file} changes.\n[[job.{}.{}.cache]]", job.stage, job.name);
        let _ = writeln!(out, "paths = {}\nkey   = \"{stem}-{{hash:{file}}}\"\nelse  = [\"{stem}-\"]", list(paths));
    }
    out
}

fn list(texts: &[String]) -> String {
    let all: Vec<String> = texts.iter().map(|text| quoted(text)).collect();
    format!("[{}]", all.join(", "))
}

/// A TOML string.
fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}
