//! Names → numbers. Finds takes of what is never given, stages in no order, and jobs that wait for each other.

use super::cells::fits;
use super::follow::Whole;
use crate::graph;
use crate::language::{At, Cell, CellsOf, Code, Diagnostic, Pipeline, STAGE_LIMIT, Span, Take, nearest};
use crate::order::{Line, StageCircle, StageGraph};
use indexmap::IndexSet;
use std::collections::{HashMap, HashSet};

/// Past this many diagnostics near misses are no longer looked for: that would be quadratic work.
const MANY: usize = 200;

/// The pipeline's names resolved: jobs by their place in the pipeline's list, stages by their place in `stages`.
pub(super) struct Graph {
    pub(super) stages: StageGraph,
    /// For each job its stage.
    pub(super) stage_of: Vec<usize>,
    /// For each job what it takes: by its place in the job's list, the job taken from.
    pub(super) takes: Vec<Vec<(usize, usize)>>,
    pub(super) after: Vec<Vec<(After, Span)>>,
}

/// What a job says that it comes after.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum After {
    Job(usize),
    Stage(usize),
}

impl Graph {
    /// Whether the order makes this job wait for earlier stages.
    pub(super) fn ordered(&self, file: &File<'_>, job: usize) -> bool {
        !file.eager(job) && !self.stages.before[self.stage_of[job]].is_clear()
    }
}

/// A pipeline with its jobs made whole and its matrices written out.
pub(super) struct File<'p> {
    pub(super) pipeline: &'p Pipeline,
    pub(super) jobs: Vec<Whole<'p>>,
    pub(super) cells: Vec<Vec<Cell>>,
}

impl File<'_> {
    fn eager(&self, job: usize) -> bool {
        self.jobs[job].body.eager.or(self.pipeline.defaults.eager).unwrap_or(false)
    }

    /// What a job takes, with the places in the file.
    pub(super) fn takes(&self, job: usize) -> &[At<Take>] {
        self.jobs[job].body.takes.as_deref().unwrap_or_default()
    }
}

/// Gives nothing when the stages' order itself is not one; every mistake is added to `diagnostics`.
pub(super) fn resolve(file: &File<'_>, diagnostics: &mut Vec<Diagnostic>) -> Option<Graph> {
    let pipeline = file.pipeline;
    let known: IndexSet<&str> = pipeline.jobs.iter().map(|job| job.stage.as_str()).collect();
    if known.len() > STAGE_LIMIT {
        let message = format!("the pipeline has {} stages; at most {STAGE_LIMIT} are allowed", known.len());
        diagnostics.push(Diagnostic::error(Code::Limit, 0..0, message));
        return None;
    }
    if !pipeline.jobs.is_empty() && !check_stages(pipeline, &known, diagnostics) {
        return None;
    }
    let names: Vec<String> = known.iter().map(|&name| name.to_owned()).collect();
    let stages = match StageGraph::new(&pipeline.order, &names) {
        Ok(stages) => stages,
        Err(circles) => {
            diagnostics.extend(circles.iter().map(stage_circle));
            return None;
        }
    };
    let mut resolver = Resolver::new(file, &stages, diagnostics);
    let takes = resolver.takes();
    let after = resolver.after();
    let stage_of = pipeline.jobs.iter().map(|job| resolver.stage_numbers[job.stage.as_str()]).collect();
    let graph = Graph { stages, stage_of, takes, after };
    find_circles(file, &graph, diagnostics);
    Some(graph)
}

/// Every stage in the order has a job, and every job's stage is in the order, if there is one.
/// Gives false when the order names so many unknown stages that joining it would be unbounded work.
fn check_stages(pipeline: &Pipeline, known: &IndexSet<&str>, diagnostics: &mut Vec<Diagnostic>) -> bool {
    let named: Vec<(&str, Span)> = pipeline.order.iter().flat_map(Line::stages).collect();
    let names: IndexSet<&str> = named.iter().map(|(name, _)| *name).collect();
    if names.len() > STAGE_LIMIT {
        let message = format!("the order names {} stages; at most {STAGE_LIMIT} are allowed", names.len());
        diagnostics.push(Diagnostic::error(Code::Limit, named[0].1.clone(), message));
        return false;
    }
    let mut told = IndexSet::new();
    for (name, span) in &named {
        if !known.contains(name) && told.insert(*name) {
            let message = format!("the order names stage `{name}`, but no job is in it");
            diagnostics.push(Diagnostic::error(Code::EmptyStage, span.clone(), message).nearest(name, known.iter().copied()));
        }
    }
    let mut told = IndexSet::new();
    for job in pipeline.jobs.iter().filter(|_| !named.is_empty()) {
        if !names.contains(job.stage.as_str()) && told.insert(job.stage.as_str()) {
            let message = format!("stage `{}` has jobs but no place in the order", job.stage);
            let near = nearest(&job.stage, names.iter().copied().filter(|name| !known.contains(name)));
            let hint = match near {
                Some(near) => format!("the order says `{near}`; did you mean that?"),
                None => format!("name `{}` in `order`, beside or after another stage", job.stage),
            };
            diagnostics.push(Diagnostic::error(Code::UnorderedStage, job.span.clone(), message).hint(hint));
        }
    }
    true
}

