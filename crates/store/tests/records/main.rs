//! Every question the records answer, asked of a real database.

/// One change, by a rule.
macro_rules! change {
    ($records:expr, $now:expr, $method:ident($($argument:expr),*)) => {{
        let mut tx = $records.tx_by_rule("a test", $now).await.expect("a change");
        let answer = tx.$method($($argument),*).await;
        if answer.is_ok() {
            tx.commit().await.expect("written");
        }
        answer
    }};
}

mod base;
mod delivery;
mod forges;
mod model;
mod people;
mod pools;
mod releases;
mod runs;
mod tracing;
mod work;

use ordotaxis_core::access::{Limit, Role, Seen};
use ordotaxis_core::dispatch::Taking;
use ordotaxis_core::engine::{Event, Outcome, Run, State};
use ordotaxis_core::plan::{BorrowedFiles, Occasion, Plan, Source, plan};
use ordotaxis_store::{
    AttemptRow, Forge, Granted, Holder, JobRow, Kind, NewEvent, NewResult, NewRunRow, NewSession, NewToken, NewWork, Project, Reach,
    Records, ResultsOf, RunChange, RunEvent, RunKey, RunnerRow, SecretRow, StepRows, StoreError, StoredArtifact, ToolRow, WorkKind,
};
use std::os::unix::fs::PermissionsExt;
use std::sync::Arc;
use tempfile::TempDir;

pub(crate) async fn records() -> (TempDir, Records) {
    let folder = tempfile::tempdir().expect("a folder");
    let records = Records::open(folder.path()).await.expect("a database");
    (folder, records)
}

pub(crate) async fn project(records: &Records, name: &str) -> Project {
    let forge = Forge { profile: "practice".into(), url: "http://forge".into(), repository: name.into() };
    let project = Project {
        id: 0,
        name: name.into(),
        git_url: format!("http://forge/{name}.git"),
        main_branch: "main".into(),
        main_follows: false,
        sealed: None,
        forge: Some(forge),
        outside: "ask".into(),
        seen: Seen::All,
        badge_key: String::new(),
        created_at: 1,
    };
    change!(records, 1, add_project(&project)).expect("a project");
    records.project(name).await.expect("an answer").expect("the project")
}

pub(crate) fn a_plan() -> Plan {
    let text = "language = 1\norder = \"a > b\"\n[job.a.x]\nsteps = ['true']\n[job.b.y]\nsteps = ['true']\n";
    let occasion = Occasion { commit: Some("c1".into()), ..Occasion::push("main") };
    let borrowed = BorrowedFiles::new();
    plan(Source { text, name: "main", borrowed: &borrowed }, &occasion).expect("a plan").plan
}

pub(crate) fn new_run<'a>(project: &Project, commit: &'a str, event: &'a str, plan: Option<&'a Plan>) -> NewRunRow<'a> {
    NewRunRow {
        project_id: project.id,
        pipeline: "main",
        title: None,
        state: if plan.is_some() { State::Waiting } else { State::Failed },
        why: None,
        commit_id: commit,
        commit_title: "A gauge",
        commit_author: "Ines",
        commit_time: 5,
        branch: Some("main"),
        tag: None,
        target: None,
        proposal: None,
        trial: None,
        merged: None,
        event,
        started_by: Some("Ines"),
        plan,
        diagnostics: None,
        shared: None,
        inputs: None,
        held: false,
        unread: None,
        behind: None,
    }
}

pub(crate) async fn begin(records: &Records, run: &NewRunRow<'_>, now: i64) -> Option<RunKey> {
    change!(records, now, begin_run(run)).expect("an answer")
}

/// Ends a run that has no open jobs to speak of.
pub(crate) async fn end(records: &Records, id: i64, state: State, now: i64) {
    let rows = StepRows {
        runs: vec![RunChange { id, state, why: None, started: Some(now - 10), ended: Some(now), rest_ms: 0 }],
        ..StepRows::default()
    };
    change!(records, now, write_step(&rows)).expect("a step");
}
