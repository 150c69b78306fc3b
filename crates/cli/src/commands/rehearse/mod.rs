//! `rehearse`: the plan run here. A copy of the working tree becomes a commit in a repository of its own; a private
//! service and a runner in this process run it, so that the engine, the isolation and the steps are the same as
//! anywhere. Nothing is sent or reported anywhere, and afterwards all of it is deleted except what was asked to be kept
//! and what caches hold, for the next rehearsal.
//!
//! - [`ask`]: what is asked of it.
//! - [`folders`]: where it works, and what it leaves.
//! - [`copy`]: the commit.
//! - [`judge`]: whether the jobs would begin.
//! - [`stage`]: the service and the runner.
//! - [`would`]: what a run would have done outside.

mod ask;
mod copy;
mod folders;
mod judge;
mod stage;
mod would;

use super::runners_there::{self, There};
use super::watch as follow;
use super::{as_runner, check, local, plan, signals};
use crate::failure::{Done, Failure, OK, failed};
use crate::global::Global;
use crate::out;
use crate::reference::RunRef;
use crate::written;
pub(super) use ask::RehearseOptions;
use ask::{Ask, Wants};
use copy::Copy;
use folders::Folders;
use ordotaxis_core::language::counted;
use ordotaxis_core::plan::{Occasion, Plan, PlannedJob, Source, plan as make_plan, starts};
use ordotaxis_runner::Isolation;
use ordotaxis_wire::run::RunView;
use stage::Stage;
use std::path::{Path, PathBuf};
use tokio::sync::watch;

pub(super) async fn rehearse(options: RehearseOptions, global: &Global, mounts: bool) -> Done {
    let ask = Ask { options, mounts, json: global.json };
    let root = root();
    let file = if ask.pipeline == "main" { root.join("ordotaxis.toml") } else { root.join(format!("ordotaxis/{}.toml", ask.pipeline)) };
    let text = check::read(&file)?;
    let occasion = Occasion { only: ask.jobs.clone(), ..local::occasion(&ask.occasion, &root)? };
    // Before there is anything to take away: whoever interrupts now leaves nothing either.
    let signals = signals::count(signals::ENDS)?;
    let folders = Folders::open(&root, ask.fresh).await?;
    let copy = Copy::of(&root, folders.live(), &occasion)?;
    let occasion = occasion_of(occasion, &copy, &ask);
    let done = tokio::select! {
        done = plan_and_play(&ask, global, (&root, &file, &text), (&folders, &copy), occasion, signals.clone()) => done,
        // Asked twice: nothing is waited for any more.
        () = signals::reaches(signals, 2) => Err(Failure::interrupted()),
    };
    folders.close();
    done
}

fn occasion_of(occasion: Occasion, copy: &Copy, ask: &Ask) -> Occasion {
    let changed = if ask.only_changed { Some(copy.changed.clone().unwrap_or_default()) } else { occasion.changed };
    let by = Some(occasion.author.clone().unwrap_or_else(|| "you".into()));
    Occasion { changed, project: Some(copy.project.clone()), by, ..occasion }
}

async fn plan_and_play(
    ask: &Ask,
    global: &Global,
    (root, file, text): (&Path, &Path, &str),
    (folders, copy): (&Folders, &Copy),
    occasion: Occasion,
    signals: watch::Receiver<u32>,
) -> Done {
    let Some(wants) = planned(file, text, &occasion).await? else { return Ok(failed()) };
    let isolation = isolation(ask, &wants)?;
    let there = runners_there::there(global, root).await;
    if !ask.json && !out::quiet() {
        announce(ask, &occasion, copy, isolation);
    }
    let mut stage = Stage::raise(folders, occasion.clone(), ask.anyway).await?;
    let played = tokio::select! {
        played = play(&mut stage, ask, (folders, copy), &wants, &there, isolation) => played,
        () = signals::reaches(signals, 1) => Err(Failure::interrupted()),
        () = written::broken() => OK,
    };
    stage.end_runner().await;
    let kept = keep(&stage, ask, copy).await;
    stage.close().await;
    let done = played?;
    kept?;
    Ok(done)
}

async fn play(
    stage: &mut Stage,
    ask: &Ask,
    (folders, copy): (&Folders, &Copy),
    wants: &Wants,
    there: &There,
    isolation: Isolation,
) -> Done {
    let runner = stage.start_runner(folders, ask, wants, isolation).await?;
    if !ask.anyway {
        let judged = judge::judge(&wants.plan, &wants.plan.occasion, &runners_there::offer(&runner), there);
        if !ask.json {
            judged.remarks.iter().for_each(|remark| out::remark(out::dim(remark)));
        }
        refuse(&judged.stuck)?;
    }
    let run = stage.begin(copy, ask, wants).await?;
    let inputs = local::inputs(&ask.occasion.input)?.into_iter().collect();
    let mut by_hand = named_by_hand(&wants.plan, &ask.jobs);
    let (view, done) = loop {
        // What stands behind a gate can be started only once that is open.
        let before = by_hand.len();
        let left = stage.start(&run, by_hand, &inputs).await;
        let ended = follow::watch_here(&stage.api, &RunRef::numbered(&run.project, run.number), ask.json).await?;
        if left.is_empty() || left.len() == before {
            left.iter().for_each(|(job, why)| out::remark(format!("{job} was not started: {why}")));
            break ended;
        }
        by_hand = left.into_iter().map(|(job, _)| job).collect();
    };
    let project = if let There::Known(known) = there { known.project.as_deref() } else { None };
    let would = would::would(&wants.plan, &view, project);
    if ask.json {
        out::json(&Rehearsed { run: view, would });
    } else {
        say(&would);
    }
    Ok(done)
}