struct Resolver<'p> {
    file: &'p File<'p>,
    jobs: HashMap<String, usize>,
    stage_numbers: HashMap<&'p str, usize>,
    diagnostics: &'p mut Vec<Diagnostic>,
}

impl<'p> Resolver<'p> {
    fn new(file: &'p File<'p>, stages: &'p StageGraph, diagnostics: &'p mut Vec<Diagnostic>) -> Self {
        let jobs = file.pipeline.jobs.iter().enumerate().map(|(at, job)| (job.id().into_string(), at)).collect();
        let stage_numbers = stages.names.iter().enumerate().map(|(at, name)| (name.as_str(), at)).collect();
        Resolver { file, jobs, stage_numbers, diagnostics }
    }

    fn takes(&mut self) -> Vec<Vec<(usize, usize)>> {
        (0..self.file.jobs.len()).map(|job| self.takes_of(job)).collect()
    }

    /// The jobs that a job takes from, each once.
    fn takes_of(&mut self, job: usize) -> Vec<(usize, usize)> {
        let file = self.file;
        let mut seen = IndexSet::new();
        let mut found = Vec::new();
        for (at, take) in file.takes(job).iter().enumerate() {
            let to = take.value.to.as_ref().map(|to| to.value.source());
            let cells = if take.value.cells == CellsOf::All { String::new() } else { format!("{:?}", take.value.cells) };
            if !seen.insert((&take.value.job, &take.value.artifact, to, cells)) {
                let message = format!("`{}/{}` is taken twice to the same place", take.value.job, take.value.artifact);
                self.diagnostics.push(Diagnostic::error(Code::DuplicateTake, take.span.clone(), message));
            }
            if let Some(from) = self.take(take) {
                self.check_cells(job, from, take);
                found.push((at, from));
            }
        }
        found
    }

    /// The job that gives an artifact. None was reported.
    fn take(&mut self, take: &At<Take>) -> Option<usize> {
        let Take { job, artifact, .. } = &take.value;
        let Some(&from) = self.jobs.get(job) else {
            let message = format!("there is no job `{job}` to take `{artifact}` from");
            self.unknown(Code::UnknownJob, &take.span, job, message);
            return None;
        };
        let whole = &self.file.jobs[from];
        let gives = whole.body.gives.as_deref().unwrap_or_default();
        if !whole.known || gives.iter().any(|give| &give.artifact == artifact) {
            return Some(from);
        }
        let diagnostic = Diagnostic::error(Code::UnknownArtifact, take.span.clone(), format!("job {job} gives no artifact `{artifact}`"));
        let near = nearest(artifact, gives.iter().map(|give| give.artifact.as_str()));
        self.diagnostics.push(match (near, gives) {
            (Some(near), _) => diagnostic.hint(format!("did you mean `{job}/{near}`?")),
            (None, []) => diagnostic.hint(format!("it gives none; add `gives = {{ {artifact} = [\"…\"] }}` to it")),
            (None, [first, ..]) => diagnostic.hint(format!("it gives `{}`", first.artifact)),
        });
        None
    }

