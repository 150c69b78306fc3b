//! Every question the records answer, asked of a real database.

use ordotaxis_core::engine::{Event, Outcome, Run, State};
use ordotaxis_core::plan::{Event as Happened, Lent, Occasion, Plan, Source, plan};
use ordotaxis_store::{
    AttemptRow, Forge, JobRow, Kind, NewRunRow, NewRunner, Project, Records, RunChange, RunKey, RunnerRow, StepRows, StoreError,
    StoredArtifact, ToolRow,
};
use std::os::unix::fs::PermissionsExt;
use std::sync::Arc;
use tempfile::TempDir;

async fn records() -> (TempDir, Records) {
    let folder = tempfile::tempdir().expect("a folder");
    let records = Records::open(folder.path()).await.expect("a database");
    (folder, records)
}

async fn project(records: &Records, name: &str) -> Project {
    let forge = Forge { profile: "practice".into(), url: "http://forge".into(), repository: name.into(), token: Some("t".into()) };
    let project = Project {
        id: 0,
        name: name.into(),
        git_url: format!("http://forge/{name}.git"),
        main_branch: "main".into(),
        hook_secret: "whsec_x".into(),
        forge: Some(forge),
        created_at: 1,
    };
    records.add_project(&project).await.expect("a project");
    records.project(name).await.expect("an answer").expect("the project")
}

fn a_plan() -> Plan {
    let text = "language = 1\norder = \"a > b\"\n[job.a.x]\nsteps = ['true']\n[job.b.y]\nsteps = ['true']\n";
    let occasion = Occasion { event: Happened::Push, branch: Some("main".into()), commit: "c1".into(), ..Occasion::default() };
    let lent = Lent::new();
    plan(Source { text, name: "main", lent: &lent }, &occasion).expect("a plan").plan
}

fn new_run<'a>(project: &Project, commit: &'a str, event: &'a str, plan: Option<&'a Plan>) -> NewRunRow<'a> {
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
        merged: None,
        told_on: commit,
        event,
        started_by: Some("Ines"),
        plan,
        diagnostics: None,
        shared: None,
        inputs: None,
    }
}

async fn begin(records: &Records, run: &NewRunRow<'_>, now: i64) -> Option<RunKey> {
    records.begin_run(run, now, |number| vec![("status", format!("{{\"number\":{number}}}"))]).await.expect("an answer")
}

/// Ends a run that has no open jobs to speak of.
async fn end(records: &Records, id: i64, state: State, now: i64) {
    let rows =
        StepRows { runs: vec![RunChange { id, state, why: None, started: Some(now - 10), ended: Some(now) }], ..StepRows::default() };
    records.write_step(&rows, now).await.expect("a step");
}

#[tokio::test]
async fn the_database_is_for_its_owner_only() {
    let (folder, records) = records().await;
    assert!(records.ready().await);
    let mode = std::fs::metadata(folder.path().join("ordotaxis.db")).expect("the file").permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
}

#[tokio::test]
async fn a_database_of_a_newer_version_is_refused_with_guidance() {
    let (folder, records) = records().await;
    records.close().await;
    let path = folder.path().join("ordotaxis.db");
    let pool = sqlx::SqlitePool::connect(&format!("sqlite:{}", path.display())).await.expect("the database");
    let sql = "INSERT INTO _sqlx_migrations (version, description, success, checksum, execution_time) VALUES (999, 'later', 1, x'00', 0)";
    sqlx::query(sql).execute(&pool).await.expect("a row");
    pool.close().await;
    let error = Records::open(folder.path()).await.err().expect("a refusal");
    assert!(matches!(error, StoreError::Newer), "{error}");
    assert!(error.to_string().contains("newer version"));
}

#[tokio::test]
async fn projects_have_names_of_their_own() {
    let (_folder, records) = records().await;
    let known = project(&records, "tidegauge").await;
    project(&records, "almanac").await;
    assert_eq!(known.forge.as_ref().map(|forge| forge.repository.as_str()), Some("tidegauge"));
    let again = records.add_project(&Project { id: 0, ..known.clone() }).await;
    assert!(matches!(again, Err(StoreError::Exists { .. })));
    let names: Vec<String> = records.projects().await.expect("a list").into_iter().map(|project| project.name).collect();
    assert_eq!(names, ["almanac", "tidegauge"]);
    assert!(records.project_by_id(known.id).await.expect("an answer").is_some());
    assert!(records.remove_project("tidegauge").await.expect("an answer"));
    assert!(!records.remove_project("tidegauge").await.expect("an answer"));
}

