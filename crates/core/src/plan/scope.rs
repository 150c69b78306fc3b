//! Which names expressions and placeholders of a job may use. Compiles each expression once and reports every name that
//! nobody knows.

use super::follow::Whole;
use crate::expression::{Expression, Read};
use crate::language::{
    At, Code, Diagnostic, Env, Extras, GateRule, NUMBERS, Pipeline, Placed, RolloutWay, Span, StepLine, Upon, inside, nearest,
};
use crate::template::{Slot, Template};
use std::cell::OnceCell;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::rc::Rc;

/// The expressions that decide about a job.
#[derive(Default, Clone)]
pub(super) struct Conditions {
    pub(super) stage: Option<Rc<Condition>>,
    pub(super) job: Option<Rc<Condition>>,
    /// By the step's place among prepared and own steps.
    pub(super) steps: HashMap<usize, Rc<Condition>>,
}

/// An expression and where it stands.
pub(super) struct Condition {
    pub(super) expression: Rc<Expression>,
    pub(super) at: At<String>,
}

/// Compiles the expressions of a file, each once, and checks what each of them may read at its place.
pub(super) struct Scopes<'p, 'd> {
    text: &'p str,
    pipeline: &'p Pipeline,
    /// Each job's facts, by the job's full name.
    facts: HashMap<String, Vec<String>>,
    ids: OnceCell<HashSet<String>>,
    compiled: HashMap<String, Option<Rc<Expression>>>,
    diagnostics: &'d mut Vec<Diagnostic>,
    /// Names that something reads, for "unused": `given.PATTERN-INPUT`, `input.NAME`.
    pub(super) read: BTreeSet<String>,
}

/// What is known in one place.
struct Scope<'a> {
    axes: Vec<&'a str>,
    given: Vec<&'a str>,
    inputs: Vec<&'a str>,
    env: Vec<&'a str>,
    /// In words, for messages: `job test.unit`.
    place: String,
}

/// Where a placeholder stands, as far as it matters for what it may be.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Stands {
    InEnv,
    InGiven,
    /// It decides which runner takes the job: what only a runner knows is of no use.
    BeforeRunner,
    Elsewhere,
}

impl<'p, 'd> Scopes<'p, 'd> {
    pub(super) fn new(text: &'p str, pipeline: &'p Pipeline, jobs: &[Whole<'_>], diagnostics: &'d mut Vec<Diagnostic>) -> Self {
        let facts = |whole: &Whole<'_>| {
            let extras = whole.body.extras.as_deref();
            let own = extras.into_iter().flat_map(|extras| extras.facts.iter().map(|fact| fact.name.clone()));
            let published = extras.into_iter().flat_map(|extras| extras.publish.iter().filter_map(|publish| publish.fact.clone()));
            let facts: Vec<String> = own.chain(published).collect();
            (!facts.is_empty()).then(|| (whole.job.id().to_string(), facts))
        };
        Scopes {
            text,
            pipeline,
            facts: jobs.iter().filter_map(facts).collect(),
            ids: OnceCell::new(),
            compiled: HashMap::new(),
            diagnostics,
            read: BTreeSet::new(),
        }
    }

