//! `plan`: what would run, without a service and without a runner.

use super::{Done, OK, check, failed};
use crate::options::{EventChoice, PlanFormat};
use crate::out;
use ordotaxis_core::plan::{Because, Edge, Event, Occasion, Plan, WaitOn, dot, edges, plan as make_plan, start_rules, starts};
use ordotaxis_wire::plan::{PlanView, diagnostic_views};
use std::path::Path;

pub(super) fn plan(file: &Path, format: PlanFormat, event: EventChoice, branch: String, reasons: bool, json: bool) -> Done {
    let text = check::read(file)?;
    let event = match event {
        EventChoice::Push => Event::Push,
        EventChoice::ByHand => Event::ByHand,
    };
    let occasion = Occasion { event, branch: Some(branch), commit: String::new(), by: None };
    let name = file.display().to_string();
    let json = json || format == PlanFormat::Json;
    match make_plan(&text, &pipeline_name(file), &occasion) {
        Err(diagnostics) if json => {
            out::json(&serde_json::json!({ "diagnostics": diagnostic_views(&name, &text, &diagnostics) }));
            Ok(failed())
        }
        Err(diagnostics) => {
            check::print(&name, &text, &diagnostics)?;
            Ok(failed())
        }
        Ok(plan) if json => {
            out::json(&PlanView::new(&plan));
            OK
        }
        Ok(plan) if format == PlanFormat::Dot => {
            print!("{}", dot(&plan));
            OK
        }
        Ok(plan) => {
            human(&plan, reasons);
            if !start_rules(&text).is_some_and(|rules| starts(&rules, &occasion)) {
                out::print(out::dim(&format!("\n[starts] does not start this pipeline on {}", occasion_words(&plan))));
            }
            OK
        }
    }
}

/// `ordotaxis.toml` is `main`; any other file is named by its stem.
fn pipeline_name(file: &Path) -> String {
    let stem = file.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    if stem == "ordotaxis" { "main".into() } else { stem }
}

fn occasion_words(plan: &Plan) -> String {
    let branch = plan.occasion.branch.as_deref().unwrap_or_default();
    match plan.occasion.event {
        Event::Push => format!("a push to {branch}"),
        Event::ByHand => format!("a start by hand on {branch}"),
    }
}

fn count(count: usize, what: &str) -> String {
    if count == 1 { format!("1 {what}") } else { format!("{count} {what}s") }
}

fn human(plan: &Plan, reasons: bool) {
    let title = plan.title.as_deref().unwrap_or(&plan.pipeline);
    let facts = format!("{}, {} on {}", count(plan.jobs.len(), "job"), count(plan.stages.len(), "stage"), occasion_words(plan));
    out::print(format!("{}  {}", out::bold(title), out::dim(&facts)));
    let edges = edges(plan);
    for (number, stage) in plan.stages.iter().enumerate() {
        let before: Vec<&str> = stage.before.iter().map(|&before| plan.stages[before].name.as_str()).collect();
        let after = if before.is_empty() { String::new() } else { format!("after {}", before.join(", ")) };
        out::print(format!("\n{}  {}", out::bold(&stage.name), out::dim(&after)));
        let members: Vec<usize> = (0..plan.jobs.len()).filter(|&job| plan.jobs[job].stage == number).collect();
        let rows: Vec<Vec<String>> =
            members.iter().map(|&job| vec![format!("  {}", plan.jobs[job].id), summary(plan, job, &edges[job])]).collect();
        for (line, &job) in out::columns(&rows).iter().zip(&members) {
            out::print(line);
            if reasons {
                print_reasons(plan, job, &edges[job]);
            }
        }
    }
}

/// What is special about a job, in a few words.
fn summary(plan: &Plan, at: usize, edges: &[Edge]) -> String {
    let job = &plan.jobs[at];
    let mut parts = Vec::new();
    if edges.is_empty() {
        parts.push("starts at once".to_owned());
    }
    parts.extend(job.takes.iter().map(|take| format!("takes {}/{}", plan.jobs[take.job].id, take.artifact)));
    parts.extend(job.waits.iter().filter(|wait| !wait.takes).map(|wait| match wait.on {
        WaitOn::Job(on) => format!("after {}", plan.jobs[on].id),
        WaitOn::Stage(on) => format!("after {}", plan.stages[on].name),
    }));
    parts.extend(job.gives.iter().map(|give| format!("gives {}", give.artifact)));
    if job.may_fail {
        parts.push("may fail".into());
    }
    if !job.labels.is_empty() {
        parts.push(format!("on {}", job.labels.join(", ")));
    }
    parts.join(" · ")
}

fn print_reasons(plan: &Plan, at: usize, edges: &[Edge]) {
    for edge in edges {
        let on = &plan.jobs[edge.job];
        let why = match edge.because {
            Because::Takes => {
                let taken: Vec<&str> =
                    plan.jobs[at].takes.iter().filter(|take| take.job == edge.job).map(|take| take.artifact.as_str()).collect();
                format!("takes {}", taken.join(", "))
            }
            Because::After => "`after` says so".into(),
            Because::Order => {
                let (stage, before) = (&plan.stages[plan.jobs[at].stage].name, &plan.stages[on.stage].name);
                format!("the order puts {before} before {stage}")
            }
        };
        let implied = if edge.implied { " (others imply it)" } else { "" };
        out::print(out::dim(&format!("      waits for {}: {why}{implied}", on.id)));
    }
}