#[tokio::test]
async fn keys_are_of_a_kind_and_end() {
    let (_folder, records) = records().await;
    assert!(!records.has_user().await.expect("an answer"));
    records.add_key(Kind::User, "u", "owner", 0, None).await.expect("a key");
    records.add_key(Kind::Code, "c", "owner", 0, Some(100)).await.expect("a key");
    assert!(records.has_user().await.expect("an answer"));
    let owner = |kind, secret: &'static str, now| records.key_owner(kind, secret, now);
    assert_eq!(owner(Kind::User, "u", 5).await.expect("an answer").as_deref(), Some("owner"));
    assert_eq!(owner(Kind::Session, "u", 5).await.expect("an answer"), None);
    assert_eq!(records.use_key(Kind::Code, "c", 100).await.expect("an answer"), None, "it has ended");
    assert_eq!(records.use_key(Kind::Code, "c", 99).await.expect("an answer").as_deref(), Some("owner"));
    assert_eq!(records.use_key(Kind::Code, "c", 99).await.expect("an answer"), None, "it works once");
    records.remove_key(Kind::User, "u").await.expect("an answer");
    assert_eq!(owner(Kind::User, "u", 5).await.expect("an answer"), None);
}

#[tokio::test]
async fn the_first_answer_to_a_keyed_call_stays() {
    let (_folder, records) = records().await;
    records.keep_answer("k", 201, "first", 0).await.expect("kept");
    records.keep_answer("k", 409, "second", 1).await.expect("kept");
    assert_eq!(records.answer("k").await.expect("an answer"), Some((201, "first".into())));
}

#[tokio::test]
async fn occasions_come_once_and_are_due_in_their_time() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    assert!(records.add_occasion(project.id, "d1", "{}", 10).await.expect("an answer"));
    assert!(!records.add_occasion(project.id, "d1", "{}", 11).await.expect("an answer"));
    let due = records.due_occasions(10).await.expect("a list");
    assert_eq!(due.len(), 1);
    records.occasion_again(due[0].id, "away", 50).await.expect("an answer");
    assert!(records.due_occasions(49).await.expect("a list").is_empty());
    assert_eq!(records.next_occasion_at().await.expect("an answer"), Some(50));
    assert_eq!(records.due_occasions(50).await.expect("a list")[0].tries, 1);
    records.occasion_done(due[0].id, "run 1", 51).await.expect("an answer");
    assert_eq!(records.next_occasion_at().await.expect("an answer"), None);
}

#[tokio::test]
async fn a_commit_has_one_run_and_numbers_have_no_gaps() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let plan = a_plan();
    let first = begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 10).await.expect("a run");
    assert_eq!(begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 11).await, None);
    let by_hand = begin(&records, &new_run(&project, "c1", "by_hand", Some(&plan)), 12).await.expect("a run");
    let broken = begin(&records, &new_run(&project, "c2", "push", None), 13).await.expect("a run");
    assert_eq!([first.number, by_hand.number, broken.number], [1, 2, 3]);
    let open: Vec<i64> = records.open_runs().await.expect("a list").into_iter().map(|run| run.number).collect();
    assert_eq!(open, [1, 2], "the broken one has ended at once");
    assert_eq!(records.run_plan(first.id).await.expect("an answer"), Some(plan));
    assert_eq!(records.jobs(first.id).await.expect("a list").len(), 2);
    let listed: Vec<i64> = records.runs(Some("tidegauge"), i64::MAX, 2).await.expect("a list").into_iter().map(|run| run.number).collect();
    assert_eq!(listed, [3, 2]);
    assert_eq!(records.newest_run("tidegauge").await.expect("an answer").map(|run| run.number), Some(3));
    assert!(records.run("tidegauge", 9).await.expect("an answer").is_none());
    assert!(records.run("almanac", 1).await.expect("an answer").is_none());
}

