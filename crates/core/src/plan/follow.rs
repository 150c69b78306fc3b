//! Patterns → whole jobs: what a job says itself wins, key by key, over the pattern it follows; `env` and `given` merge.

use crate::language::{At, Body, Code, Diagnostic, Env, Input, Job, PATTERN_DEPTH, Pattern, Pipeline, Span, has_errors, nearest, read};
use crate::template::Template;
use indexmap::IndexMap;
use std::borrow::Cow;
use std::collections::{BTreeSet, HashMap};

/// A borrow as it was found: the commit its tag or commit named, and the file there. Or, in words, why it was not.
pub type BorrowedFiles = HashMap<String, Result<BorrowedFile, String>>;

/// A file that is borrowed from another repository, with the commit that it was read from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BorrowedFile {
    pub commit: String,
    pub text: String,
}

/// A job with all that its pattern says.
pub(super) struct Whole<'p> {
    pub(super) job: &'p Job,
    pub(super) body: Cow<'p, Body>,
    pub(super) inputs: Cow<'p, IndexMap<String, Input>>,
    /// Every input with its value; defaults are filled in.
    pub(super) given: Env,
    /// False when its pattern could not be found: what it would say is unknown.
    pub(super) known: bool,
}

/// A pattern with all that the patterns it follows say.
#[derive(Clone, Default)]
struct Chain {
    body: Body,
    inputs: IndexMap<String, Input>,
}

struct Follower<'p, 'd> {
    pipeline: &'p Pipeline,
    borrowed: HashMap<&'p str, Option<Pipeline>>,
    chains: HashMap<String, Option<Chain>>,
    used: BTreeSet<String>,
    diagnostics: &'d mut Vec<Diagnostic>,
}

/// Every job with the patterns that it follows filled in.
pub(super) fn follow<'p>(pipeline: &'p Pipeline, files: &BorrowedFiles, diagnostics: &mut Vec<Diagnostic>) -> Vec<Whole<'p>> {
    let borrowed = borrowed(pipeline, files, diagnostics);
    let mut follower = Follower { pipeline, borrowed, chains: HashMap::new(), used: BTreeSet::new(), diagnostics };
    follower.check_inputs();
    let jobs = pipeline.jobs.iter().map(|job| follower.whole(job)).collect();
    follower.tell_unused();
    jobs
}

/// Reads borrowed files. A borrowed file must be without mistakes; only its patterns count.
fn borrowed<'p>(pipeline: &'p Pipeline, files: &BorrowedFiles, diagnostics: &mut Vec<Diagnostic>) -> HashMap<&'p str, Option<Pipeline>> {
    let mut borrowed = HashMap::new();
    for (name, borrow) in &pipeline.borrows {
        let found = match files.get(name) {
            Some(Ok(found)) => {
                let (pipeline, mistakes) = read(&found.text);
                let first = mistakes.iter().find(|d| d.severity == crate::language::Severity::Error);
                if let Some(first) = first {
                    let (line, _) = crate::language::Lines::new(&found.text).position(first.span.start);
                    let message =
                        format!("`{}` has a mistake at the borrowed commit, in line {line}: {}", borrow.value.file, first.message);
                    diagnostics
                        .push(Diagnostic::error(Code::Borrow, borrow.span.clone(), message).hint("borrow at a tag where it has none"));
                }
                (!has_errors(&mistakes)).then_some(pipeline)
            }
            Some(Err(why)) => {
                let message = format!("nothing can be borrowed as `{name}`: {why}");
                diagnostics.push(Diagnostic::error(Code::Borrow, borrow.span.clone(), message));
                None
            }
            None => {
                let message = format!("`{name}` was not fetched: what follows its patterns is not checked");
                diagnostics.push(Diagnostic::note(Code::Borrow, borrow.span.clone(), message));
                None
            }
        };
        borrowed.insert(name.as_str(), found);
    }
    borrowed
}