/// Jobs that could not begin: they are not begun, unless that was asked for.
fn refuse(stuck: &[String]) -> Result<(), Failure> {
    if stuck.is_empty() {
        return Ok(());
    }
    let what = format!("{} would not begin\n  {}", counted(stuck.len(), "job"), stuck.join("\n  "));
    Err(Failure::new(1, what, "rehearse other jobs by name, or add --anyway: all run here, without what is missing"))
}

/// Of the jobs that were named, those that start by hand only: naming one starts it.
fn named_by_hand(plan: &Plan, named: &[String]) -> Vec<String> {
    let is_named = |job: &&PlannedJob| {
        let names = [job.id.as_str(), job.id.without_cell(), plan.stages[job.stage].name.as_str()];
        named.iter().any(|name| names.contains(&name.as_str()))
    };
    let by_hand = plan.jobs.iter().filter(|job| job.skipped.is_none() && job.extras.as_ref().is_some_and(|extras| extras.by_hand));
    by_hand.filter(is_named).map(|job| job.id.to_string()).collect()
}

/// What is printed as JSON: the run, and beside its own fields `would`.
#[derive(serde::Serialize)]
struct Rehearsed {
    #[serde(flatten)]
    run: RunView,
    /// What a run would have done outside, a line each.
    would: Vec<String>,
}

fn say(lines: &[String]) {
    if lines.is_empty() || out::quiet() {
        return;
    }
    out::print(out::dim("\nnot done in a rehearsal"));
    lines.iter().for_each(|line| out::print(format!("  {line}")));
}

/// Artifacts and logs, as far as there are any, however the run ended.
async fn keep(stage: &Stage, ask: &Ask, copy: &Copy) -> Result<(), Failure> {
    let Some(keep) = &ask.keep else { return Ok(()) };
    match stage.api.run(&RunRef::numbered(&copy.project, 1)).await {
        Ok(run) => stage.keep(&run, keep).await,
        // It ended before there was a run.
        Err(_) => Ok(()),
    }
}

/// As chosen; else with containers where jobs run in images and they can be made here, and as everywhere otherwise.
fn isolation(ask: &Ask, wants: &Wants) -> Result<Isolation, Failure> {
    if ask.isolation.is_none() && wants.images && Isolation::container_works() {
        return Ok(Isolation::Container);
    }
    as_runner::isolation(ask.isolation)
}

/// The folder that is rehearsed: this one when it has pipelines, else the top of its repository.
fn root() -> PathBuf {
    let here = PathBuf::from(".");
    match local::git(&here, &["rev-parse", "--show-toplevel"]) {
        Some(top) if !here.join("ordotaxis.toml").exists() && !here.join("ordotaxis").is_dir() => PathBuf::from(top),
        _ => here,
    }
}

/// Plans once before anything is raised: mistakes cost nothing.
async fn planned(file: &Path, text: &str, occasion: &Occasion) -> Result<Option<Wants>, Failure> {
    let name = file.display().to_string();
    let borrowed = local::fetch_borrowed(text).await;
    let plan = match make_plan(Source { text, name: &plan::pipeline_name(file), borrowed: &borrowed }, occasion) {
        Ok(planned) if !starts(&planned.starts, occasion) => {
            let what = format!("[starts] does not start this pipeline on {}", occasion.words());
            return Err(Failure::new(2, what, "play another occasion, such as --event by_hand"));
        }
        Ok(planned) => planned.plan,
        Err(diagnostics) => {
            check::print(&name, text, &diagnostics)?;
            return Ok(None);
        }
    };
    let extras = || plan.jobs.iter().filter(|job| job.skipped.is_none()).filter_map(|job| job.extras.as_ref());
    let secrets = extras().flat_map(|extras| extras.secrets.clone()).collect();
    let connections = extras().flat_map(|extras| extras.connections.clone()).collect();
    let images = extras().any(|extras| extras.image.is_some());
    let labels = plan.jobs.iter().flat_map(|job| job.labels.clone()).collect();
    Ok(Some(Wants { labels, secrets, connections, images, plan }))
}

fn announce(ask: &Ask, occasion: &Occasion, copy: &Copy, isolation: Isolation) {
    let changes = match &copy.changed {
        None => "not under git".to_owned(),
        Some(changed) if changed.is_empty() => "as committed".to_owned(),
        Some(changed) => format!("with {}", counted(changed.len(), "uncommitted change")),
    };
    let what = if ask.jobs.is_empty() { ask.pipeline.clone() } else { format!("{} and what it takes", ask.jobs.join(", ")) };
    out::print(out::dim(&format!(
        "rehearses {what} for {}, in a copy of this folder ({changes}), isolation {}",
        occasion.words(),
        isolation.word()
    )));
}