    /// A take of chosen cells must find some: one cell at least for "these", one for each own cell for "same".
    fn check_cells(&mut self, job: usize, from: usize, take: &At<Take>) {
        let (own, theirs) = (&self.file.cells[job], &self.file.cells[from]);
        let id = &take.value.job;
        match &take.value.cells {
            CellsOf::All => {}
            CellsOf::These(values) => {
                if let Some(axis) = values.keys().find(|axis| theirs.first().is_some_and(|cell| !cell.contains_key(*axis))) {
                    let message = format!("job {id} has no axis `{axis}`");
                    let axes = theirs.first().into_iter().flat_map(|cell| cell.keys()).map(String::as_str).collect::<Vec<_>>();
                    self.diagnostics.push(Diagnostic::error(Code::NeverTaken, take.span.clone(), message).axes(axis, axes));
                } else if !theirs.iter().any(|cell| fits(cell, values)) {
                    self.never_given(id, &spoken(values), take);
                }
            }
            CellsOf::Same => {
                let axes = shared_axes(own, theirs);
                if axes.is_empty() {
                    let message = format!("`cells = \"same\"`: {} and {id} share no axis of a matrix", self.file.jobs[job].job.id());
                    self.diagnostics
                        .push(Diagnostic::error(Code::NeverTaken, take.span.clone(), message).hint("take all cells, or a table of values"));
                    return;
                }
                let known: HashSet<Vec<String>> = theirs.iter().map(|cell| only(cell, &axes)).collect();
                if let Some(missing) = own.iter().map(|cell| only(cell, &axes)).find(|cell| !known.contains(cell)) {
                    let missing = axes.iter().cloned().zip(missing).collect();
                    self.never_given(id, &spoken(&missing), take);
                }
            }
        }
    }

    fn never_given(&mut self, id: &str, cell: &str, take: &At<Take>) {
        let message = format!("`{id}/{}` is never given for {cell}: job {id} has no such cell", take.value.artifact);
        self.diagnostics
            .push(Diagnostic::error(Code::NeverTaken, take.span.clone(), message).hint("see its `each` and `except`, or take other cells"));
    }

    fn after(&mut self) -> Vec<Vec<(After, Span)>> {
        let file = self.file;
        let mut all = Vec::with_capacity(file.jobs.len());
        for whole in &file.jobs {
            let names = whole.body.after.iter().flatten();
            let found = names.filter_map(|name| Some((self.after_one(name)?, name.span.clone())));
            all.push(found.collect());
        }
        all
    }

    /// The job or stage of this name. None was reported.
    fn after_one(&mut self, name: &At<String>) -> Option<After> {
        if let Some(&job) = self.jobs.get(&name.value) {
            return Some(After::Job(job));
        }
        if let Some(&stage) = self.stage_numbers.get(name.value.as_str()) {
            return Some(After::Stage(stage));
        }
        let message = format!("there is no job and no stage `{}` to come after", name.value);
        self.unknown(Code::UnknownJob, &name.span, &name.value, message);
        None
    }

    /// Reports a name that is none, with the nearest that is.
    fn unknown(&mut self, code: Code, span: &Span, name: &str, message: String) {
        let ids = || self.jobs.keys().map(String::as_str);
        let stages = self.stage_numbers.keys().copied();
        let near = match name.contains('.') {
            _ if self.diagnostics.len() > MANY => None,
            true => nearest_first(name, ids()),
            false => {
                ids().filter(|id| id.split_once('.').is_some_and(|(_, job)| job == name)).min().or_else(|| nearest_first(name, stages))
            }
        };
        let diagnostic = Diagnostic::error(code, span.clone(), message);
        self.diagnostics.push(match near {
            Some(near) => diagnostic.hint(format!("did you mean `{near}`?")),
            None => diagnostic.hint("a job is spoken of as STAGE.NAME"),
        });
    }
}

/// As [`nearest`], over names in no order of their own.
fn nearest_first<'a>(name: &str, known: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    let mut known: Vec<&str> = known.collect();
    known.sort_unstable();
    nearest(name, known)
}

/// The axes that both jobs' cells have, in the first one's order.
pub(super) fn shared_axes(own: &[Cell], theirs: &[Cell]) -> Vec<String> {
    let (Some(own), Some(theirs)) = (own.first(), theirs.first()) else { return Vec::new() };
    own.keys().filter(|axis| theirs.contains_key(*axis)).cloned().collect()
}

/// A cell's values of some axes, in the order of these.
pub(super) fn only(cell: &Cell, axes: &[String]) -> Vec<String> {
    axes.iter().filter_map(|axis| cell.get(axis).cloned()).collect()
}

fn spoken(cell: &Cell) -> String {
    cell.iter().map(|(axis, value)| format!("{axis} = \"{value}\"")).collect::<Vec<_>>().join(", ")
}

