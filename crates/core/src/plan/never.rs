//! Conditions that no start rule can ever make true, and secrets that a proposal from outside could reach. Tried out:
//! each start rule gives sample occasions, made from its globs and from the texts that the condition itself compares
//! with. Where a condition reads what cannot be sampled, nothing is said.

use super::occasion::{Carry, Cause, Event, Occasion, Ref, among};
use super::resolve::File;
use super::scope::{Condition, Conditions};
use crate::expression::Values;
use crate::language::{Code, Diagnostic, Extras, Starts};
use std::collections::BTreeSet;

/// How many decisions one file is worth: conditions past that are not tried.
const BUDGET: usize = 4_000;
/// How many cells of a job are tried.
const CELLS: usize = 64;

/// Finds jobs and stages whose conditions can never hold.
pub(super) struct Never<'a, 'd> {
    pub(super) file: &'a File<'a>,
    pub(super) diagnostics: &'d mut Vec<Diagnostic>,
    pub(super) budget: usize,
}

/// The result of trying a condition on samples.
enum Tried {
    CanBeTrue,
    NeverTrue,
    Broken(String),
    Unknown,
}

impl<'a, 'd> Never<'a, 'd> {
    pub(super) fn new(file: &'a File<'a>, diagnostics: &'d mut Vec<Diagnostic>) -> Self {
        Never { file, diagnostics, budget: BUDGET }
    }

    /// Reports each once.
    pub(super) fn look(&mut self, conditions: &[Conditions]) {
        let mut told_stages = BTreeSet::new();
        for (at, own) in conditions.iter().enumerate() {
            let whole = &self.file.jobs[at];
            if let Some(stage) = &own.stage
                && told_stages.insert(whole.job.stage.as_str())
            {
                let tried = self.tried(&[stage], at, None);
                let message = format!("stage {} can never run: no start rule makes its `if` true", whole.job.stage);
                self.tell(tried, stage, message);
            }
            if let Some(job) = &own.job {
                let all: Vec<&Condition> = own.stage.iter().map(|stage| &**stage).chain([&**job]).collect();
                let tried = self.tried(&all, at, None);
                let message = format!("job {} can never run: no start rule makes its `if` true", whole.job.id());
                self.tell(tried, job, message);
            }
            for step in own.steps.values() {
                if let Tried::Broken(why) = self.tried(&[step], at, None) {
                    self.tell(Tried::Broken(why), step, String::new());
                }
            }
            self.secrets(at, own);
        }
    }

    fn tell(&mut self, tried: Tried, condition: &Condition, message: String) {
        let span = condition.at.span.clone();
        match tried {
            Tried::NeverTrue => {
                let hint = format!("[starts] allows {}", allowed(&self.file.pipeline.starts));
                self.diagnostics.push(Diagnostic::warning(Code::NeverTrue, span, message).hint(hint));
            }
            Tried::Broken(why) => {
                let message = format!("`{}` cannot be decided: {why}", condition.expression.source.trim());
                self.diagnostics
                    .push(Diagnostic::error(Code::Expression, span, message).hint("it must be true or false: ref.branch == \"main\", say"));
            }
            Tried::CanBeTrue | Tried::Unknown => {}
        }
    }

    fn secrets(&mut self, at: usize, own: &Conditions) {
        let (whole, starts) = (&self.file.jobs[at], &self.file.pipeline.starts);
        let given = |extras: &Extras| {
            let token = (!extras.allows.is_empty()).then(|| "its token".to_owned());
            extras.secrets.iter().chain(&extras.connections).chain(extras.identity.keys()).cloned().chain(token).collect::<Vec<_>>()
        };
        let secrets = whole.body.extras.as_deref().map(given).unwrap_or_default();
        if secrets.is_empty() || starts.proposal.is_empty() {
            return;
        }
        let all: Vec<&Condition> = own.stage.iter().chain(&own.job).map(|condition| &**condition).collect();
        if matches!(self.tried(&all, at, Some(Event::Proposal)), Tried::NeverTrue) {
            return;
        }
        let message =
            format!("job {} reads {}, and a proposal from outside could start it", whole.job.id(), super::follow::listed(&secrets));
        let hint = "keep proposals out: if = 'event != \"proposal\"'";
        self.diagnostics.push(Diagnostic::warning(Code::OpenSecret, whole.job.span.clone(), message).hint(hint));
    }