impl<'p> Follower<'p, '_> {
    /// Each input on its own: a default must be one of the choices.
    fn check_inputs(&mut self) {
        let patterns = self.pipeline.patterns.values().flat_map(|pattern| &pattern.inputs);
        for (name, input) in patterns.chain(&self.pipeline.starts.inputs) {
            let Some(choices) = &input.choices else { continue };
            if choices.is_empty() {
                self.diagnostics.push(Diagnostic::error(Code::Given, input.span.clone(), format!("input `{name}` has no choice left")));
            }
            if let Some(default) = &input.default
                && !choices.contains(default)
            {
                let message = format!("input `{name}` cannot be `{default}` by default: that is none of its choices");
                self.diagnostics
                    .push(Diagnostic::error(Code::Given, input.span.clone(), message).hint(format!("choices are {}", listed(choices))));
            }
        }
    }

    /// A job with what its pattern says; without a pattern, as it is.
    fn whole(&mut self, job: &'p Job) -> Whole<'p> {
        let Some(follows) = &job.body.follows else {
            self.refuse_given(job);
            let none = Cow::Owned(IndexMap::new());
            return Whole { job, body: Cow::Borrowed(&job.body), inputs: none, given: Env::new(), known: true };
        };
        match self.chain(follows, 0, &mut Vec::new()) {
            None => Whole { job, body: Cow::Borrowed(&job.body), inputs: Cow::Owned(IndexMap::new()), given: Env::new(), known: false },
            Some(chain) => {
                let body = merge(&job.body, &chain.body);
                let given = self.give(&job.id().to_string(), follows, &body.given, &chain.inputs);
                Whole { job, body: Cow::Owned(body), inputs: Cow::Owned(chain.inputs), given, known: true }
            }
        }
    }

    /// A job without a pattern can be given nothing.
    fn refuse_given(&mut self, job: &Job) {
        if let Some((name, value)) = job.body.given.first() {
            let message = format!("job {} gives `{name}`, but follows no pattern that could take it", job.id());
            self.diagnostics
                .push(Diagnostic::error(Code::Given, value.span.clone(), message).hint("add `follows = \"PATTERN\"`, or use `env`"));
        }
    }

    /// The pattern named, merged with those it follows itself.
    fn chain(&mut self, name: &At<String>, depth: usize, way: &mut Vec<String>) -> Option<Chain> {
        if let Some(known) = self.chains.get(&name.value) {
            self.used.insert(name.value.clone());
            return known.clone();
        }
        if let Some(at) = way.iter().position(|seen| *seen == name.value) {
            let round = way[at..].iter().chain([&name.value]).cloned().collect::<Vec<_>>().join(" follows ");
            self.diagnostics.push(Diagnostic::error(
                Code::Circle,
                name.span.clone(),
                format!("patterns follow each other in a circle: {round}"),
            ));
            return None;
        }
        if depth >= PATTERN_DEPTH {
            let message = format!("more than {PATTERN_DEPTH} patterns follow each other here");
            self.diagnostics.push(Diagnostic::error(Code::Limit, name.span.clone(), message));
            return None;
        }
        let pattern = self.pattern(name)?;
        self.used.insert(name.value.clone());
        let mut chain = Chain { body: pattern.body.clone(), inputs: pattern.inputs.clone() };
        if let Some(follows) = &pattern.body.follows {
            let under = match name.value.split_once(':') {
                Some((borrow, _)) => At { value: format!("{borrow}:{}", follows.value), span: follows.span.clone() },
                None => follows.clone(),
            };
            way.push(name.value.clone());
            let under = self.chain(&under, depth + 1, way)?;
            way.pop();
            chain.body = merge(&chain.body, &under.body);
            for (input, means) in under.inputs {
                chain.inputs.entry(input).or_insert(means);
            }
        }
        self.chains.insert(name.value.clone(), Some(chain.clone()));
        Some(chain)
    }

    /// The pattern of this name, of the file or of a borrowed one. None was reported.
    fn pattern(&mut self, name: &At<String>) -> Option<Pattern> {
        let Some((borrow, pattern)) = name.value.split_once(':') else {
            if let Some(found) = self.pipeline.patterns.get(&name.value) {
                return Some(found.clone());
            }
            let known = self.pipeline.patterns.keys().map(String::as_str);
            self.unknown(name, &name.value, format!("there is no pattern `{}`", name.value), known.collect());
            return None;
        };
        let Some(file) = self.borrowed.get(borrow) else {
            let diagnostic = Diagnostic::error(Code::UnknownPattern, name.span.clone(), format!("there is no [borrow.{borrow}]"));
            self.diagnostics.push(match nearest(borrow, self.pipeline.borrows.keys().map(String::as_str)) {
                Some(near) => diagnostic.hint(format!("did you mean `{near}:{pattern}`?")),
                None => diagnostic.hint(format!("say what it is: [borrow.{borrow}] with `git`, `at` and `file`")),
            });
            return None;
        };
        // What could not be read is already an error at the borrow itself.
        let file = file.as_ref()?;
        match file.patterns.get(pattern) {
            Some(found) => {
                let mut found = found.clone();
                found.body = found.body.placed_at(&name.span);
                found.inputs.values_mut().for_each(|input| input.span = name.span.clone());
                Some(found)
            }
            None => {
                let known: Vec<String> = file.patterns.keys().cloned().collect();
                self.unknown(name, pattern, format!("`{borrow}` has no pattern `{pattern}`"), known.iter().map(String::as_str).collect());
                None
            }
        }
    }

    fn unknown(&mut self, at: &At<String>, name: &str, message: String, known: Vec<&str>) {
        let diagnostic = Diagnostic::error(Code::UnknownPattern, at.span.clone(), message);
        self.diagnostics.push(match nearest(name, known.iter().copied()) {
            Some(near) => diagnostic.hint(format!("did you mean `{near}`?")),
            None if known.is_empty() => diagnostic.hint("define it as [pattern.NAME]"),
            None => diagnostic.hint(format!("there is {}", known.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", "))),
        });
    }

    /// Checks what is given against what may be, and fills defaults in.
    fn give(&mut self, who: &str, follows: &At<String>, given: &Env, inputs: &IndexMap<String, Input>) -> Env {
        for (name, value) in given {
            let Some(input) = inputs.get(name) else {
                let message = format!("pattern `{}` has no input `{name}`", follows.value);
                self.diagnostics.push(
                    Diagnostic::error(Code::UnknownInput, value.span.clone(), message).nearest(name, inputs.keys().map(String::as_str)),
                );
                continue;
            };
            if let (Some(choices), Some(plain)) = (&input.choices, value.value.plain())
                && !choices.contains(&plain)
            {
                let diagnostic = Diagnostic::error(Code::Given, value.span.clone(), format!("`{name}` cannot be `{plain}`"));
                let hint = match nearest(&plain, choices.iter().map(String::as_str)) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("choices are {}", listed(choices)),
                };
                self.diagnostics.push(diagnostic.hint(hint));
            }
        }
        let mut all = Env::new();
        for (name, input) in inputs {
            let default = || input.default.clone().map(|text| At { value: Template::of_text(&text), span: input.span.clone() });
            match given.get(name).cloned().or_else(default) {
                Some(value) => {
                    all.insert(name.clone(), value);
                }
                None => {
                    let message = format!("job {who} follows `{}`, which needs `{name}` to be given", follows.value);
                    let value = input.choices.as_ref().and_then(|choices| choices.first()).map_or("…", String::as_str);
                    let hint = format!("add `given = {{ {name} = \"{value}\" }}`");
                    self.diagnostics.push(Diagnostic::error(Code::Given, follows.span.clone(), message).hint(hint));
                }
            }
        }
        all
    }

    fn tell_unused(&mut self) {
        if self.pipeline.jobs.is_empty() {
            // A file of patterns only, for others to borrow.
            return;
        }
        for (name, pattern) in &self.pipeline.patterns {
            if !self.used.contains(name) {
                let message = format!("no job follows pattern `{name}`");
                self.diagnostics.push(
                    Diagnostic::warning(Code::Unused, pattern.span.clone(), message)
                        .hint(format!("take it out, or add `follows = \"{name}\"` to a job")),
                );
            }
        }
        let borrowed: BTreeSet<&str> = self
            .pipeline
            .jobs
            .iter()
            .filter_map(|job| job.body.follows.as_ref()?.value.split_once(':').map(|(borrow, _)| borrow))
            .collect();
        for (name, borrow) in &self.pipeline.borrows {
            if !borrowed.contains(name.as_str()) {
                let message = format!("no job follows a pattern of `{name}`");
                self.diagnostics.push(
                    Diagnostic::warning(Code::Unused, borrow.span.clone(), message)
                        .hint(format!("take it out, or add `follows = \"{name}:PATTERN\"` to a job")),
                );
            }
        }
    }
}