/// The report of stages that wait for each other.
fn stage_circle(circle: &StageCircle) -> Diagnostic {
    let stages = &circle.0;
    let mut round: Vec<&str> = stages.iter().rev().map(|(name, _)| name.as_str()).collect();
    round.push(round[0]);
    let message = format!("the order goes round in a circle: {}", round.join(" > "));
    let mut diagnostic = Diagnostic::error(Code::Circle, stages[0].1.clone(), message)
        .hint("take one of these out of the order, or put the stages side by side with `,`");
    for (at, (name, span)) in stages.iter().enumerate() {
        let earlier = &stages[(at + 1) % stages.len()].0;
        diagnostic.related.push((span.clone(), format!("{name} waits for {earlier}, since this line puts {earlier} before {name}")));
    }
    diagnostic
}

/// Looks for circles over jobs and two further nodes a stage: its gate (may it start?) and its end. That keeps the
/// graph linear in the file, where job-to-job edges of the order would be quadratic.
fn find_circles(file: &File<'_>, graph: &Graph, diagnostics: &mut Vec<Diagnostic>) {
    let (jobs, stages) = (file.jobs.len(), graph.stages.names.len());
    let (end_of, gate_of) = (|stage: usize| jobs + stage, |stage: usize| jobs + stages + stage);
    let mut waits: Vec<Vec<usize>> = vec![Vec::new(); jobs + 2 * stages];
    for job in 0..jobs {
        let stage = graph.stage_of[job];
        waits[job].extend(graph.takes[job].iter().map(|(_, from)| *from));
        waits[job].extend(graph.after[job].iter().map(|(after, _)| match *after {
            After::Job(other) => other,
            After::Stage(other) => end_of(other),
        }));
        if graph.ordered(file, job) {
            waits[job].push(gate_of(stage));
        }
        waits[end_of(stage)].push(job);
    }
    for stage in 0..stages {
        let direct = graph.stages.direct[stage].iter();
        waits[gate_of(stage)] = direct.flat_map(|(earlier, _)| [end_of(*earlier), gate_of(*earlier)]).collect();
    }
    if let Err(circles) = graph::topological(waits.len(), &waits) {
        diagnostics.extend(circles.iter().map(|circle| job_circle(file, graph, circle)));
    }
}

/// The report of jobs that wait for each other: each edge with its place.
fn job_circle(file: &File<'_>, graph: &Graph, circle: &[usize]) -> Diagnostic {
    let pipeline = file.pipeline;
    let round: Vec<usize> = circle.iter().copied().filter(|&node| node < pipeline.jobs.len()).collect();
    let mut related = Vec::new();
    for (at, &job) in round.iter().enumerate() {
        let on = round[(at + 1) % round.len()];
        related.push(reason(file, graph, job, on));
    }
    let mut names: Vec<String> = round.iter().map(|&job| pipeline.jobs[job].id().to_string()).collect();
    names.push(names[0].clone());
    let message = match round.as_slice() {
        [only] => format!("job {} waits for itself", pipeline.jobs[*only].id()),
        _ => format!("these jobs wait for each other in a circle, so none could start: {}", names.join(" waits for ")),
    };
    let span = related.first().map_or(0..0, |(span, _)| span.clone());
    let mut diagnostic = Diagnostic::error(Code::Circle, span, message).hint("take out one of these waits");
    diagnostic.related = related;
    diagnostic
}

/// Why `job` waits for `on`, and where the file says so.
fn reason(file: &File<'_>, graph: &Graph, job: usize, on: usize) -> (Span, String) {
    let pipeline = file.pipeline;
    let (id, on_id) = (pipeline.jobs[job].id(), pipeline.jobs[on].id());
    if let Some((at, _)) = graph.takes[job].iter().find(|(_, from)| *from == on) {
        let take = &file.takes(job)[*at];
        return (take.span.clone(), format!("{id} takes {on_id}/{}", take.value.artifact));
    }
    for (after, span) in &graph.after[job] {
        match *after {
            After::Job(other) if other == on => return (span.clone(), format!("{id} comes after {on_id}")),
            After::Stage(stage) if graph.stage_of[on] == stage => {
                return (span.clone(), format!("{id} comes after stage {}, where {on_id} is", graph.stages.names[stage]));
            }
            _ => {}
        }
    }
    let (stage, earlier) = (graph.stage_of[job], graph.stage_of[on]);
    let span = graph.stages.direct[stage].first().map_or(0..0, |(_, span)| span.clone());
    let names = &graph.stages.names;
    (span, format!("{id} waits for {on_id}, since the order puts {} before {}", names[earlier], names[stage]))
}