    /// Tries conditions together on every sample; with `event`, on those of that event.
    fn tried(&mut self, conditions: &[&Condition], at: usize, event: Option<Event>) -> Tried {
        let file = self.file;
        let certain = conditions.iter().all(|condition| can_be_sampled(condition, &file.pipeline.starts));
        let by_change = |condition: &&&Condition| {
            !condition.expression.touched.is_empty() || condition.expression.calls.iter().any(|call| call == "touches")
        };
        let touched: &[bool] = if conditions.iter().any(|condition| by_change(&condition)) { &[true, false] } else { &[true] };
        let samples = samples(&file.pipeline.starts, conditions);
        let cells = &file.cells[at][..file.cells[at].len().min(CELLS)];
        let (mut broken, mut decided) = (None, false);
        for occasion in samples.iter().filter(|occasion| event.is_none_or(|event| event == occasion.event())) {
            for &touched in touched {
                let mut values = Values { changed: if touched { None } else { Some(Vec::new()) }, ..occasion.values() };
                let root = values.root();
                for cell in cells {
                    if self.budget == 0 {
                        return Tried::Unknown;
                    }
                    self.budget -= 1;
                    values.each = cell.iter().map(|(axis, value)| (axis.clone(), value.clone())).collect();
                    let given = file.jobs[at].given.iter();
                    values.given = given.map(|(name, value)| (name.clone(), value.value.plain().unwrap_or_default())).collect();
                    let mut context = root.new_inner_scope();
                    values.add_own(&mut context);
                    let results: Result<Vec<bool>, String> = conditions
                        .iter()
                        .filter(|condition| !condition.expression.needs_facts())
                        .map(|condition| condition.expression.decide(&context))
                        .collect();
                    match results {
                        Ok(results) if results.iter().all(|&result| result) => return Tried::CanBeTrue,
                        Ok(_) => decided = true,
                        Err(why) => broken = Some(why),
                    }
                }
            }
        }
        match broken {
            Some(why) if !decided && certain => Tried::Broken(why),
            Some(why) if !decided && why.contains("not true or false") => Tried::Broken(why),
            _ if certain => Tried::NeverTrue,
            _ => Tried::Unknown,
        }
    }
}

/// Whether everything the condition reads can be tried out.
fn can_be_sampled(condition: &Condition, starts: &Starts) -> bool {
    let expression = &condition.expression;
    let known_input = |name: &str| starts.inputs.get(name).is_some_and(|input| input.choices.is_some());
    let reads = expression.reads.iter().all(|read| match read.path.first().map(String::as_str) {
        Some("ref" | "event" | "each" | "given") => true,
        Some("input") => read.path.get(1).is_some_and(|name| known_input(name)),
        _ => false,
    });
    reads && expression.calls.iter().all(|call| ["touches", "startsWith", "endsWith", "contains"].contains(&call.as_str()))
}