#[tokio::test]
async fn a_step_is_read_back_as_it_was() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let plan = a_plan();
    let key = begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 10).await.expect("a run");
    let mut run = Run::new(Arc::new(plan.clone()), 10);
    run.apply(&Event::Begun, 11).expect("begun");
    run.apply(&Event::Claimed { job: 0, attempt: 1, runner: "quay".into() }, 12).expect("claimed");
    run.apply(&Event::Ended { job: 0, attempt: 1, outcome: Outcome::Failed, exit_code: Some(1), why: Some("it \"broke\"\n".into()) }, 13)
        .expect("ended");
    let attempt = AttemptRow {
        run_id: key.id,
        job: 0,
        number: 1,
        runner: "quay".into(),
        session: "s".into(),
        slot: 0,
        state: "failed".into(),
        why: Some("it broke".into()),
        exit_code: Some(3),
        started_at: 12,
        ended_at: Some(13),
        phases: "[]".into(),
        caches: "[]".into(),
    };
    let artifact = StoredArtifact {
        run_id: key.id,
        job: 0,
        name: "fw".into(),
        digest: "sha256:x".into(),
        bytes: 5,
        files: 1,
        tree: Some("t".into()),
        raw_bytes: 9,
        content: "c".into(),
        kept_until: Some(7),
        pinned_by: None,
    };
    let rows = StepRows {
        jobs: run.jobs().iter().enumerate().map(|(number, job)| JobRow::new(key.id, number, job)).collect(),
        attempts: vec![attempt],
        artifacts: vec![artifact],
        runs: vec![RunChange { id: key.id, state: run.state(), why: Some("so".into()), started: Some(12), ended: Some(13) }],
        journal: vec![(key.id, "{\"n\":1}".into()), (key.id, "{\"n\":2}".into())],
        outbox: vec![(project.id, "c1".into(), "note", "{}".into())],
        ..StepRows::default()
    };
    let journal = records.write_step(&rows, 13).await.expect("a step");
    assert_eq!(journal.len(), 2);
    assert!(journal[0].id < journal[1].id && journal[0].body.contains("1"));
    let jobs: Vec<_> = records.jobs(key.id).await.expect("a list").into_iter().map(|job| job.restore().expect("a job")).collect();
    let restored = Run::restore(Arc::new(plan), jobs, run.state());
    assert_eq!(restored.jobs(), run.jobs());
    assert_eq!(restored.state(), State::Failed);
    assert_eq!(records.attempts(key.id).await.expect("a list")[0].exit_code, Some(3));
    assert_eq!(records.artifacts(key.id).await.expect("a list")[0].digest, "sha256:x");
    assert_eq!(records.first_failed(key.id).await.expect("an answer").map(|job| job.number), Some(0));
    let counts = records.state_counts(&[key.id]).await.expect("a list");
    assert_eq!(counts, [(key.id, "failed".to_owned(), 1), (key.id, "skipped".to_owned(), 1)]);
    assert_eq!(records.journal_after(journal[0].id, 10).await.expect("a list").len(), 1);
    assert_eq!(records.journal_end().await.expect("an answer"), journal[1].id);
    assert!(records.open_runs().await.expect("a list").is_empty());
}

#[tokio::test]
async fn of_each_commit_only_the_oldest_message_is_due() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let message = |commit: &str, kind, body: &str| (project.id, commit.to_owned(), kind, body.to_owned());
    let outbox = vec![message("c1", "status", "1"), message("c1", "status", "2"), message("c1", "note", "3"), message("c2", "status", "4")];
    records.write_step(&StepRows { outbox, ..StepRows::default() }, 10).await.expect("a step");
    let due = |now| {
        let records = records.clone();
        async move { records.due_messages(now).await.expect("a list").into_iter().map(|one| (one.id, one.body)).collect::<Vec<_>>() }
    };
    let first = due(10).await;
    assert_eq!(first.iter().map(|(_, body)| body.as_str()).collect::<Vec<_>>(), ["1", "3", "4"]);
    records.message_again(first[0].0, "refused", 100).await.expect("an answer");
    let second: Vec<String> = due(50).await.into_iter().map(|(_, body)| body).collect();
    assert_eq!(second, ["3", "4"], "the second status waits for the first");
    records.message_sent(first[0].0, 60).await.expect("an answer");
    assert!(due(60).await.iter().any(|(_, body)| body == "2"));
    assert_eq!(records.unsent_messages().await.expect("a count"), 3);
    assert_eq!(records.next_message_at().await.expect("an answer"), Some(10));
}