    /// Looks at everything of the file that is not a job's own.
    pub(super) fn shared(&mut self, jobs: &[Whole<'_>]) -> HashMap<&'p str, Rc<Condition>> {
        let pipeline = self.pipeline;
        let scope = Scope {
            axes: Vec::new(),
            given: Vec::new(),
            inputs: pipeline.starts.inputs.keys().map(String::as_str).collect(),
            env: pipeline.env.keys().map(String::as_str).collect(),
            place: "this place".into(),
        };
        let mut stages = HashMap::new();
        for (name, rules) in &pipeline.stages {
            self.gate(&rules.gate, jobs);
            if let Some(condition) = &rules.condition
                && let Some(placed) = self.expression(condition, &scope)
            {
                stages.insert(name.as_str(), placed);
            }
        }
        stages
    }

    /// The conditions of a job, its stage's included.
    pub(super) fn job(&mut self, whole: &Whole<'p>, stages: &HashMap<&'p str, Rc<Condition>>) -> Conditions {
        let (pipeline, body) = (self.pipeline, &*whole.body);
        let stage = pipeline.stages.get(&whole.job.stage);
        let mut conditions = Conditions { stage: stages.get(whole.job.stage.as_str()).cloned(), ..Conditions::default() };
        let steps = || pipeline.defaults.prepare.iter().chain(&body.prepare).chain(&body.steps).flatten();
        let plain = body.condition.is_none()
            && pipeline.env.is_empty()
            && pipeline.defaults.env.is_empty()
            && body.env.is_empty()
            && body.given.is_empty()
            && stage.is_none()
            && body.extras.is_none()
            && body.gives.is_none()
            && body.labels.is_none()
            && pipeline.defaults.labels.is_none()
            && body.settings.is_empty()
            && !steps().any(|step| step.condition.is_some() || !step.env.is_empty() || step.dir.is_some())
            && body.takes.iter().flatten().all(|take| take.value.to.is_none());
        if plain || !whole.known {
            return conditions;
        }
        let scope = self.scope_of(whole);
        for env in [Some(&pipeline.env), Some(&pipeline.defaults.env), stage.map(|stage| &stage.env), Some(&body.env)].into_iter().flatten()
        {
            self.env(env, &scope, Stands::InEnv);
        }
        self.env(&body.given, &scope, Stands::InGiven);
        let gives = body.gives.iter().flatten().flat_map(|give| &give.paths);
        let takes = body.takes.iter().flatten().filter_map(|take| take.value.to.as_ref());
        for template in gives.chain(takes) {
            self.template(template, &scope, Stands::Elsewhere);
        }
        let labels = body.labels.iter().chain(stage.and_then(|stage| stage.labels.as_ref())).chain(&pipeline.defaults.labels);
        labels.flatten().for_each(|label| self.template(label, &scope, Stands::BeforeRunner));
        if let Some(extras) = &body.extras {
            extras.tools.values().for_each(|Placed(template)| self.template(template, &scope, Stands::BeforeRunner));
            let mut extras = Extras { tools: Default::default(), ..(**extras).clone() };
            extras.templates().for_each(|Placed(template)| self.template(template, &scope, Stands::Elsewhere));
        }
        for settings in &body.settings {
            self.env(&settings.env, &scope, Stands::InEnv);
            settings.labels.iter().flatten().for_each(|label| self.template(label, &scope, Stands::BeforeRunner));
            settings.tools.values().for_each(|placed| self.template(&placed.0, &scope, Stands::BeforeRunner));
            settings.image.iter().for_each(|placed| self.template(&placed.0, &scope, Stands::Elsewhere));
        }
        self.published(whole);
        self.released(whole);
        self.closes(whole);
        self.rolls_out(whole);
        conditions.job = body.condition.as_ref().and_then(|condition| self.expression(condition, &scope));
        for (at, step) in steps().enumerate() {
            self.step(step, &scope);
            if let Some(placed) = step.condition.as_ref().and_then(|condition| self.expression(condition, &scope)) {
                conditions.steps.insert(at, placed);
            }
        }
        conditions
    }

    fn step(&mut self, step: &StepLine, scope: &Scope<'_>) {
        self.env(&step.env, scope, Stands::InEnv);
        step.dir.iter().for_each(|dir| self.template(dir, scope, Stands::Elsewhere));
    }

    fn scope_of<'a>(&self, whole: &'a Whole<'p>) -> Scope<'a>
    where
        'p: 'a,
    {
        let pipeline = self.pipeline;
        let matrix = whole.body.matrix.as_ref();
        let mut axes: Vec<&str> = matrix.iter().flat_map(|matrix| matrix.each.keys()).map(String::as_str).collect();
        if axes.is_empty() {
            axes = matrix
                .iter()
                .flat_map(|matrix| matrix.also.iter().take(1))
                .flat_map(|cell| cell.value.keys())
                .map(String::as_str)
                .collect();
        }
        let stage_env = pipeline.stages.get(&whole.job.stage).map(|stage| &stage.env);
        let own = whole.body.settings.iter().map(|settings| Some(&settings.env));
        let env = [Some(&pipeline.env), Some(&pipeline.defaults.env), stage_env, Some(&whole.body.env)].into_iter().chain(own);
        Scope {
            axes,
            given: whole.inputs.keys().map(String::as_str).collect(),
            inputs: pipeline.starts.inputs.keys().map(String::as_str).collect(),
            env: env.flatten().flat_map(|env| env.keys()).map(String::as_str).collect(),
            place: format!("job {}", whole.job.id()),
        }
    }

    fn env(&mut self, env: &Env, scope: &Scope<'_>, stands: Stands) {
        env.values().for_each(|value| self.template(value, scope, stands));
    }

    /// Checks every placeholder of a text.
    fn template(&mut self, template: &At<Template>, scope: &Scope<'_>, stands: Stands) {
        for slot in template.value.slots() {
            let (what, name, known) = match slot {
                Slot::Each(name) => ("axis", name, &scope.axes),
                Slot::Given(name) => ("pattern's input", name, &scope.given),
                Slot::Input(name) => ("input", name, &scope.inputs),
                Slot::Env(_) if stands == Stands::InEnv => {
                    let message = "a variable's value cannot be made of other variables".to_owned();
                    let hint = "a step can: its shell reads $NAME";
                    self.diagnostics.push(Diagnostic::error(Code::Placeholder, self.slot_span(template, slot), message).hint(hint));
                    continue;
                }
                Slot::Env(name) => ("variable", name, &scope.env),
                Slot::Fact(..) | Slot::Hash(_) | Slot::Os | Slot::Arch if stands == Stands::BeforeRunner => {
                    let message = format!("`{{{slot}}}` is known only when a runner has the job, and this decides which one takes it");
                    let hint = "name an axis, an input or the branch";
                    self.diagnostics.push(Diagnostic::error(Code::Placeholder, self.slot_span(template, slot), message).hint(hint));
                    continue;
                }
                Slot::Fact(job, name) => {
                    self.fact(job, name, self.slot_span(template, slot));
                    continue;
                }
                Slot::Hash(_) | Slot::Os | Slot::Arch if stands == Stands::InGiven => {
                    let message = format!("`{{{slot}}}` is only known on the runner, and an input may decide what is planned");
                    self.diagnostics.push(
                        Diagnostic::error(Code::Placeholder, self.slot_span(template, slot), message).hint("use it in the pattern itself"),
                    );
                    continue;
                }
                _ => continue,
            };
            self.read.insert(slot.to_string());
            if !known.contains(&name.as_str()) {
                let message = format!("`{{{slot}}}`: {} has no {what} `{name}`", scope.place);
                let diagnostic = Diagnostic::error(Code::Placeholder, self.slot_span(template, slot), message);
                self.diagnostics.push(with_known(diagnostic, name, known));
            }
        }
    }

    /// Where a slot is in the file, as near as can be found.
    fn slot_span(&self, template: &At<Template>, slot: &Slot) -> Span {
        let source = template.value.source();
        let inside = inside(self.text, &At { value: source.clone(), span: template.span.clone() });
        let written = format!("{{{slot}}}");
        source.find(&written).map_or(template.span.clone(), |at| inside(at..at + written.len()))
    }

    /// Checks that the job is there and leaves such a fact.
    fn fact(&mut self, job: &str, name: &str, span: Span) {
        let ids = self.ids.get_or_init(|| self.pipeline.jobs.iter().map(|job| job.id().to_string()).collect());
        let exists = ids.contains(job);
        let diagnostic = |message: String| Diagnostic::error(Code::Placeholder, span.clone(), message);
        match self.facts.get(job) {
            Some(facts) if facts.iter().any(|fact| fact == name) => {}
            Some(facts) => {
                let facts: Vec<&str> = facts.iter().map(String::as_str).collect();
                self.diagnostics.push(with_known(diagnostic(format!("job {job} leaves no fact `{name}`")), name, &facts));
            }
            None if exists => {
                self.diagnostics
                    .push(diagnostic(format!("job {job} leaves no fact `{name}`")).hint(format!("add `facts = [\"{name}\"]` to it")));
            }
            None => {
                self.diagnostics
                    .push(diagnostic(format!("there is no job `{job}` to leave a fact")).nearest(job, ids.iter().map(String::as_str)));
            }
        }
    }

    /// What is published must be given.
    fn published(&mut self, whole: &Whole<'p>) {
        let gives: Vec<&str> = whole.body.gives.iter().flatten().map(|give| give.artifact.as_str()).collect();
        for publish in whole.body.extras.iter().flat_map(|extras| &extras.publish) {
            let to = &publish.to.0;
            if publish.upload.is_some() && to.value.source().starts_with("oci://") {
                let message = "a registry takes no form: `form`, `file` and `digest` are for an address";
                self.diagnostics
                    .push(Diagnostic::error(Code::BadValue, to.span.clone(), message).hint("leave them out, or write https://…"));
            }
            let name = publish.artifact.as_str();
            if !gives.contains(&name) {
                let message = format!("job {} publishes the artifact `{name}`, which it does not give", whole.job.id());
                self.diagnostics.push(with_known(Diagnostic::error(Code::BadValue, publish.to.0.span.clone(), message), name, &gives));
            }
        }
    }

    /// What is released must be at hand, made once, and its notes lie in the repository.
    fn released(&mut self, whole: &Whole<'p>) {
        let Some(releases) = whole.body.extras.as_ref().and_then(|extras| extras.releases.as_ref()) else { return };
        let (id, span) = (whole.job.id().to_string(), releases.version.0.span.clone());
        let gives = whole.body.gives.iter().flatten().map(|give| format!("{id}/{}", give.artifact));
        let takes = whole.body.takes.iter().flatten().map(|take| format!("{}/{}", take.value.job, take.value.artifact));
        let known: Vec<String> = gives.chain(takes).collect();
        let known: Vec<&str> = known.iter().map(String::as_str).collect();
        for name in releases.assets.iter().filter(|name| !known.contains(&name.as_str())) {
            let message = format!("job {id} releases the artifact `{name}`, which it neither takes nor gives");
            self.diagnostics.push(with_known(Diagnostic::error(Code::BadValue, span.clone(), message), name, &known));
        }
        let file = releases.notes.as_deref().unwrap_or_default().split('#').next().unwrap_or_default();
        if file.starts_with('/') || file.split('/').any(|part| part == "..") {
            let message = format!("the notes `{file}` leads outside of the repository");
            self.diagnostics.push(Diagnostic::error(Code::BadValue, span.clone(), message).hint("name a file of the repository"));
        }
        if whole.body.matrix.is_some() || whole.body.extras.as_ref().is_some_and(|extras| extras.split.is_some()) {
            let message = format!("job {id} would make its release once for each cell");
            self.diagnostics.push(
                Diagnostic::error(Code::BadValue, span, message).hint("let a job release that comes after them, and takes what they give"),
            );
        }
    }

    /// A job puts something there or takes it away.
    fn closes(&mut self, whole: &Whole<'p>) {
        let Some(extras) = whole.body.extras.as_ref().filter(|extras| extras.deploys.is_some()) else { return };
        if let Some(closes) = &extras.closes {
            let message = format!("job {} both deploys and closes", whole.job.id());
            self.diagnostics.push(Diagnostic::error(Code::BadValue, closes.0.span.clone(), message).hint("let a job of its own close it"));
        }
    }

    /// A roll-out goes over environments, and ends where one goes wrong.
    fn rolls_out(&mut self, whole: &Whole<'p>) {
        let Some(extras) = whole.body.extras.as_ref() else { return };
        let Some(rollout) = &extras.rollout else { return };
        let (id, body) = (whole.job.id(), &whole.body);
        let span = extras.deploys.as_ref().map_or(whole.job.span.clone(), |deploys| deploys.0.span.clone());
        let mut wrong =
            |message: String, hint: &str| self.diagnostics.push(Diagnostic::error(Code::BadValue, span.clone(), message).hint(hint));
        if extras.deploys.is_none() {
            wrong(format!("job {id} has a roll-out and deploys nothing"), "name its environment in `deploys`");
        }
        if body.matrix.is_none() && rollout.way != RolloutWay::TwoSides {
            wrong(format!("job {id} has nothing to roll out over: it has no cells"), "give it `each`, one value for each environment");
        }
        if extras.split.is_some() {
            wrong(format!("job {id} would roll out over the copies of a `split`"), "give it `each`, one value for each environment");
        }
        if body.keep_going == Some(true) || body.may_fail == Some(true) {
            wrong(format!("job {id} would go on rolling out after a failure"), "take `keep_going` and `may_fail` away");
        }
        if body.upon.iter().flatten().any(|upon| *upon != Upon::Passed) {
            wrong(format!("job {id} would go on rolling out after a failure"), "take `upon` away");
        }
        if rollout.way == RolloutWay::OneByOne && body.at_once.is_some() {
            wrong(format!("the cells of {id} come one by one"), "take `at_once` away");
        }
    }

    /// Whether each number of a gate is one that there can be.
    fn gate(&mut self, rules: &[At<GateRule>], jobs: &[Whole<'_>]) {
        for rule in rules {
            let name = rule.value.number.as_str();
            if NUMBERS.contains(&name) {
                continue;
            }
            let facts: Vec<String> = jobs.iter().flat_map(number_facts).collect();
            if !facts.iter().any(|fact| fact == name) {
                let known: Vec<&str> = NUMBERS.iter().copied().chain(facts.iter().map(String::as_str)).collect();
                let message = format!("there is no number `{name}`");
                let mut diagnostic = Diagnostic::error(Code::BadValue, rule.span.clone(), message).nearest(name, known.iter().copied());
                if diagnostic.hint.is_none() {
                    let facts = "fact.STAGE.JOB.NAME for a fact with `number = true`";
                    diagnostic.hint = Some(format!("there are {}, and {facts}", NUMBERS.join(", ")));
                }
                self.diagnostics.push(diagnostic);
            }
        }
    }

    /// Compiles an expression, and checks every name in it.
    fn expression(&mut self, at: &At<String>, scope: &Scope<'_>) -> Option<Rc<Condition>> {
        let expression = self.compiled(at)?;
        let inside = inside(self.text, at);
        let before = self.diagnostics.len();
        for read in &expression.reads {
            self.read.insert(read.to_string());
            self.name(read, inside(read.span.clone()), scope);
        }
        for glob in &expression.touched {
            if let Err(error) = globset::Glob::new(glob) {
                let message = format!("`{glob}` is not a glob: {}", error.kind());
                self.diagnostics.push(Diagnostic::error(Code::Expression, at.span.clone(), message));
            }
        }
        (self.diagnostics.len() == before).then(|| Rc::new(Condition { expression, at: at.clone() }))
    }

    /// The compiled expression; none when it has a mistake, which was reported at its first place.
    fn compiled(&mut self, at: &At<String>) -> Option<Rc<Expression>> {
        if let Some(known) = self.compiled.get(&at.value)
            && known.is_some()
        {
            return known.clone();
        }
        let compiled = match Expression::compile(&at.value) {
            Ok(expression) => Some(Rc::new(expression)),
            Err(mistake) => {
                let code = if mistake.limit { Code::Limit } else { Code::Expression };
                let mut diagnostic = Diagnostic::error(code, inside(self.text, at)(mistake.span), mistake.message);
                diagnostic.hint = mistake.hint;
                self.diagnostics.push(diagnostic);
                None
            }
        };
        self.compiled.insert(at.value.clone(), compiled.clone());
        compiled
    }

    /// Checks that a name which an expression reads is there at its place.
    fn name(&mut self, read: &Read, span: Span, scope: &Scope<'_>) {
        use crate::expression::{COMMIT, REF, ROOTS};
        let path: Vec<&str> = read.path.iter().map(String::as_str).collect();
        let diagnostic = |message: String| Diagnostic::error(Code::Expression, span.clone(), message);
        let told = match path.as_slice() {
            ["event" | "changed"] => return,
            ["ref", field] => (REF.contains(field), "ref", *field, REF.to_vec()),
            ["commit", field] => (COMMIT.contains(field), "commit", *field, COMMIT.to_vec()),
            ["each", name] => (scope.axes.contains(name), "each", *name, scope.axes.clone()),
            ["given", name] => (scope.given.contains(name), "given", *name, scope.given.clone()),
            ["input", name] => (scope.inputs.contains(name), "input", *name, scope.inputs.clone()),
            ["env", name] => (scope.env.contains(name), "env", *name, scope.env.clone()),
            ["fact", stage, job, name] => return self.fact(&format!("{stage}.{job}"), name, span),
            [root] if ["ref", "commit", "each", "given", "input", "env", "fact"].contains(root) => {
                let fields = match *root {
                    "ref" => REF.to_vec(),
                    "commit" => COMMIT.to_vec(),
                    "fact" => vec!["STAGE.JOB.NAME"],
                    "each" => scope.axes.clone(),
                    "given" => scope.given.clone(),
                    "input" => scope.inputs.clone(),
                    _ => scope.env.clone(),
                };
                let list = fields.iter().map(|field| format!("`{root}.{field}`")).collect::<Vec<_>>().join(", ");
                let hint = if list.is_empty() { format!("nothing is known below `{root}` here") } else { format!("there is {list}") };
                self.diagnostics.push(diagnostic(format!("`{root}` is a group of values, not one")).hint(hint));
                return;
            }
            [root, ..] if ROOTS.contains(root) => {
                self.diagnostics.push(diagnostic(format!("there is no value `{read}`")));
                return;
            }
            [root, ..] => {
                // The bare field, as in `branch == "main"`, is the commonest slip.
                let whole: Vec<String> =
                    REF.iter().map(|field| format!("ref.{field}")).chain(COMMIT.map(|field| format!("commit.{field}"))).collect();
                let full = whole.iter().find(|name| name.split_once('.').is_some_and(|(_, field)| field == *root));
                let near = full.map(String::as_str).or_else(|| nearest(root, ROOTS));
                let told = diagnostic(format!("there is no value `{root}`"));
                self.diagnostics.push(match near {
                    Some(near) => told.hint(format!("did you mean `{near}`?")),
                    None => told.hint(format!("a text needs quotes: \"{root}\"; known values are {}", ROOTS.join(", "))),
                });
                return;
            }
            [] => return,
        };
        let (known, root, name, all) = told;
        if !known {
            let message = match root {
                "each" => format!("{} has no axis `{name}`", scope.place),
                "given" => format!("{} follows no pattern with an input `{name}`", scope.place),
                "input" => format!("[starts] has no input `{name}`"),
                "env" => format!("{} has no variable `{name}`", scope.place),
                _ => format!("there is no value `{read}`"),
            };
            let whole: Vec<String> = all.iter().map(|field| format!("{root}.{field}")).collect();
            let whole: Vec<&str> = whole.iter().map(String::as_str).collect();
            self.diagnostics.push(with_known(diagnostic(message), &format!("{root}.{name}"), &whole));
        }
    }
}

fn with_known(diagnostic: Diagnostic, name: &str, known: &[&str]) -> Diagnostic {
    match nearest(name, known.iter().copied()) {
        Some(near) => diagnostic.hint(format!("did you mean `{near}`?")),
        None if known.is_empty() => diagnostic,
        None => diagnostic.hint(format!("there is {}", known.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", "))),
    }
}

/// The numbers that a job's facts are.
fn number_facts(whole: &Whole<'_>) -> Vec<String> {
    let facts = whole.body.extras.iter().flat_map(|extras| &extras.facts).filter(|fact| fact.number);
    facts.map(|fact| format!("fact.{}.{}", whole.job.id(), fact.name)).collect()
}