/// Occasions that the start rules allow, with the texts that the conditions compare with.
fn samples(starts: &Starts, conditions: &[&Condition]) -> Vec<Occasion> {
    let literals: BTreeSet<&str> = conditions.iter().flat_map(|condition| &condition.expression.literals).map(String::as_str).collect();
    let any = ["main".to_owned()];
    let push = names(starts.push.as_deref().unwrap_or(&["**".to_owned()]), &literals);
    let reads = |root: &str| conditions.iter().any(|condition| condition.expression.reads.iter().any(|read| read.root() == root));
    // What no condition reads need not differ from sample to sample: each one costs.
    let inputs = if reads("input") { inputs(starts) } else { vec![indexmap::IndexMap::new()] };
    let mut samples = Vec::new();
    let mut add = |cause: Cause| {
        samples.extend(inputs.iter().map(|inputs| Occasion { inputs: inputs.clone(), ..Occasion::new(cause.clone()) }));
    };
    push.iter().for_each(|branch| add(Cause::Push { branch: branch.clone(), before: None }));
    for target in names(&starts.proposal, &literals) {
        add(Cause::Proposal { target, source: None, outside: false, number: None, merges: None });
    }
    // Which branch has a queue is not said in this file.
    add(Cause::Landing { target: "main".into(), trial: 1, outside: false, base: String::new() });
    for way in [Carry::On, Carry::Back, Carry::Away] {
        add(Cause::Carried { way, outside: false, of: String::new(), environment: String::new(), on: None });
    }
    names(&starts.tag, &literals).into_iter().for_each(|tag| add(Cause::Tag { tag }));
    // The main branch: its name is the project's to say.
    let main: Vec<String> =
        if push.is_empty() { any.iter().cloned().chain(literals.iter().map(|text| (*text).to_owned())).collect() } else { push };
    for branch in main {
        let on = Some(Ref::Branch(branch.clone()));
        if starts.by_hand {
            add(Cause::ByHand { on: on.clone() });
        }
        if !starts.schedule.is_empty() {
            add(Cause::Schedule { line: None, branch: Some(branch) });
        }
        if !starts.pipeline.is_empty() {
            add(Cause::Passed { pipeline: None, on });
        }
    }
    samples
}

/// Names that globs allow: themselves, with each `*` filled, and what is compared with where it fits.
fn names(globs: &[String], literals: &BTreeSet<&str>) -> Vec<String> {
    let mut found = BTreeSet::new();
    let fillings: Vec<&str> = literals.iter().copied().chain(["x"]).collect();
    for glob in globs.iter().filter(|glob| !glob.starts_with('!')) {
        found.extend(fillings.iter().map(|filling| glob.replace("**", filling).replace(['*', '?'], filling)));
        found.insert(glob.clone());
    }
    found.extend(literals.iter().map(|text| (*text).to_owned()));
    found.into_iter().filter(|name| !name.is_empty() && !name.contains('*') && among(globs, name)).collect()
}

/// Each choice of each input once, the others at their default.
fn inputs(starts: &Starts) -> Vec<indexmap::IndexMap<String, String>> {
    let defaults: indexmap::IndexMap<String, String> =
        starts.inputs.iter().map(|(name, input)| (name.clone(), input.default.clone().unwrap_or_default())).collect();
    let mut all = vec![defaults.clone()];
    for (name, input) in &starts.inputs {
        for choice in input.choices.iter().flatten().take(16) {
            let mut one = defaults.clone();
            one.insert(name.clone(), choice.clone());
            all.push(one);
        }
    }
    all
}

/// The start rules in words.
fn allowed(starts: &Starts) -> String {
    let mut said = Vec::new();
    match &starts.push {
        None => said.push("a push to any branch".to_owned()),
        Some(globs) if !globs.is_empty() => said.push(format!("a push to {}", globs.join(", "))),
        Some(_) => {}
    }
    if !starts.proposal.is_empty() {
        said.push(format!("a proposal aimed at {}", starts.proposal.join(", ")));
    }
    if !starts.tag.is_empty() {
        said.push(format!("a tag {}", starts.tag.join(", ")));
    }
    if !starts.schedule.is_empty() {
        said.push("a schedule".into());
    }
    if !starts.pipeline.is_empty() {
        said.push("a passed pipeline".into());
    }
    if starts.by_hand {
        said.push("a start by hand".into());
    }
    if said.is_empty() { "nothing".into() } else { said.join("; ") }
}
