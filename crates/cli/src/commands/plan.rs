//! `plan`: what would run, without a service and without a runner.

use super::local::OccasionOptions;
use super::{check, local};
use crate::failure::{Done, Failure, OK, failed};
use crate::out;
use crate::written;
use clap::ValueEnum;
use ordotaxis_core::language::{Extras, counted};
use ordotaxis_core::plan::{
    Because, Change, Edge, Occasion, Plan, Planned, Source, WaitOn, compare, dot, edges, plan as make_plan, starts, svg,
};
use ordotaxis_wire::plan::{PlanView, diagnostic_views, foreseen_skips};
use std::path::{Path, PathBuf};

/// `plan`
#[derive(clap::Args)]
pub(crate) struct PlanOptions {
    #[arg(default_value = "ordotaxis.toml")]
    file: PathBuf,
    #[arg(long, value_enum, default_value_t = PlanFormat::Human)]
    format: PlanFormat,
    #[command(flatten)]
    occasion: OccasionOptions,
    /// Show the reason for each wait and skip
    #[arg(long)]
    reasons: bool,
    /// Show what the file changes in the plan, against the one at this commit, branch or tag
    #[arg(long, value_name = "REV")]
    against: Option<String>,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum PlanFormat {
    Human,
    Json,
    Dot,
    Svg,
}

/// Plans with more jobs are counted instead of listed: their edges alone would be gigabytes.
const LISTED_JOBS: usize = 20_000;

pub(super) async fn plan(options: PlanOptions, json: bool) -> Done {
    let PlanOptions { file, format, occasion: options, reasons, against } = options;
    let (file, options, against) = (file.as_path(), &options, against.as_deref());
    let format = if json { PlanFormat::Json } else { format };
    let text = check::read(file)?;
    let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let occasion = local::occasion(options, folder)?;
    let name = file.display().to_string();
    let planned = match made(&text, file, &occasion).await {
        Ok(planned) => planned,
        Err(diagnostics) if format == PlanFormat::Json => {
            out::json(&serde_json::json!({ "diagnostics": diagnostic_views(&name, &text, &diagnostics) }));
            return Ok(failed());
        }
        Err(diagnostics) => {
            check::print(&name, &text, &diagnostics)?;
            return Ok(failed());
        }
    };
    if let Some(revision) = against {
        return changes(file, folder, revision, &planned.plan, format).await;
    }
    let plan = &planned.plan;
    if plan.jobs.len() > LISTED_JOBS {
        out::print(format!(
            "{}, {}: too many to list; at most {LISTED_JOBS} are",
            counted(plan.jobs.len(), "job"),
            counted(plan.stages.len(), "stage")
        ));
        return OK;
    }
    match format {
        PlanFormat::Json => {
            let mut view = PlanView::new(plan);
            view.diagnostics = diagnostic_views(&name, &text, &planned.remarks);
            out::json(&view);
        }
        PlanFormat::Dot => drop(written::bytes(dot(plan).as_bytes())),
        PlanFormat::Svg => drop(written::bytes(svg(plan).as_bytes())),
        PlanFormat::Human => {
            human(plan, reasons);
            remarks(&planned, &occasion);
        }
    }
    OK
}

async fn made(text: &str, file: &Path, occasion: &Occasion) -> Result<Planned, Vec<ordotaxis_core::language::Diagnostic>> {
    let borrowed = local::fetch_borrowed(text).await;
    make_plan(Source { text, name: &pipeline_name(file), borrowed: &borrowed }, occasion)
}

/// `ordotaxis.toml` is `main`; any other file is named by its stem.
pub(super) fn pipeline_name(file: &Path) -> String {
    let stem = file.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    if stem == "ordotaxis" { "main".into() } else { stem }
}

/// What a person should know beside the plan.
fn remarks(planned: &Planned, occasion: &Occasion) {
    if !starts(&planned.starts, occasion) {
        out::print(out::dim(&format!("\n[starts] does not start this pipeline on {}", occasion.words())));
    }
}

fn human(plan: &Plan, reasons: bool) {
    let title = plan.title.as_deref().unwrap_or(&plan.pipeline);
    let facts = format!("{}, {} on {}", counted(plan.jobs.len(), "job"), counted(plan.stages.len(), "stage"), plan.occasion.words());
    out::print(format!("{}  {}", out::bold(title), out::dim(&facts)));
    let (edges, skips) = (edges(plan), foreseen_skips(plan));
    for (number, stage) in plan.stages.iter().enumerate() {
        let before: Vec<&str> = stage.before.iter().map(|&before| plan.stages[before].name.as_str()).collect();
        let mut after = if before.is_empty() { String::new() } else { format!("after {}", before.join(", ")) };
        if !stage.gate.is_empty() {
            let between = if after.is_empty() { "" } else { " · " };
            after = format!(
                "{after}{between}behind a gate: {}",
                stage.gate.iter().map(|rule| format!("{} {}", rule.number, rule.wants)).collect::<Vec<_>>().join(", ")
            );
        }
        out::print(format!("\n{}  {}", out::bold(&stage.name), out::dim(&after)));
        let members: Vec<usize> = (0..plan.jobs.len()).filter(|&job| plan.jobs[job].stage == number).collect();
        let row = |&job: &usize| {
            let said = match &skips[job] {
                Some(_) => format!("{} skipped", out::symbol(ordotaxis_core::engine::State::Skipped)),
                None => summary(plan, job, &edges[job]),
            };
            vec![format!("  {}", plan.jobs[job].id), said]
        };
        let rows: Vec<Vec<String>> = members.iter().map(row).collect();
        for (line, &job) in out::columns(&rows).iter().zip(&members) {
            out::print(if skips[job].is_some() { out::dim(line) } else { line.clone() });
            if reasons {
                skips[job].iter().for_each(|why| out::print(out::dim(&format!("      {why}"))));
                print_reasons(plan, job, &edges[job]);
            }
        }
    }
    if !reasons && skips.iter().any(Option::is_some) {
        out::remark(out::dim("\n--reasons says why each is skipped"));
    }
}

/// What is special about a job, in a few words.
fn summary(plan: &Plan, at: usize, edges: &[Edge]) -> String {
    let job = &plan.jobs[at];
    let mut parts = Vec::new();
    if edges.is_empty() {
        parts.push("starts at once".to_owned());
    }
    parts.extend(job.takes.iter().map(|take| format!("takes {}/{}", together(plan, take.job, take.cells), take.artifact)));
    parts.extend(job.waits.iter().filter(|wait| !wait.takes).map(|wait| match wait.on {
        WaitOn::Job(on) if wait.at_once => format!("then {}", plan.jobs[on].id),
        WaitOn::Job(on) => format!("after {}", plan.jobs[on].id),
        WaitOn::Cells(on, count) => format!("after {}", together(plan, on, count)),
        WaitOn::Stage(on) => format!("after {}", plan.stages[on].name),
    }));
    parts.extend(job.gives.iter().map(|give| format!("gives {}", give.artifact)));
    if !job.upon.is_empty() {
        let outcomes: Vec<String> = job.upon.iter().map(|upon| format!("{upon:?}").to_lowercase()).collect();
        parts.push(format!("upon {}", outcomes.join(", ")));
    }
    if job.may_fail {
        parts.push("may fail".into());
    }
    if !job.labels.is_empty() {
        parts.push(format!("on {}", job.labels.join(", ")));
    }
    if let Some(extras) = &job.extras {
        parts.extend(asked(extras));
    }
    parts.join(" · ")
}

/// What a job asks of its runner, and of people.
fn asked(extras: &Extras) -> Vec<String> {
    let mut parts = Vec::new();
    if extras.by_hand {
        parts.push("started by hand".to_owned());
    }
    if let Some(image) = &extras.image {
        parts.push(format!("in {}", image.0.value.source()));
    }
    if !extras.tools.is_empty() {
        let tools: Vec<String> = extras.tools.iter().map(|(tool, wanted)| format!("{tool} {}", wanted.0.value.source())).collect();
        parts.push(format!("with {}", tools.join(", ")));
    }
    if extras.network == Some(false) {
        parts.push("no network".into());
    }
    if !extras.beside.is_empty() {
        parts.push(format!("beside {}", extras.beside.iter().map(|helper| helper.name.as_str()).collect::<Vec<_>>().join(", ")));
    }
    if let Some(turn) = &extras.turn {
        parts.push(format!("turn {}", turn.0.value.source()));
    }
    if let Some(retry) = &extras.retry {
        parts.push(format!("tried again up to {}", counted(usize::try_from(retry.times).unwrap_or(1), "time")));
    }
    if let Some(deploys) = &extras.deploys {
        parts.push(format!("deploys {}", deploys.0.value.source()));
    }
    if !extras.publish.is_empty() {
        parts.push(format!("publishes {}", extras.publish.iter().map(|one| one.artifact.as_str()).collect::<Vec<_>>().join(", ")));
    }
    parts
}

fn together(plan: &Plan, first: usize, count: usize) -> String {
    match count {
        1 => plan.jobs[first].id.to_string(),
        count => format!("{}[all {count}]", plan.jobs[first].id.without_cell()),
    }
}

/// Every job that is waited for, those with the same reason on one line.
fn print_reasons(plan: &Plan, at: usize, edges: &[Edge]) {
    let mut reasons: Vec<(String, Vec<&str>)> = Vec::new();
    for edge in edges {
        let implied = if edge.implied { " (others imply it)" } else { "" };
        let reason = format!("{}{implied}", reason(plan, at, edge));
        let on = plan.jobs[edge.job].id.as_str();
        match reasons.iter_mut().find(|(known, _)| *known == reason) {
            Some((_, jobs)) => jobs.push(on),
            None => reasons.push((reason, vec![on])),
        }
    }
    for (reason, jobs) in reasons {
        out::print(out::dim(&format!("      waits for {}: {reason}", jobs.join(", "))));
    }
}

fn reason(plan: &Plan, at: usize, edge: &Edge) -> String {
    let on = &plan.jobs[edge.job];
    match edge.because {
        Because::Takes => {
            let from = plan.jobs[at].takes.iter().filter(|take| (take.job..take.job + take.cells).contains(&edge.job));
            format!("takes {}", from.map(|take| take.artifact.as_str()).collect::<Vec<_>>().join(", "))
        }
        Because::After => "`after` says so".into(),
        Because::AtOnce => "only so many cells run at once, in the order written".into(),
        Because::Rollout => "the roll-out reaches it after that one is well".into(),
        Because::Order => {
            let (stage, before) = (&plan.stages[plan.jobs[at].stage].name, &plan.stages[on.stage].name);
            format!("the order puts {before} before {stage}")
        }
    }
}

/// What the file as it is changes in the plan, against the one at a commit.
async fn changes(file: &Path, folder: &Path, revision: &str, after: &Plan, format: PlanFormat) -> Done {
    let name = file.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let spoken = format!("{revision}:./{name}");
    let wrong = |what: String| Failure::new(2, what, "name a commit, branch or tag of this repository that has the file");
    if revision.starts_with('-') {
        return Err(wrong(format!("`{revision}` is not a commit")));
    }
    let old = local::git(folder, &["show", &spoken]).ok_or_else(|| wrong(format!("there is no {name} at {revision}")))?;
    let old = format!("{old}\n");
    let before = match made(&old, file, &after.occasion).await {
        Ok(planned) => planned.plan,
        Err(diagnostics) => {
            check::print(&format!("{name} at {revision}"), &old, &diagnostics)?;
            return Err(Failure::new(1, format!("the file at {revision} cannot be planned"), "compare with a commit where it can"));
        }
    };
    let changes = compare(&before, after);
    if format == PlanFormat::Json {
        out::json(&changes);
        return OK;
    }
    if changes.is_empty() {
        out::print(format!("the plan for {} is the same as at {revision}", after.occasion.words()));
    } else {
        out::print(out::bold(&format!("what changes for {} since {revision}", after.occasion.words())));
        changes.iter().for_each(|change| out::print(spoken_change(change)));
    }
    OK
}

fn spoken_change(change: &Change) -> String {
    match change {
        Change::JobCame { job } => format!("  + {job}"),
        Change::JobGone { job } => format!("  - {job}"),
        Change::WaitCame { job, on } => format!("  + {job} waits for {on}"),
        Change::WaitGone { job, on } => format!("  - {job} no longer waits for {on}"),
        Change::KeyChanged { job, key, before, after } => match (before.as_str(), after.as_str()) {
            ("", after) => format!("  ~ {job}: `{key}` is now {}", out::cut(after, 90)),
            (before, "") => format!("  ~ {job}: `{key}` is gone, was {}", out::cut(before, 90)),
            (before, after) => format!("  ~ {job}: `{key}` was {}\n      and is now {}", out::cut(before, 90), out::cut(after, 90)),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_named_by_its_stem() {
        assert_eq!(pipeline_name(Path::new("x/ordotaxis.toml")), "main");
        assert_eq!(pipeline_name(Path::new("ordotaxis/nightly.toml")), "nightly");
        assert_eq!(Occasion::tag("v1").words(), "the tag v1");
    }
}
