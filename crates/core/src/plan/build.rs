//! Resolved names and an occasion → the plan: cells written out, conditions decided, placeholders filled.

use super::cells::{fits, label};
use super::decide::{Decision, decide};
use super::follow::BorrowedFiles;
use super::occasion::{Cause, Occasion};
use super::resolve::{After, File, Graph, only, shared_axes};
use super::scope::Conditions;
use super::settings::Settings;
use super::value::{Plan, PlannedBorrow, PlannedJob, PlannedStage, PlannedTake, VERSION, Wait, WaitOn};
use crate::expression::Values;
use crate::language::{
    At, Cell, CellsOf, Checkout, CheckoutLine, Code, Diagnostic, Env, Extras, GitFiles, Give, GiveLine, Step, StepLine, Take, Upon,
};
use crate::template::{Named, Slot, Template};
use cel::Context;
use indexmap::IndexMap;
use std::collections::HashMap;

/// The most waits that chosen cells may make; all cells of a job are one wait.
const WAIT_LIMIT: usize = 1_000_000;

/// Shared axes' values → the numbers of the cells that have them.
type CellIndex = HashMap<Vec<String>, Vec<usize>>;

/// The plan of a file in which no mistake was found.
pub(super) fn build(
    file: &File<'_>,
    graph: &Graph,
    conditions: &[Conditions],
    borrowed: &BorrowedFiles,
    name: &str,
    occasion: &Occasion,
    diagnostics: &mut Vec<Diagnostic>,
) -> Plan {
    let stages = stage_order(graph);
    let new_stage = inverse(&stages);
    let mut order: Vec<usize> = (0..file.jobs.len()).collect();
    order.sort_by_key(|&job| new_stage[graph.stage_of[job]]);
    let mut first = vec![0; order.len()];
    let mut count = 0;
    for &job in &order {
        first[job] = count;
        count += file.cells[job].len();
    }
    let values = occasion.values();
    let root = values.root();
    let mut build =
        Build { file, graph, new_stage: &new_stage, first, occasion, values, root: &root, indexes: HashMap::new(), picked: 0, diagnostics };
    let mut jobs = Vec::with_capacity(count);
    for &job in &order {
        build.job(job, &conditions[job], &mut jobs);
    }
    let borrowed = file.pipeline.borrows.iter().filter_map(|(name, borrow)| {
        let file = borrowed.get(name)?.as_ref().ok()?;
        Some(PlannedBorrow { name: name.clone(), git: borrow.value.git.clone(), at: borrow.value.at.clone(), commit: file.commit.clone() })
    });
    Plan {
        version: VERSION,
        pipeline: name.to_owned(),
        title: file.pipeline.title.clone(),
        occasion: occasion.clone(),
        stops_at_failure: file.pipeline.stops_at_failure,
        keeps_older: false,
        inputs: IndexMap::new(),
        borrowed: borrowed.collect(),
        stages: stages.iter().map(|&stage| build.stage(stage)).collect(),
        jobs,
    }
}

/// Stages so that none stands before one it waits for; otherwise as first named.
fn stage_order(graph: &Graph) -> Vec<usize> {
    let mut order: Vec<usize> = (0..graph.stages.names.len()).collect();
    order.sort_by_key(|&stage| graph.stages.before[stage].count_ones(..));
    order
}

fn inverse(order: &[usize]) -> Vec<usize> {
    let mut places = vec![0; order.len()];
    for (place, &item) in order.iter().enumerate() {
        places[item] = place;
    }
    places
}

struct Build<'a, 'd> {
    file: &'a File<'a>,
    graph: &'a Graph,
    new_stage: &'a [usize],
    /// For each job of the file the number of its first cell in the plan.
    first: Vec<usize>,
    occasion: &'a Occasion,
    values: Values,
    root: &'a Context<'static, 'static>,
    indexes: HashMap<(usize, usize), CellIndex>,
    picked: usize,
    diagnostics: &'d mut Vec<Diagnostic>,
}

/// What all cells of a job have in common.
struct Common<'a> {
    at: usize,
    steps: Vec<&'a StepLine>,
    env: Vec<&'a Env>,
    /// Nothing in it differs from cell to cell but the cell's own values.
    conditions: &'a Conditions,
}

/// A step, and its condition if that is decided later.
type Wanted<'a> = (&'a StepLine, Option<String>);