/// Names in back-quotes, with commas between them.
pub(super) fn listed(names: &[String]) -> String {
    names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", ")
}

/// Of two bodies, `over` counts where both say something; environments are joined.
fn merge(over: &Body, under: &Body) -> Body {
    let joined = |under: &Env, over: &Env| under.iter().chain(over).map(|(name, value)| (name.clone(), value.clone())).collect();
    let extras = match (&over.extras, &under.extras) {
        (Some(over), Some(under)) => Some(Box::new((**over).clone().over(under))),
        (over, under) => over.clone().or_else(|| under.clone()),
    };
    Body {
        steps: over.steps.clone().or_else(|| under.steps.clone()),
        prepare: over.prepare.clone().or_else(|| under.prepare.clone()),
        labels: over.labels.clone().or_else(|| under.labels.clone()),
        takes: over.takes.clone().or_else(|| under.takes.clone()),
        gives: over.gives.clone().or_else(|| under.gives.clone()),
        after: over.after.clone().or_else(|| under.after.clone()),
        eager: over.eager.or(under.eager),
        env: joined(&under.env, &over.env),
        timeout_ms: over.timeout_ms.or(under.timeout_ms),
        may_fail: over.may_fail.or(under.may_fail),
        checkout: over.checkout.clone().or_else(|| under.checkout.clone()),
        condition: over.condition.clone().or_else(|| under.condition.clone()),
        upon: over.upon.clone().or_else(|| under.upon.clone()),
        settings: if over.settings.is_empty() { under.settings.clone() } else { over.settings.clone() },
        matrix: over.matrix.clone().or_else(|| under.matrix.clone()),
        at_once: over.at_once.or(under.at_once),
        keep_going: over.keep_going.or(under.keep_going),
        follows: over.follows.clone(),
        given: joined(&under.given, &over.given),
        extras,
    }
}