#[tokio::test]
async fn the_board_knows_since_when_and_by_whom() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let mut ids = Vec::new();
    for (commit, state) in [("c1", State::Passed), ("c2", State::Failed), ("c3", State::Stopped), ("c4", State::Failed)] {
        let plan = a_plan();
        let key = begin(&records, &new_run(&project, commit, "push", Some(&plan)), 10).await.expect("a run");
        end(&records, key.id, state, 100 + key.number).await;
        ids.push(key.id);
    }
    let turned = records.turned(project.id, "main").await.expect("an answer").expect("a verdict");
    assert_eq!((turned.state.as_str(), turned.commit_id.as_str()), ("failed", "c2"), "stopped runs say nothing about the branch");
    assert!(records.turned(project.id, "other").await.expect("an answer").is_none());
    assert_eq!(records.board_runs(project.id, 2).await.expect("a list").len(), 2);
    assert_eq!(records.passed_durations("tidegauge", "main", ids[3]).await.expect("a list"), [10]);
}

#[tokio::test]
async fn runners_are_known_by_their_credential() {
    let (_folder, records) = records().await;
    let runner = NewRunner { name: "quay", credential: "oxr_secret" };
    records.add_runner(&runner, 1).await.expect("a runner");
    assert!(matches!(records.add_runner(&runner, 1).await, Err(StoreError::Exists { .. })));
    assert_eq!(records.runner_by_credential("oxr_secret").await.expect("an answer").as_deref(), Some("quay"));
    assert_eq!(records.runner_by_credential("other").await.expect("an answer"), None);
    let row = RunnerRow {
        name: "quay".into(),
        session: Some("s".into()),
        slots: 4,
        labels: vec!["linux".into()],
        isolation: "host".into(),
        seen_at: Some(9),
        tools: vec![ToolRow { name: "make".into(), version: "4.3".into() }],
        cores: 2,
        memory: 1 << 34,
        draining_by: None,
    };
    records.runner_signed_on(&row, 9).await.expect("an answer");
    assert!(records.set_draining("quay", Some("Odd")).await.expect("an answer"));
    assert!(!records.set_draining("spar", Some("Odd")).await.expect("an answer"));
    let known = records.runners().await.expect("a list").remove(0);
    assert_eq!((known.slots, known.labels, known.seen_at), (4, vec!["linux".to_owned()], Some(9)));
    assert_eq!((known.tools, known.memory, known.draining_by.as_deref()), (row.tools, 1 << 34, Some("Odd")));
}

#[tokio::test]
async fn a_run_once_more_is_a_new_run_of_the_same_commit() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let plan = a_plan();
    let first = begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 10).await.expect("a run");
    assert!(begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 10).await.is_none(), "the same commit has one run");
    let again = records.begin_again(first.id, "Maren", true, 20, |_| Vec::new()).await.expect("an answer").expect("a run");
    let row = records.run("tidegauge", again.number).await.expect("an answer").expect("a run");
    assert_eq!((row.again_of, row.commit_id.as_str(), row.started_by.as_deref()), (Some(first.number), "c1", Some("Maren")));
    let jobs = records.jobs(again.id).await.expect("a list");
    assert_eq!((jobs.len(), jobs[0].fresh), (plan.jobs.len(), true));
    let broken = begin(&records, &new_run(&project, "c2", "push", None), 10).await.expect("a run");
    assert!(records.begin_again(broken.id, "Maren", false, 20, |_| Vec::new()).await.expect("an answer").is_none());
}

#[tokio::test]
async fn secrets_are_kept_by_name() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    records.set_secret(project.id, "KEY", b"one", "Ines", 5).await.expect("an answer");
    records.set_secret(project.id, "KEY", b"two", "Odd", 6).await.expect("an answer");
    let known = records.secrets(project.id).await.expect("a list");
    assert_eq!((known.len(), &known[0].sealed[..], known[0].set_by.as_str()), (1, &b"two"[..], "Odd"));
    assert!(records.remove_secret(project.id, "KEY").await.expect("an answer"));
    assert!(!records.remove_secret(project.id, "KEY").await.expect("an answer"));
}