impl<'a> Build<'a, '_> {
    fn stage(&self, stage: usize) -> PlannedStage {
        let mut before: Vec<usize> = self.graph.stages.before[stage].ones().map(|earlier| self.new_stage[earlier]).collect();
        before.sort_unstable();
        let name = self.graph.stages.names[stage].clone();
        let rules = self.file.pipeline.stages.get(&name);
        let gate = rules.map(|rules| rules.gate.iter().map(|rule| rule.value.clone()).collect()).unwrap_or_default();
        PlannedStage { name, before, gate }
    }

    fn job(&mut self, at: usize, conditions: &'a Conditions, jobs: &mut Vec<PlannedJob>) {
        let (file, pipeline) = (self.file, self.file.pipeline);
        let body = &*file.jobs[at].body;
        let stage = pipeline.stages.get(&file.jobs[at].job.stage);
        let prepare = body.prepare.as_ref().or(pipeline.defaults.prepare.as_ref());
        let common = Common {
            at,
            steps: prepare.into_iter().chain(&body.steps).flatten().collect(),
            env: [Some(&pipeline.env), Some(&pipeline.defaults.env), stage.map(|stage| &stage.env), Some(&body.env)]
                .into_iter()
                .flatten()
                .collect(),
            conditions,
        };
        let before = jobs.len();
        for (number, cell) in file.cells[at].iter().enumerate() {
            let job = self.cell(&common, number, cell);
            jobs.push(job);
        }
        if let Some(mistake) = super::rollout::roll_out(&mut jobs[before..], before) {
            let span = body.extras.as_ref().and_then(|extras| extras.deploys.as_ref()).map_or(0..0, |deploys| deploys.0.span.clone());
            self.diagnostics
                .push(Diagnostic::error(Code::BadValue, span, mistake).hint("let `deploys` name the cell, as in \"pier-{each.pier}\""));
        }
    }

    fn cell(&mut self, common: &Common<'a>, number: usize, cell: &Cell) -> PlannedJob {
        let (file, at) = (self.file, common.at);
        let (whole, defaults) = (&file.jobs[at], &file.pipeline.defaults);
        let body = &*whole.body;
        let given = self.given(at, cell);
        let settings = Settings::of(body, cell);
        let mut env = self.env(common, &settings, cell, &given);
        let fill = Fill { occasion: self.occasion, cell, given: &given, env: &env };
        let mut texts = Texts { fill: &fill, late: false };
        let decision = self.decided(common, cell, &given, &env);
        let (mut skipped, mut conditions) = (None, Vec::new());
        match decision {
            Decision::Run => {}
            Decision::Skip(why) => skipped = Some(why),
            Decision::Later(sources) => conditions = sources,
        }
        let steps: Vec<(Wanted, IndexMap<String, Template>, Option<Template>)> = self
            .wanted_steps(common, cell, &given, &env)
            .into_iter()
            .map(|wanted| {
                let line = wanted.0;
                (wanted, texts.env(&line.env), line.dir.as_ref().map(|dir| texts.take(dir)))
            })
            .collect();
        let conditional = steps.iter().any(|(step, ..)| step.1.is_some());
        let gives: Vec<(&GiveLine, Vec<Template>)> =
            body.gives.iter().flatten().map(|give| (give, give.paths.iter().map(|path| texts.take(path)).collect())).collect();
        let to: Vec<Option<Template>> = file.takes(at).iter().map(|take| take.value.to.as_ref().map(|to| texts.take(to))).collect();
        let checkout = match body.checkout.as_ref().or(defaults.checkout.as_ref()) {
            Some(CheckoutLine::None) => None,
            Some(CheckoutLine::Files { dir: Some(dir), git }) => Some((texts.take(dir), git.clone())),
            Some(CheckoutLine::Files { dir: None, git }) => Some((Template::of_text("."), git.clone())),
            None => Some((Template::of_text("."), GitFiles::default())),
        };
        let labels = settings.labels.or(body.labels.as_ref()).or_else(|| file.pipeline.stages.get(&whole.job.stage)?.labels.as_ref());
        let labels = labels.or(defaults.labels.as_ref()).into_iter().flatten();
        let labels = labels.filter_map(|label| label.value.fill(|slot| fill.value(slot)).plain()).collect::<Vec<String>>();
        let extras = self.extras(at, &settings, &fill);
        // Who may not push here must not hold up those who may.
        let outside = self.occasion.is_from_outside();
        if outside && skipped.is_none() && extras.as_ref().is_some_and(|extras| extras.turn.is_some()) {
            skipped = Some("skipped: it holds a turn, and a proposal from outside holds none".to_owned());
        }
        if skipped.is_none()
            && let Some(name) = extras.as_ref().and_then(|extras| extras.closes.as_ref())
        {
            // Where there is no proposal its number would be missing from the name.
            let written =
                body.extras.as_ref().and_then(|extras| extras.closes.as_ref()).filter(|_| self.occasion.proposal_number().is_none());
            let name = written.unwrap_or(name).0.value.source();
            skipped = Some(format!("skipped: it is done when {name} is closed"));
        }
        if not_landed(self.occasion) && skipped.is_none() && extras.as_ref().is_some_and(|extras| extras.releases.is_some()) {
            skipped = Some("skipped: what has not landed yet is not released".to_owned());
        }
        let late = texts.late || conditional || env.values().any(|value| value.plain().is_none());
        add_cell(&mut env, cell, &given);
        let text = |template: &Template| if late { template.source() } else { template.plain().unwrap_or_default() };
        let texts = |env: &IndexMap<String, Template>| env.iter().map(|(name, value)| (name.clone(), text(value))).collect();
        let steps = steps.iter().map(|((step, condition), env, dir)| Step {
            name: step.name.clone(),
            run: step.run.clone(),
            env: texts(env),
            dir: dir.as_ref().map(text),
            shell: step.shell.clone(),
            timeout_ms: step.timeout_ms,
            may_fail: step.may_fail,
            condition: condition.clone(),
        });
        let takes: Vec<Option<String>> = to.iter().map(|to| to.as_ref().map(text)).collect();
        let id = whole.job.id();
        let alone = cell.is_empty();
        PlannedJob {
            id: if alone { id } else { id.of_cell(&label(cell)) },
            stage: self.new_stage[self.graph.stage_of[at]],
            name: whole.job.name.clone(),
            cell: cell.clone(),
            skipped,
            given: if conditional || !conditions.is_empty() { given } else { IndexMap::new() },
            conditions,
            steps: steps.collect(),
            labels,
            gives: gives
                .iter()
                .map(|(give, paths)| Give {
                    artifact: give.artifact.clone(),
                    paths: paths.iter().map(text).collect(),
                    none: give.none,
                    keep_ms: give.keep_ms,
                    upon: give.upon.clone(),
                })
                .collect(),
            waits: self.waits(at, number, cell),
            takes: self.takes(at, cell, &takes),
            ordered: self.graph.ordered(file, at),
            upon: upon(body.upon.as_deref()),
            halts_cells: !alone && file.cells[at].len() > 1 && !self.keeps_going(at),
            env: texts(&env),
            late,
            timeout_ms: settings.timeout_ms.or(body.timeout_ms).or(defaults.timeout_ms),
            may_fail: settings.may_fail.or(body.may_fail).or(defaults.may_fail).unwrap_or(false),
            checkout: checkout.map_or(Checkout::None, |(dir, git)| Checkout::Files { dir: text(&dir), git }),
            extras,
        }
    }

    /// Whether other cells go on after one failed.
    fn keeps_going(&self, at: usize) -> bool {
        let body = &self.file.jobs[at].body;
        body.keep_going.unwrap_or(body.at_once != Some(1))
    }

    fn given(&self, at: usize, cell: &Cell) -> IndexMap<String, String> {
        let none = IndexMap::new();
        let fill = Fill { occasion: self.occasion, cell, given: &IndexMap::new(), env: &none };
        let given = self.file.jobs[at].given.iter();
        given.map(|(name, value)| (name.clone(), value.value.fill(|slot| fill.value(slot)).plain().unwrap_or_default())).collect()
    }

    /// The job's variables: the file's, then the defaults', the stage's, its own.
    fn env(
        &self,
        common: &Common<'a>,
        settings: &Settings<'_>,
        cell: &Cell,
        given: &IndexMap<String, String>,
    ) -> IndexMap<String, Template> {
        let none = IndexMap::new();
        let fill = Fill { occasion: self.occasion, cell, given, env: &none };
        let mut all = IndexMap::new();
        for env in common.env.iter().chain(&settings.env) {
            all.extend(env.iter().map(|(name, value)| (name.clone(), value.value.fill(|slot| fill.value(slot)))));
        }
        all
    }

    fn values_of(&self, cell: &Cell, given: &IndexMap<String, String>, env: &IndexMap<String, Template>) -> Values {
        let map = |map: &IndexMap<String, String>| map.iter().map(|(name, value)| (name.clone(), value.clone())).collect();
        let env = env.iter().map(|(name, value)| (name.clone(), value.plain().unwrap_or_else(|| value.source()))).collect();
        Values { each: map(cell), given: map(given), env, ..self.values.clone() }
    }

    fn decided(
        &mut self,
        common: &Common<'a>,
        cell: &Cell,
        given: &IndexMap<String, String>,
        env: &IndexMap<String, Template>,
    ) -> Decision {
        let Conditions { stage, job, .. } = common.conditions;
        if stage.is_none() && job.is_none() {
            return Decision::Run;
        }
        let values = self.values_of(cell, given, env);
        let mut context = self.root.new_inner_scope();
        values.add_own(&mut context);
        let stage_name = &self.file.jobs[common.at].job.stage;
        let named = [(stage, format!("stage {stage_name}'s condition")), (job, "its condition".to_owned())];
        let list: Vec<_> = named.iter().filter_map(|(condition, who)| Some((condition.as_deref()?, who.as_str()))).collect();
        decide(&list, &values, &context, self.diagnostics)
    }

    fn wanted_steps(
        &mut self,
        common: &Common<'a>,
        cell: &Cell,
        given: &IndexMap<String, String>,
        env: &IndexMap<String, Template>,
    ) -> Vec<Wanted<'a>> {
        if common.conditions.steps.is_empty() {
            return common.steps.iter().map(|step| (*step, None)).collect();
        }
        let values = self.values_of(cell, given, env);
        let mut context = self.root.new_inner_scope();
        values.add_own(&mut context);
        let mut wanted = Vec::new();
        for (at, step) in common.steps.iter().enumerate() {
            let decision = match common.conditions.steps.get(&at) {
                Some(condition) => decide(&[(condition, "the step's condition")], &values, &context, self.diagnostics),
                None => Decision::Run,
            };
            match decision {
                Decision::Skip(_) => {}
                Decision::Run => wanted.push((*step, None)),
                Decision::Later(mut sources) => wanted.push((*step, sources.pop())),
            }
        }
        wanted
    }

    fn extras(&self, at: usize, settings: &Settings<'_>, fill: &Fill<'_>) -> Option<Box<crate::language::Extras>> {
        let own = self.file.jobs[at].body.extras.as_deref();
        let mut extras = match (own, self.file.pipeline.defaults.extras.as_deref()) {
            (Some(own), Some(defaults)) => own.clone().over(defaults),
            (Some(extras), None) | (None, Some(extras)) => extras.clone(),
            (None, None) if settings.asks_nothing() => return None,
            (None, None) => Extras::default(),
        };
        settings.put_into(&mut extras);
        for placed in extras.templates() {
            placed.0 = At { value: placed.0.value.fill(|slot| fill.value(slot)), span: 0..0 };
        }
        Some(Box::new(extras))
    }

    /// The numbers of the cells that a take means, as runs of neighbours: (first, count).
    fn chosen(&mut self, at: usize, cell: &Cell, take: &Take, from: usize) -> Vec<(usize, usize)> {
        let (first, theirs) = (self.first[from], &self.file.cells[from]);
        let picked: Vec<usize> = match &take.cells {
            CellsOf::All => return vec![(first, theirs.len())],
            CellsOf::These(values) => (0..theirs.len()).filter(|&number| fits(&theirs[number], values)).collect(),
            CellsOf::Same => {
                let axes = shared_axes(&self.file.cells[at], theirs);
                let index = self.indexes.entry((at, from)).or_insert_with(|| {
                    let mut index = CellIndex::new();
                    for (number, cell) in theirs.iter().enumerate() {
                        index.entry(only(cell, &axes)).or_default().push(number);
                    }
                    index
                });
                index.get(&only(cell, &axes)).cloned().unwrap_or_default()
            }
        };
        let before = self.picked;
        self.picked += picked.len();
        if self.picked > WAIT_LIMIT {
            if before <= WAIT_LIMIT {
                let message = format!("the cells that are taken from make more than {WAIT_LIMIT} waits");
                let span = self.file.takes(at).first().map_or(0..0, |take| take.span.clone());
                self.diagnostics
                    .push(Diagnostic::error(Code::Limit, span, message).hint("take `cells = \"all\"`, or give the jobs fewer cells"));
            }
            return Vec::new();
        }
        picked.into_iter().map(|number| (first + number, 1)).collect()
    }

    fn takes(&mut self, at: usize, cell: &Cell, to: &[Option<String>]) -> Vec<PlannedTake> {
        let (file, graph) = (self.file, self.graph);
        let mut planned = Vec::new();
        for &(place, from) in &graph.takes[at] {
            let take = &file.takes(at)[place].value;
            let chosen = self.chosen(at, cell, take, from);
            let several = chosen.iter().map(|(_, count)| count).sum::<usize>() > 1;
            planned.extend(chosen.into_iter().map(|(job, cells)| PlannedTake {
                job,
                cells,
                artifact: take.artifact.clone(),
                to: to[place].clone(),
                apart: several,
            }));
        }
        planned
    }

    fn waits(&mut self, at: usize, number: usize, cell: &Cell) -> Vec<Wait> {
        let (file, graph) = (self.file, self.graph);
        let mut waits: Vec<Wait> = Vec::new();
        let mut seen = std::collections::HashSet::new();
        let mut add = |wait: Wait| {
            // Most jobs wait for a few: looking at each is quicker than remembering.
            let known = if waits.len() < 16 { waits.iter().any(|known| known.on == wait.on) } else { seen.contains(&wait.on) };
            if !known {
                if waits.len() == 15 {
                    seen.extend(waits.iter().map(|wait| wait.on));
                }
                if waits.len() >= 15 {
                    seen.insert(wait.on);
                }
                waits.push(wait);
            }
        };
        let plain = |on, takes| Wait { on, takes, at_once: false };
        for &(place, from) in &graph.takes[at] {
            for (job, count) in self.chosen(at, cell, &file.takes(at)[place].value, from) {
                add(plain(WaitOn::together(job, count), true));
            }
        }
        for (after, _) in &graph.after[at] {
            let on = match *after {
                After::Job(job) => WaitOn::together(self.first[job], file.cells[job].len()),
                After::Stage(stage) => WaitOn::Stage(self.new_stage[stage]),
            };
            add(plain(on, false));
        }
        // Chains of cells, as many as may run at once: never more than that run, whatever each one takes.
        if let Some(at_once) = file.jobs[at].body.at_once
            && number >= at_once
        {
            add(Wait { on: WaitOn::Job(self.first[at] + number - at_once), takes: false, at_once: true });
        }
        waits
    }
}