impl Body {
    /// With every place moved to `span`: for what is in another file.
    fn placed_at(mut self, span: &Span) -> Body {
        let env = |env: &mut Env| env.values_mut().for_each(|value| value.span = span.clone());
        env(&mut self.env);
        env(&mut self.given);
        for step in self.steps.iter_mut().chain(&mut self.prepare).flatten() {
            step.span = span.clone();
            env(&mut step.env);
            step.condition.iter_mut().for_each(|condition| condition.span = span.clone());
            step.dir.iter_mut().for_each(|dir| dir.span = span.clone());
        }
        self.takes.iter_mut().flatten().for_each(|take| take.span = span.clone());
        self.after.iter_mut().flatten().for_each(|after| after.span = span.clone());
        self.gives.iter_mut().flatten().flat_map(|give| &mut give.paths).for_each(|path| path.span = span.clone());
        self.condition.iter_mut().for_each(|condition| condition.span = span.clone());
        if let Some(matrix) = &mut self.matrix {
            matrix.span = span.clone();
            matrix.each.values_mut().flatten().for_each(|value| value.span = span.clone());
            matrix.except.iter_mut().chain(&mut matrix.also).for_each(|cell| cell.span = span.clone());
        }
        self.labels.iter_mut().flatten().for_each(|label| label.span = span.clone());
        for settings in &mut self.settings {
            settings.span = span.clone();
            env(&mut settings.env);
            settings.labels.iter_mut().flatten().for_each(|label| label.span = span.clone());
            settings.tools.values_mut().chain(&mut settings.image).for_each(|placed| placed.0.span = span.clone());
        }
        self.extras.iter_mut().flat_map(|extras| extras.templates()).for_each(|placed| placed.0.span = span.clone());
        self.follows.iter_mut().for_each(|follows| follows.span = span.clone());
        self
    }
}
