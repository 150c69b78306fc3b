//! A pipeline and an occasion make a [`Plan`]: what will run, what waits for what, and why.
//!
//! Text flows through: patterns are followed ([`follow`]), matrices written out ([`cells`]), names turned into numbers
//! ([`resolve`]), names in expressions and placeholders checked ([`scope`]), senseless things found ([`never`],
//! [`clash`]); then [`build`] makes the value that is written down with the run and that [`crate::engine`] walks.
//! [`carry`] makes one more of it for some of its jobs, [`edges`] spells the waits out job by job, [`compare`] sets two plans side by side.

mod build;
mod carry;
mod cells;
mod clash;
mod collapse;
mod compare;
mod decide;
mod dot;
mod edges;
mod follow;
mod never;
mod occasion;
mod occasion_form;
mod only;
mod resolve;
mod rollout;
mod scope;
mod settings;
mod svg;
mod value;
mod weight;

pub use carry::carry;
pub use compare::{Change, compare};
pub use dot::dot;
pub use edges::{Because, Edge, edges};
pub use follow::{BorrowedFile, BorrowedFiles};
pub(crate) use occasion::among;
pub use occasion::{Carry, Cause, Event, Merges, Occasion, Ref, starts};
pub use svg::svg;
pub use value::{Plan, PlannedBorrow, PlannedJob, PlannedStage, PlannedTake, Wait, WaitOn};

use crate::expression::with_deep_stack;
use crate::language::{self, At, Borrow, Code, Diagnostic, Pipeline, Starts, has_errors, nearest};
use indexmap::IndexMap;

/// A pipeline file and what belongs to it.
#[derive(Clone, Copy)]
pub struct Source<'a> {
    pub text: &'a str,
    /// The pipeline's name: the file's stem.
    pub name: &'a str,
    /// What `[borrow]` asks for. A borrow that is missing here is noted, and what follows it left unchecked.
    pub borrowed: &'a BorrowedFiles,
}

/// A plan, and what else there is to say.
#[derive(Debug, Clone)]
pub struct Planned {
    pub plan: Plan,
    pub starts: Starts,
    /// Warnings and notes.
    pub remarks: Vec<Diagnostic>,
}

/// Every mistake that can be found without an occasion, in the order of the file.
///
/// ```
/// use ordotaxis_core::plan::check;
/// assert!(check("language = 1\n[job.build.gauge]\nsteps = ['make']\n").is_empty());
/// let found = check("language = 1\n[job.build.gauge]\nstep = ['make']\n");
/// assert!(!found.is_empty());
/// assert!(found.iter().any(|found| found.message.contains("step")));
/// ```
pub fn check(text: &str) -> Vec<Diagnostic> {
    check_borrowing(text, &BorrowedFiles::new())
}

/// As [`check`], with what `[borrow]` asks for.
pub fn check_borrowing(text: &str, borrowed: &BorrowedFiles) -> Vec<Diagnostic> {
    let (pipeline, diagnostics) = language::read(text);
    with_deep_stack(|| prepared(Source { text, name: "", borrowed }, &pipeline, diagnostics, |_, _, _, _| ()).1)
}

/// Plans a pipeline. Errors are all that `check` finds, and what does not fit the occasion.
///
/// ```
/// use ordotaxis_core::plan::{BorrowedFiles, Occasion, Source, plan};
/// let text = "language = 1\n[job.build.gauge]\nsteps = ['make']\n[job.test.unit]\nsteps = ['make check']\nafter = ['build.gauge']\n";
/// let source = Source { text, name: "main", borrowed: &BorrowedFiles::new() };
/// let planned = plan(source, &Occasion::push("main")).expect("a plan");
/// let jobs: Vec<&str> = planned.plan.jobs.iter().map(|job| job.id.as_str()).collect();
/// assert_eq!(jobs, ["build.gauge", "test.unit"]);
/// ```
pub fn plan(source: Source<'_>, occasion: &Occasion) -> Result<Planned, Vec<Diagnostic>> {
    let (pipeline, diagnostics) = language::read(source.text);
    planned(source, occasion, pipeline, diagnostics)
}

/// As [`plan`], for a text whose length the caller answers for.
pub fn plan_any_length(source: Source<'_>, occasion: &Occasion) -> Result<Planned, Vec<Diagnostic>> {
    let (pipeline, diagnostics) = language::read_any_length(source.text);
    planned(source, occasion, pipeline, diagnostics)
}

fn planned(source: Source<'_>, occasion: &Occasion, pipeline: Pipeline, diagnostics: Vec<Diagnostic>) -> Result<Planned, Vec<Diagnostic>> {
    let made = with_deep_stack(|| {
        prepared(source, &pipeline, diagnostics, |file, graph, conditions, diagnostics| {
            let occasion = &with_inputs(&pipeline.starts, occasion, diagnostics);
            let mut plan = build::build(file, graph, conditions, source.borrowed, source.name, occasion, diagnostics);
            only::keep_only(&mut plan, diagnostics);
            plan.keeps_older = !pipeline.starts.overtake;
            let inputs = pipeline.starts.inputs.iter();
            plan.inputs = inputs.map(|(name, input)| (name.clone(), input.choices.clone().unwrap_or_default())).collect();
            plan
        })
    });
    match made {
        (Some(plan), remarks) if !has_errors(&remarks) => Ok(Planned { plan, starts: pipeline.starts, remarks }),
        (_, diagnostics) => Err(diagnostics),
    }
}