fn not_landed(occasion: &Occasion) -> bool {
    matches!(occasion.cause, Cause::Proposal { .. } | Cause::Landing { .. })
}

/// Passed alone is what an empty list means.
fn upon(outcomes: Option<&[Upon]>) -> Vec<Upon> {
    let mut outcomes = outcomes.unwrap_or_default().to_vec();
    outcomes.sort_unstable();
    outcomes.dedup();
    if outcomes == [Upon::Passed] { Vec::new() } else { outcomes }
}

/// `EACH_*` and `GIVEN_*`: the job's own cell, and what its pattern was given.
fn add_cell(env: &mut IndexMap<String, Template>, cell: &Cell, given: &IndexMap<String, String>) {
    let variable = |prefix: &str, name: &str| format!("{prefix}_{}", name.to_uppercase().replace('-', "_"));
    env.extend(cell.iter().map(|(axis, value)| (variable("EACH", axis), Template::of_text(value))));
    env.extend(given.iter().map(|(name, value)| (variable("GIVEN", name), Template::of_text(value))));
}

/// Values of placeholders, as far as they are known when a run is planned.
struct Fill<'a> {
    occasion: &'a Occasion,
    cell: &'a Cell,
    given: &'a IndexMap<String, String>,
    env: &'a IndexMap<String, Template>,
}

