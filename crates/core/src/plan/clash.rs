//! What fits together by name but not by sense: two artifacts that write the same path, stages with rules but no job,
//! inputs that nobody reads, a file that nothing starts.

use super::resolve::{File, Graph};
use crate::language::{At, CellsOf, Code, Diagnostic, Take, nearest};
use crate::template::Template;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// Past this many labels of one job each near misses are no longer looked for.
const MANY: usize = 200;

/// Adds a warning for each; `read` has the inputs that something reads.
pub(super) fn look(file: &File<'_>, graph: &Graph, read: &BTreeSet<String>, diagnostics: &mut Vec<Diagnostic>) {
    stages(file, graph, diagnostics);
    for job in 0..file.jobs.len() {
        same_paths(file, graph, job, diagnostics);
    }
    unused_inputs(file, read, diagnostics);
    labels(file, diagnostics);
    let starts = &file.pipeline.starts;
    let nothing = starts.push.as_ref().is_some_and(Vec::is_empty)
        && starts.proposal.is_empty()
        && starts.tag.is_empty()
        && starts.schedule.is_empty()
        && starts.pipeline.is_empty()
        && !starts.by_hand;
    if nothing && !file.jobs.is_empty() {
        let message = "nothing can start this pipeline: [starts] has no rule, and `by_hand` is false";
        diagnostics.push(Diagnostic::warning(Code::NoStart, 0..0, message).hint("add a rule, such as push = [\"main\"]"));
    }
}

/// A label that only one job asks for, and that is nearly one that others do: no runner may have it.
fn labels(file: &File<'_>, diagnostics: &mut Vec<Diagnostic>) {
    let mut askers: BTreeMap<String, Vec<usize>> = BTreeMap::new();
    for (at, whole) in file.jobs.iter().enumerate() {
        for label in whole.body.labels.iter().flatten().filter_map(plain) {
            askers.entry(label).or_default().push(at);
        }
    }
    let defaults = file.pipeline.defaults.labels.iter().chain(file.pipeline.stages.values().filter_map(|stage| stage.labels.as_ref()));
    let shared: BTreeSet<String> = defaults.flatten().filter_map(plain).collect();
    let common: Vec<&str> =
        askers.iter().filter(|(_, jobs)| jobs.len() > 1).map(|(label, _)| label).chain(&shared).map(String::as_str).collect();
    for (label, jobs) in askers.iter().filter(|(label, jobs)| jobs.len() == 1 && !shared.contains(*label) && label.len() > 2).take(MANY) {
        let near = nearest(label, common.iter().copied()).filter(|near| strsim::damerau_levenshtein(label, near) == 1);
        if let Some(near) = near {
            let job = &file.jobs[jobs[0]].job;
            let message = format!("only job {} asks for the label `{label}`; others ask for `{near}`", job.id());
            diagnostics.push(Diagnostic::warning(Code::NearLabel, job.span.clone(), message).hint(format!("did you mean `{near}`?")));
        }
    }
}

/// A label without placeholders.
fn plain(label: &At<Template>) -> Option<String> {
    label.value.plain()
}

fn stages(file: &File<'_>, graph: &Graph, diagnostics: &mut Vec<Diagnostic>) {
    let known: BTreeSet<&str> = file.pipeline.jobs.iter().map(|job| job.stage.as_str()).collect();
    for (name, rules) in &file.pipeline.stages {
        if !known.contains(name.as_str()) {
            let message = format!("[stage.{name}] has rules, but no job is in it");
            let diagnostic = Diagnostic::warning(Code::UnknownStage, rules.span.clone(), message);
            diagnostics.push(match nearest(name, graph.stages.names.iter().map(String::as_str)) {
                Some(near) => diagnostic.hint(format!("did you mean `{near}`?")),
                None => diagnostic.hint("take it out, or put a job in it"),
            });
        }
    }
}

/// Of all that a job takes, no two artifacts may put a file in the same place. Artifacts of several cells lie apart.
fn same_paths(file: &File<'_>, graph: &Graph, job: usize, diagnostics: &mut Vec<Diagnostic>) {
    let takes = file.takes(job);
    if takes.len() < 2 {
        return;
    }
    let mut known: HashMap<String, &At<Take>> = HashMap::new();
    for &(place, from) in &graph.takes[job] {
        let take = &takes[place];
        if file.cells[from].len() > 1 && !matches!(take.value.cells, CellsOf::Same) {
            continue;
        }
        let gives = file.jobs[from].body.gives.iter().flatten().filter(|give| give.artifact == take.value.artifact);
        let to = take.value.to.as_ref().map_or_else(String::new, |to| format!("{}/", to.value.source().trim_end_matches('/')));
        for path in gives.flat_map(|give| &give.paths) {
            let path = format!("{to}{}", path.value.source());
            match known.get(&path) {
                Some(other) if other.value.job != take.value.job || other.value.artifact != take.value.artifact => {
                    let (one, two) =
                        (format!("{}/{}", other.value.job, other.value.artifact), format!("{}/{}", take.value.job, take.value.artifact));
                    let id = file.jobs[job].job.id();
                    let message = format!("`{one}` and `{two}` both put `{path}` where job {id} takes them: one overwrites the other");
                    let hint = "take one of them to a folder of its own: { from = \"…\", to = \"…\" }";
                    let mut diagnostic = Diagnostic::error(Code::SamePath, take.span.clone(), message).hint(hint);
                    diagnostic.related.push((other.span.clone(), format!("`{one}` is taken here")));
                    diagnostics.push(diagnostic);
                    break;
                }
                _ => {
                    known.insert(path, take);
                }
            }
        }
    }
}

fn unused_inputs(file: &File<'_>, read: &BTreeSet<String>, diagnostics: &mut Vec<Diagnostic>) {
    let pipeline = file.pipeline;
    let steps = |body: &crate::language::Body, name: &str| {
        let lines = body.steps.iter().chain(&body.prepare).flatten();
        let extras = body.extras.iter().flat_map(|extras| {
            extras.afterwards.values().flatten().map(|step| &step.run).chain(extras.beside.iter().map(|helper| &helper.run))
        });
        lines.map(|step| &step.run).chain(extras).any(|run| run.contains(name))
    };
    let variable = |prefix: &str, name: &str| format!("{prefix}_{}", name.to_uppercase().replace('-', "_"));
    for (pattern_name, pattern) in &pipeline.patterns {
        for (name, input) in &pattern.inputs {
            let variable = variable("GIVEN", name);
            let known = read.contains(&format!("given.{name}")) || steps(&pattern.body, &variable);
            let followed = file.jobs.iter().any(|whole| whole.inputs.contains_key(name));
            if !known && followed && !file.jobs.iter().any(|whole| steps(&whole.body, &variable)) {
                let message = format!("nothing in pattern `{pattern_name}` reads its input `{name}`");
                diagnostics.push(
                    Diagnostic::note(Code::Unused, input.span.clone(), message)
                        .hint(format!("take it out, unless a script reads ${variable}")),
                );
            }
        }
    }
    for (name, input) in &pipeline.starts.inputs {
        let variable = variable("ORDOTAXIS_INPUT", name);
        if !read.contains(&format!("input.{name}")) && !file.jobs.iter().any(|whole| steps(&whole.body, &variable)) {
            let message = format!("nothing in this file reads the input `{name}`");
            diagnostics.push(
                Diagnostic::note(Code::Unused, input.span.clone(), message).hint(format!("take it out, unless a script reads ${variable}")),
            );
        }
    }
}