/// Reads the start rules alone: what makes the pipeline in `text` begin. None when the file cannot be read.
///
/// ```
/// use ordotaxis_core::plan::{Occasion, start_rules, starts};
/// let rules = start_rules("language = 1\n[starts]\npush = ['main', 'release/*']\n[job.a.b]\nsteps = ['true']\n").expect("rules");
/// assert!(starts(&rules, &Occasion::push("release/2")));
/// assert!(!starts(&rules, &Occasion::push("topic/x")));
/// assert!(start_rules("language = ").is_none());
/// ```
pub fn start_rules(text: &str) -> Option<Starts> {
    let (pipeline, diagnostics) = language::read(text);
    (!has_errors(&diagnostics)).then_some(pipeline.starts)
}

/// What the file wants to borrow, by name.
pub fn borrows(text: &str) -> IndexMap<String, At<Borrow>> {
    // Most files borrow nothing; those need not be read twice.
    if text.contains("borrow") { language::read(text).0.borrows } else { IndexMap::new() }
}

type Then<'f, T> = &'f mut dyn FnMut(&resolve::File<'_>, &resolve::Graph, &[scope::Conditions], &mut Vec<Diagnostic>) -> T;

/// Everything up to where an occasion matters; then, if nothing is wrong so far, `then`. Compiled expressions never leave.
fn prepared<T>(
    source: Source<'_>,
    pipeline: &Pipeline,
    mut diagnostics: Vec<Diagnostic>,
    mut then: impl FnMut(&resolve::File<'_>, &resolve::Graph, &[scope::Conditions], &mut Vec<Diagnostic>) -> T,
) -> (Option<T>, Vec<Diagnostic>) {
    let made = made(source, pipeline, &mut diagnostics, &mut then);
    diagnostics.sort_by_key(|diagnostic| (diagnostic.span.start, diagnostic.span.end));
    diagnostics.dedup();
    (made, diagnostics)
}

fn made<T>(source: Source<'_>, pipeline: &Pipeline, diagnostics: &mut Vec<Diagnostic>, then: Then<'_, T>) -> Option<T> {
    let jobs = follow::follow(pipeline, source.borrowed, diagnostics);
    steps_missing(&jobs, diagnostics);
    if !weight::bearable(pipeline, &jobs, diagnostics) {
        return None;
    }
    let cells = cells::cells(&jobs, diagnostics);
    let file = resolve::File { pipeline, jobs, cells };
    if !weight::cells_bearable(&file, diagnostics) {
        return None;
    }
    let graph = resolve::resolve(&file, diagnostics);
    let mut scopes = scope::Scopes::new(source.text, pipeline, &file.jobs, diagnostics);
    let stages = scopes.shared(&file.jobs);
    let conditions: Vec<scope::Conditions> = file.jobs.iter().map(|whole| scopes.job(whole, &stages)).collect();
    let read = std::mem::take(&mut scopes.read);
    never::Never::new(&file, diagnostics).look(&conditions);
    let graph = graph?;
    clash::look(&file, &graph, &read, diagnostics);
    (!has_errors(diagnostics)).then(|| then(&file, &graph, &conditions, diagnostics))
}

/// A job runs something: steps of its own or of its pattern.
fn steps_missing(jobs: &[follow::Whole<'_>], diagnostics: &mut Vec<Diagnostic>) {
    for whole in jobs.iter().filter(|whole| whole.known && whole.body.steps.is_none()) {
        let span = whole.job.span.clone();
        let id = whole.job.id();
        let misspelt = diagnostics.iter().any(|d| {
            d.code == Code::UnknownKey && d.message.starts_with(&format!("job {id} ")) && d.hint.as_deref() == Some("did you mean `steps`?")
        });
        if !misspelt {
            let message = format!("job {id} has no `steps`");
            diagnostics
                .push(Diagnostic::error(Code::MissingKey, span, message).hint("say what it runs, such as `steps = [\"make test\"]`"));
        }
    }
}

/// The occasion with every input of the file: given, or by default. What does not fit is an error.
fn with_inputs(starts: &Starts, occasion: &Occasion, diagnostics: &mut Vec<Diagnostic>) -> Occasion {
    let mut all = IndexMap::new();
    for (name, value) in &occasion.inputs {
        if !starts.inputs.contains_key(name) {
            let message = format!("the pipeline asks for no input `{name}`");
            diagnostics.push(Diagnostic::error(Code::UnknownInput, 0..0, message).nearest(name, starts.inputs.keys().map(String::as_str)));
        }
        let choices = starts.inputs.get(name).and_then(|input| input.choices.as_ref());
        if let Some(choices) = choices
            && !choices.contains(value)
        {
            let message = format!("input `{name}` cannot be `{value}`");
            let hint = match nearest(value, choices.iter().map(String::as_str)) {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("choices are {}", follow::listed(choices)),
            };
            let span = starts.inputs.get(name).map_or(0..0, |input| input.span.clone());
            diagnostics.push(Diagnostic::error(Code::Given, span, message).hint(hint));
        }
    }
    for (name, input) in &starts.inputs {
        match occasion.inputs.get(name).or(input.default.as_ref()) {
            Some(value) => {
                all.insert(name.clone(), value.clone());
            }
            None if occasion.event() == Event::ByHand => {
                let message = format!("input `{name}` must be given: it has no default");
                let choices = input.choices.as_ref().map(|choices| format!("choices are {}", follow::listed(choices)));
                let mut diagnostic = Diagnostic::error(Code::Given, input.span.clone(), message);
                diagnostic.hint = choices;
                diagnostics.push(diagnostic);
                // So that whatever reads it is not an error as well.
                all.insert(name.clone(), String::new());
            }
            None => {
                all.insert(name.clone(), String::new());
            }
        }
    }
    Occasion { inputs: all, ..occasion.clone() }
}