impl Fill<'_> {
    fn value(&self, slot: &Slot) -> Option<String> {
        let text = |text: Option<&str>| Some(text.unwrap_or_default().to_owned());
        match slot {
            Slot::Each(name) => self.cell.get(name).cloned(),
            Slot::Given(name) => self.given.get(name).cloned(),
            Slot::Input(name) => text(self.occasion.inputs.get(name).map(String::as_str)),
            Slot::Env(name) => self.env.get(name)?.plain(),
            Slot::Branch => text(self.occasion.branch()),
            Slot::After(Named::Branch, beginning) => text(self.occasion.branch().and_then(|name| name.strip_prefix(beginning))),
            Slot::After(Named::Tag, beginning) => text(self.occasion.tag_name().and_then(|name| name.strip_prefix(beginning))),
            Slot::Tag => text(self.occasion.tag_name()),
            Slot::Commit => self.occasion.commit.clone(),
            Slot::Proposal => text(self.occasion.proposal_number()),
            Slot::Project => self.occasion.project.clone(),
            Slot::Os | Slot::Arch | Slot::Hash(_) | Slot::Fact(..) => None,
        }
    }
}

/// Fills texts and remembers whether one of them must wait for the runner.
struct Texts<'a> {
    fill: &'a Fill<'a>,
    late: bool,
}

impl Texts<'_> {
    fn take(&mut self, at: &At<Template>) -> Template {
        let filled = at.value.fill(|slot| self.fill.value(slot));
        self.late |= filled.plain().is_none();
        filled
    }

    fn env(&mut self, env: &Env) -> IndexMap<String, Template> {
        env.iter().map(|(name, value)| (name.clone(), self.take(value))).collect()
    }
}
