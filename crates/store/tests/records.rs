//! Every question the records answer, asked of a real database.

use ordotaxis_core::access::{Limit, Role, Seen};
use ordotaxis_core::dispatch::Taking;
use ordotaxis_core::engine::{Event, Outcome, Run, State};
use ordotaxis_core::plan::{Lent, Occasion, Plan, Source, plan};
use ordotaxis_store::{
    AttemptRow, Forge, Granted, Holder, JobRow, Kind, NewEvent, NewResult, NewRunRow, NewSession, NewToken, NewWork, Project, Reach,
    Records, ResultsOf, RunChange, RunEvent, RunKey, RunnerRow, SecretRow, StepRows, StoreError, StoredArtifact, ToolRow, WorkKind,
};
use std::os::unix::fs::PermissionsExt;
use std::sync::Arc;
use tempfile::TempDir;

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

async fn records() -> (TempDir, Records) {
    let folder = tempfile::tempdir().expect("a folder");
    let records = Records::open(folder.path()).await.expect("a database");
    (folder, records)
}

async fn project(records: &Records, name: &str) -> Project {
    let forge = Forge { profile: "practice".into(), url: "http://forge".into(), repository: name.into() };
    let project = Project {
        id: 0,
        name: name.into(),
        git_url: format!("http://forge/{name}.git"),
        main_branch: "main".into(),
        sealed: None,
        forge: Some(forge),
        outside: "ask".into(),
        seen: Seen::All,
        created_at: 1,
    };
    change!(records, 1, add_project(&project)).expect("a project");
    records.project(name).await.expect("an answer").expect("the project")
}

fn a_plan() -> Plan {
    let text = "language = 1\norder = \"a > b\"\n[job.a.x]\nsteps = ['true']\n[job.b.y]\nsteps = ['true']\n";
    let occasion = Occasion { commit: Some("c1".into()), ..Occasion::push("main") };
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

async fn begin(records: &Records, run: &NewRunRow<'_>, now: i64) -> Option<RunKey> {
    change!(records, now, begin_run(run)).expect("an answer")
}

/// Ends a run that has no open jobs to speak of.
async fn end(records: &Records, id: i64, state: State, now: i64) {
    let rows = StepRows {
        runs: vec![RunChange { id, state, why: None, started: Some(now - 10), ended: Some(now), rest_ms: 0 }],
        ..StepRows::default()
    };
    change!(records, now, write_step(&rows)).expect("a step");
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
    let again = change!(records, 1, add_project(&Project { id: 0, ..known.clone() }));
    assert!(matches!(again, Err(StoreError::Exists { .. })));
    let names: Vec<String> = records.projects().await.expect("a list").into_iter().map(|project| project.name).collect();
    assert_eq!(names, ["almanac", "tidegauge"]);
    assert!(records.project_by_id(known.id).await.expect("an answer").is_some());
    assert!(change!(records, 1, remove_project("tidegauge")).expect("an answer"));
    assert!(!change!(records, 1, remove_project("tidegauge")).expect("an answer"));
}

#[tokio::test]
async fn keys_work_once_and_end() {
    let (_folder, records) = records().await;
    change!(records, 0, add_key(Kind::Code, "c", "owner", Some(100))).expect("a key");
    assert_eq!(change!(records, 100, use_key(Kind::Code, "c")).expect("an answer"), None, "it has ended");
    assert_eq!(change!(records, 99, use_key(Kind::Invitation, "c")).expect("an answer"), None, "of another kind");
    assert_eq!(change!(records, 99, use_key(Kind::Code, "c")).expect("an answer").as_deref(), Some("owner"));
    assert_eq!(change!(records, 99, use_key(Kind::Code, "c")).expect("an answer"), None, "it works once");
}

#[tokio::test]
async fn the_first_answer_to_a_keyed_call_stays() {
    let (_folder, records) = records().await;
    change!(records, 0, keep_answer("k", "body", 201, Some("first"))).expect("kept");
    change!(records, 1, keep_answer("k", "other", 409, None)).expect("kept");
    assert_eq!(records.answer("k").await.expect("an answer"), Some((201, "body".into(), Some("first".into()))));
}

fn occasion(project: &Project, delivery: &str) -> NewWork {
    NewWork { kind: WorkKind::Occasion, project_id: project.id, lane: String::new(), once: Some(delivery.into()), body: "{}".into() }
}

#[tokio::test]
async fn occasions_come_once_and_are_due_in_their_time() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let add = async |delivery: &str, now| change!(records, now, add_work(&occasion(&project, delivery))).expect("an answer");
    let due_at = async |now| records.due_work(WorkKind::Occasion, now, 1).await.expect("a list");
    assert!(add("d1", 10).await);
    assert!(!add("d1", 11).await);
    let due = due_at(10).await;
    assert_eq!(due.len(), 1);
    change!(records, 11, work_failed(due[0].id, "away", 50)).expect("an answer");
    assert!(due_at(49).await.is_empty());
    assert_eq!(records.next_work_at(49).await.expect("an answer"), Some(50));
    assert_eq!(records.next_work_at(50).await.expect("an answer"), None, "due already");
    assert_eq!(records.troubles().await.expect("an answer"), [(project.id, "away".to_owned())]);
    assert_eq!(due_at(50).await[0].tries, 1);
    assert!(add("d2", 20).await);
    assert_eq!(due_at(49).await.len(), 1, "one that waits for another try keeps none behind it waiting");
    change!(records, 51, work_done(due_at(49).await[0].id, Some("run 1"))).expect("an answer");
    change!(records, 51, work_done(due[0].id, Some("run 1"))).expect("an answer");
    assert_eq!(records.next_work_at(0).await.expect("an answer"), None);
    assert!(records.troubles().await.expect("an answer").is_empty());
    assert!(!add("d1", 52).await, "it came before, and was worked off");
    change!(records, 53, work_given_up(due[0].id, "away for long")).expect("an answer");
    assert!(add("d1", 60).await, "told again, it is tried again");
    let again = due_at(60).await;
    assert_eq!((again[0].id, again[0].tries), (due[0].id, 0));
    assert!(add("d3", 60).await);
    assert_eq!(due_at(60).await.len(), 1, "one of a project at a time");
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
    let listed: Vec<i64> =
        records.runs(Some("tidegauge"), &[], i64::MAX, 2).await.expect("a list").into_iter().map(|run| run.number).collect();
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
    let told = RunEvent {
        project_id: project.id,
        run: "tidegauge/1".into(),
        pipeline: "main".into(),
        state: State::Failed,
        sentence: "Failed".into(),
        branch: None,
        told_on: "c1".into(),
        started_at: Some(12),
        ended_at: Some(13),
    };
    let rows = StepRows {
        jobs: run.jobs().iter().enumerate().map(|(number, job)| JobRow::new(key.id, number, job)).collect(),
        attempts: vec![attempt],
        artifacts: vec![artifact],
        runs: vec![RunChange { id: key.id, state: run.state(), why: Some("so".into()), started: Some(12), ended: Some(13), rest_ms: 0 }],
        events: vec![
            NewEvent { run_id: key.id, body: "{\"n\":1}".into(), detail: None },
            NewEvent { run_id: key.id, body: "{\"n\":2}".into(), detail: Some(told.clone()) },
        ],
        ..StepRows::default()
    };
    let newest = records.newest_event();
    change!(records, 13, write_step(&rows)).expect("a step");
    let events = records.events_after(0, 10).await.expect("a list");
    assert_eq!(events.len(), 2);
    assert!(events[0].id < events[1].id && events[0].body.contains("1"));
    assert_eq!(*newest.borrow(), events[1].id, "whoever waits is told");
    assert_eq!(records.run_events_after(0, 10).await.expect("a list"), [(events[1].id, key.id, told)], "only what the run itself did");
    let jobs: Vec<_> = records.jobs(key.id).await.expect("a list").into_iter().map(|job| job.restore().expect("a job")).collect();
    let restored = Run::restore(Arc::new(plan), jobs, run.state());
    assert_eq!(restored.jobs(), run.jobs());
    assert_eq!(restored.state(), State::Failed);
    assert_eq!(records.attempts(key.id).await.expect("a list")[0].exit_code, Some(3));
    assert_eq!(records.artifacts(key.id).await.expect("a list")[0].digest, "sha256:x");
    assert_eq!(records.first_failed(key.id).await.expect("an answer").map(|job| job.number), Some(0));
    let counts = records.state_counts(&[key.id]).await.expect("a list");
    assert_eq!(counts, [(key.id, "failed".to_owned(), 1), (key.id, "skipped".to_owned(), 1)]);
    assert_eq!(records.events_after(events[0].id, 10).await.expect("a list").len(), 1);
    assert_eq!(records.event_end().await.expect("an answer"), events[1].id);
    assert!(records.open_runs().await.expect("a list").is_empty());
}

fn message(project: &Project, commit: &str, kind: WorkKind, body: &str) -> NewWork {
    NewWork { kind, project_id: project.id, lane: commit.into(), once: None, body: body.into() }
}

#[tokio::test]
async fn of_each_commit_only_the_oldest_message_is_due() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    for (commit, kind, body) in
        [("c1", WorkKind::Status, "1"), ("c1", WorkKind::Status, "2"), ("c1", WorkKind::Note, "3"), ("c2", WorkKind::Status, "4")]
    {
        change!(records, 10, add_work(&message(&project, commit, kind, body))).expect("an answer");
    }
    let due = async |now| {
        let mut due = Vec::new();
        for kind in WorkKind::ALL {
            due.extend(records.due_work(kind, now, 8).await.expect("a list").into_iter().map(|one| (one.id, one.body)));
        }
        due.sort();
        due
    };
    let first = due(10).await;
    assert_eq!(first.iter().map(|(_, body)| body.as_str()).collect::<Vec<_>>(), ["1", "3", "4"]);
    change!(records, 11, work_failed(first[0].0, "refused", 100)).expect("an answer");
    let second: Vec<String> = due(50).await.into_iter().map(|(_, body)| body).collect();
    assert_eq!(second, ["3", "4"], "the second status waits for the first");
    change!(records, 60, work_done(first[0].0, None)).expect("an answer");
    assert!(due(60).await.iter().any(|(_, body)| body == "2"));
    assert_eq!(records.unsent_messages().await.expect("a count"), 3);
    assert_eq!(records.next_work_at(0).await.expect("an answer"), Some(10));
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
    let quiet = self::project(&records, "almanac").await;
    let turned = records.turned(&[project.id, quiet.id]).await.expect("an answer");
    let verdicts: Vec<_> = turned.iter().map(|row| (row.project_id, row.state.as_str(), row.commit_id.as_str())).collect();
    assert_eq!(verdicts, [(project.id, "failed", "c2")], "stopped runs say nothing about the branch");
    let strip = records.board_runs(&[quiet.id, project.id], 2).await.expect("a list");
    assert_eq!(strip.iter().map(|row| row.id).collect::<Vec<_>>(), [ids[3], ids[2]], "the newest first");
    let past = records.passed_durations(&ids).await.expect("a list");
    assert_eq!((past.get(&ids[0]), past.get(&ids[3])), (None, Some(&vec![10])), "only what was before counts");
    assert_eq!(records.runs_by_id(&[ids[2], 99, ids[0]]).await.expect("a list").len(), 2);
    end(&records, ids[2], State::Passed, 500).await;
    let turned = records.turned(&[project.id]).await.expect("an answer");
    assert_eq!(turned[0].commit_id, "c4", "it passed in between");
}

#[tokio::test]
async fn runners_are_known_by_their_credential() {
    let (_folder, records) = records().await;
    let granted = Granted { labels: vec!["usb".into()], projects: Some(vec!["tidegauge".into()]), outside: Taking::Only };
    for token in ["one", "two"] {
        change!(records, 0, add_invitation(token, "Ines", &granted, 100)).expect("an invitation");
    }
    assert_eq!(records.invitation("one", 100).await.expect("an answer"), None, "past its time");
    let found = records.invitation("one", 99).await.expect("an answer").expect("the invitation");
    assert_eq!(found, granted);
    assert!(change!(records, 1, enrol("one", "quay", "oxr_secret", &found)).expect("an answer"));
    assert!(!change!(records, 1, enrol("one", "spar", "oxr_other", &found)).expect("an answer"), "it works once");
    assert!(matches!(change!(records, 1, enrol("two", "quay", "oxr_other", &found)), Err(StoreError::Exists { .. })));
    assert!(records.invitation("two", 99).await.expect("an answer").is_some(), "a name that is taken uses nothing up");
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
        granted: Granted::default(),
        fence: "bars".into(),
    };
    change!(records, 9, runner_signed_on(&row)).expect("an answer");
    assert!(change!(records, 1, set_draining("quay", Some("Odd"))).expect("an answer"));
    assert!(!change!(records, 1, set_draining("spar", Some("Odd"))).expect("an answer"));
    let known = records.runners().await.expect("a list").remove(0);
    assert_eq!((known.slots, known.labels, known.seen_at), (4, vec!["linux".to_owned()], Some(9)));
    assert_eq!((known.tools, known.memory, known.draining_by.as_deref()), (row.tools, 1 << 34, Some("Odd")));
    assert_eq!((known.granted, known.fence.as_str()), (granted, "bars"), "what it says of itself changes nothing of what it may have");
    assert!(change!(records, 1, set_granted("quay", &Granted::default())).expect("an answer"));
    assert_eq!(records.runners().await.expect("a list")[0].granted, Granted::default());
    assert!(change!(records, 1, remove_runner("quay")).expect("an answer"));
    assert_eq!(records.runner_by_credential("oxr_secret").await.expect("an answer"), None);
}

#[tokio::test]
async fn a_run_once_more_is_a_new_run_of_the_same_commit() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let plan = a_plan();
    let first = begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 10).await.expect("a run");
    assert!(begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 10).await.is_none(), "the same commit has one run");
    let again = change!(records, 20, begin_again(first.id, "Maren", true)).expect("an answer").expect("a run");
    let row = records.run("tidegauge", again.number).await.expect("an answer").expect("a run");
    assert_eq!((row.again_of, row.commit_id.as_str(), row.started_by.as_deref()), (Some(first.number), "c1", Some("Maren")));
    let jobs = records.jobs(again.id).await.expect("a list");
    assert_eq!((jobs.len(), jobs[0].fresh), (plan.jobs.len(), true));
    let broken = begin(&records, &new_run(&project, "c2", "push", None), 10).await.expect("a run");
    assert!(change!(records, 20, begin_again(broken.id, "Maren", false)).expect("an answer").is_none());
}

#[tokio::test]
async fn secrets_are_kept_by_name() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let row =
        |sealed: &[u8], by: &str, reach| SecretRow { name: "KEY".into(), sealed: sealed.to_vec(), set_by: by.into(), set_at: 5, reach };
    change!(records, 1, set_secret(project.id, &row(b"one", "Ines", Reach::default()))).expect("an answer");
    let reach = Reach { branches: Some(vec!["topic/*".into()]), tags: None, pipelines: Some(vec!["ship".into()]) };
    change!(records, 1, set_secret(project.id, &row(b"two", "Odd", reach.clone()))).expect("an answer");
    let known = records.secrets(project.id).await.expect("a list");
    assert_eq!(known[0].reach, reach);
    assert_eq!((known.len(), &known[0].sealed[..], known[0].set_by.as_str()), (1, &b"two"[..], "Odd"));
    assert!(change!(records, 1, remove_secret(project.id, "KEY")).expect("an answer"));
    assert!(!change!(records, 1, remove_secret(project.id, "KEY")).expect("an answer"));
}

/// Whatever is removed and added, in whichever order: no number comes back, so nothing of what was is taken for what is.
#[tokio::test]
async fn no_number_is_given_twice() {
    let (_folder, records) = records().await;
    let plan = a_plan();
    let (mut projects, mut runs) = (std::collections::BTreeSet::new(), std::collections::BTreeSet::new());
    let orders = [["a", "b", "c"], ["a", "c", "b"], ["b", "a", "c"], ["b", "c", "a"], ["c", "a", "b"], ["c", "b", "a"]];
    for (round, order) in orders.into_iter().enumerate() {
        for name in ["a", "b", "c"] {
            let made = project(&records, name).await;
            assert!(projects.insert(made.id), "project {} again", made.id);
            for commit in ["c1", "c2"] {
                let key = begin(&records, &new_run(&made, commit, "push", Some(&plan)), 10).await.expect("a run");
                assert!(runs.insert(key.id), "run {} again", key.id);
                let again = change!(records, 10, begin_again(key.id, "Odd", false)).expect("an answer").expect("a run");
                assert!(runs.insert(again.id), "run {} again", again.id);
            }
            let of = ResultsOf {
                project_id: made.id,
                pipeline: "main",
                run_id: *runs.last().expect("a run"),
                job: "a.x",
                job_number: 0,
                attempt: 1,
            };
            let case = |n: usize| NewResult {
                suite: "s".into(),
                name: format!("{round} {n}"),
                ended: "failed",
                wavered: false,
                ms: None,
                file: None,
                line: None,
                message: None,
            };
            change!(records, 1, add_results(&of, &(0..3).map(case).collect::<Vec<_>>())).expect("results");
            change!(records, 1, add_results(&of, &(1..5).map(case).collect::<Vec<_>>())).expect("results");
            assert_eq!(records.results(of.run_id, None).await.expect("a list").len(), 5);
        }
        for name in order {
            assert!(change!(records, 1, remove_project(name)).expect("an answer"));
        }
        assert!(records.open_runs().await.expect("a list").is_empty());
    }
}

/// What versions before kept in the clear is found, and gone once it is sealed.
#[tokio::test]
async fn what_lay_in_the_clear_is_sealed_once() {
    let (folder, records) = records().await;
    let id = project(&records, "tidegauge").await.id;
    records.close().await;
    let options = sqlx::sqlite::SqliteConnectOptions::new().filename(folder.path().join("ordotaxis.db"));
    let old = sqlx::SqlitePool::connect_with(options).await.expect("the database");
    let sql = "UPDATE projects SET hook_secret = 'whsec_old', forge = json_set(forge, '$.token', 'token-old')";
    sqlx::query(sql).execute(&old).await.expect("as it was");
    old.close().await;
    let records = Records::open(folder.path()).await.expect("a database");
    let found = records.unsealed_projects().await.expect("a list");
    assert_eq!((found.len(), found[0].hook_secret.as_str(), found[0].token.as_deref()), (1, "whsec_old", Some("token-old")));
    change!(records, 1, seal_project(id, b"sealed")).expect("an answer");
    assert!(records.unsealed_projects().await.expect("a list").is_empty());
    let known = records.project("tidegauge").await.expect("an answer").expect("the project");
    assert_eq!((known.sealed.as_deref(), known.forge.expect("a forge").repository), (Some(&b"sealed"[..]), "tidegauge".to_owned()));
    records.close().await;
    let bytes = std::fs::read(folder.path().join("ordotaxis.db")).expect("the file");
    let holds = |text: &str| bytes.windows(text.len()).any(|part| part == text.as_bytes());
    assert!(!holds("whsec_old") && !holds("token-old"), "it lies in the file still");
}

#[tokio::test]
async fn work_that_is_given_up_makes_way_and_can_be_tried_again() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    for _ in 0..2 {
        change!(records, 10, add_work(&message(&project, "c1", WorkKind::Status, "{}"))).expect("an answer");
    }
    let due = async |now| records.due_work(WorkKind::Status, now, 8).await.expect("a list").remove(0);
    let first = due(20).await;
    change!(records, 21, work_given_up(first.id, "the forge answered 404")).expect("an answer");
    assert!(due(22).await.id > first.id);
    let told = records.troubled_work().await.expect("a list");
    assert_eq!((told.len(), told[0].state.as_str(), told[0].said.as_deref()), (1, "given up", Some("the forge answered 404")));
    let of = change!(records, 30, work_again(first.id)).expect("an answer");
    assert_eq!(of, Some(("tidegauge".into(), "status".into())));
    assert_eq!(change!(records, 30, work_again(first.id)).expect("an answer"), None, "it is on its way");
    assert_eq!(due(30).await.id, first.id, "in its old place");
}

/// A reaction goes on from where it was, and what is dropped by age was read by all of them.
#[tokio::test]
async fn events_are_kept_until_every_reaction_has_read_them() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let plan = a_plan();
    let key = begin(&records, &new_run(&project, "c1", "push", Some(&plan)), 10).await.expect("a run");
    let event = |n: i64| NewEvent { run_id: key.id, body: n.to_string(), detail: None };
    for n in 1..=4 {
        change!(records, n, add_events(&[event(n)])).expect("an answer");
    }
    assert_eq!(records.cursor("new").await.expect("an answer"), 4, "a new reaction begins with what comes");
    change!(records, 5, move_cursor("status", 3)).expect("an answer");
    change!(records, 5, move_cursor("status", 2)).expect("an answer");
    assert_eq!(records.cursor("status").await.expect("an answer"), 3, "it never goes back");
    assert_eq!(change!(records, 9, drop_events(100)).expect("an answer"), 0, "another has read nothing yet");
    for reaction in ["note", "passed"] {
        change!(records, 5, move_cursor(reaction, 4)).expect("an answer");
    }
    assert_eq!(change!(records, 9, drop_events(3)).expect("an answer"), 2, "only the old ones");
    assert_eq!(change!(records, 9, drop_events(100)).expect("an answer"), 1);
    assert_eq!(records.events_after(0, 9).await.expect("a list").len(), 1, "one reaction has yet to read the last");
}

#[tokio::test]
async fn nothing_changes_but_through_a_transaction_that_is_committed() {
    let (_folder, records) = records().await;
    let mut tx = records.tx_by_rule("a test", 1).await.expect("a change");
    tx.add_person("odd", None).await.expect("a person");
    drop(tx);
    assert!(records.person("odd").await.expect("an answer").is_none());
    // Many writers at once wait for each other, and none is turned away.
    let writers = (0..20).map(|n| {
        let records = records.clone();
        tokio::spawn(async move { change!(records, n, add_person(&format!("p{n}"), None)).expect("a person") })
    });
    for writer in writers.collect::<Vec<_>>() {
        writer.await.expect("a writer");
    }
    assert_eq!(records.persons().await.expect("a list").len(), 20);
}

#[tokio::test]
async fn roles_are_of_persons_and_of_their_groups() {
    let (_folder, records) = records().await;
    let known = project(&records, "tidegauge").await;
    let maren = change!(records, 1, add_person("maren", Some("maren@saltmarsh.example"))).expect("a person");
    let odd = change!(records, 1, add_person("odd", None)).expect("a person");
    assert!(matches!(change!(records, 1, add_person("odd", None)), Err(StoreError::Exists { .. })));
    change!(records, 1, set_group("keepers", &[maren, odd])).expect("a group");
    let grant = async |holder: &str, project: Option<&str>, role: Option<Role>| {
        change!(records, 2, set_grant(&Holder::parse(holder), project, role, "ines")).expect("an answer")
    };
    assert_eq!(grant("@keepers", Some("tidegauge"), Some(Role::Operator)).await, None);
    assert_eq!(grant("maren", Some("tidegauge"), Some(Role::Reader)).await, None);
    assert_eq!(grant("maren", None, Some(Role::Owner)).await, None);
    let held = records.grants_of(maren).await.expect("an answer");
    assert_eq!((held.service, held.projects.get("tidegauge")), (Some(Role::Owner), Some(&Role::Operator)), "the higher one counts");
    assert_eq!(records.owners(Some("tidegauge")).await.expect("a list"), ["maren"]);
    assert_eq!(grant("@keepers", Some("tidegauge"), Some(Role::Editor)).await.as_deref(), Some("operator"), "one role in one place");
    assert_eq!(records.grants().await.expect("a list").len(), 3);
    change!(records, 3, set_group("keepers", &[odd])).expect("a group");
    assert_eq!(records.grants_of(maren).await.expect("an answer").projects.get("tidegauge"), Some(&Role::Reader));
    change!(records, 3, add_identity(odd, "https://id.saltmarsh.example", "7")).expect("an identity");
    assert!(matches!(change!(records, 3, add_identity(maren, "https://id.saltmarsh.example", "7")), Err(StoreError::Exists { .. })));
    assert_eq!(records.identified("https://id.saltmarsh.example", "7").await.expect("an answer").map(|person| person.id), Some(odd));
    change!(records, 4, remove_person(odd)).expect("an answer");
    assert_eq!(records.groups().await.expect("a list")[0].members, Vec::<String>::new());
    change!(records, 4, remove_project("tidegauge")).expect("an answer");
    assert_eq!(records.grants().await.expect("a list").len(), 1, "with a project go the roles on it");
    assert_eq!(known.name, "tidegauge");
    let again = change!(records, 5, add_person("odd", None)).expect("a person");
    assert!(again > odd, "a name that is taken anew is another person");
    let mut tx = records.tx_by_rule("a test", 6).await.expect("a change");
    assert!(tx.has_owner().await.expect("an answer"));
    tx.set_grant(&Holder::parse("maren"), None, None, "ines").await.expect("an answer");
    assert!(!tx.has_owner().await.expect("an answer"));
}

#[tokio::test]
async fn sessions_end_after_their_last_use_and_tokens_at_their_end() {
    let (_folder, records) = records().await;
    let odd = change!(records, 1, add_person("odd", None)).expect("a person");
    let session = NewSession { person_id: odd, secret: "s", agent: "a browser", address: None, ends_at: 1000 };
    change!(records, 10, add_session(&session)).expect("a session");
    let known = async |used_after, now| records.session("s", used_after, now).await.expect("an answer").map(|(person, ..)| person.name);
    assert_eq!(known(9, 500).await.as_deref(), Some("odd"));
    assert_eq!(known(10, 500).await, None, "not used for too long");
    assert_eq!(known(9, 1000).await, None, "however often it is used, it ends");
    let id = records.sessions(Some("odd"), 0, 0).await.expect("a list")[0].id;
    assert_eq!(change!(records, 20, end_session(id, Some(odd + 1))).expect("an answer"), None, "another's");
    assert_eq!(change!(records, 20, end_session(id, Some(odd))).expect("an answer").as_deref(), Some("odd"));
    assert_eq!(known(0, 20).await, None);
    let limit = Limit { role: Some(Role::Operator), projects: Some(["tidegauge".to_owned()].into()) };
    let token = NewToken { person_id: odd, name: "laptop", secret: "t", limit: &limit, ends_at: Some(100) };
    let id = change!(records, 30, add_token(&token)).expect("a token");
    let good = records.token("t", 99).await.expect("an answer").expect("a token");
    assert_eq!((good.person.name.as_str(), good.limit), ("odd", limit));
    assert!(records.token("t", 100).await.expect("an answer").is_none());
    assert!(records.token("other", 99).await.expect("an answer").is_none());
    assert_eq!(change!(records, 40, end_token(id, None)).expect("an answer"), Some(("odd".into(), "laptop".into())));
    assert!(records.tokens(None).await.expect("a list").is_empty());
}

/// A data folder of the version before: its owner becomes the first person, and nothing that waited is lost.
#[tokio::test]
async fn a_folder_of_before_has_its_owner_and_its_work() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("ordotaxis.db");
    let options = sqlx::sqlite::SqliteConnectOptions::new().filename(&path).create_if_missing(true);
    let old = sqlx::SqlitePool::connect_with(options).await.expect("a database");
    let mut before = sqlx::migrate!("./migrations");
    before.migrations = before.migrations.iter().filter(|one| one.version < 9).cloned().collect();
    before.run(&old).await.expect("the version before");
    let sql = "INSERT INTO projects (id, name, git_url, main_branch, hook_secret, created_at) VALUES (1, 'tidegauge', '', 'main', '', 0);
        INSERT INTO keys (digest, kind, name, created_at) VALUES ('d1', 'user', 'owner', 5);
        INSERT INTO keys (digest, kind, name, created_at, ends_at) VALUES ('d2', 'session', 'owner', 6, 99999999999);
        INSERT INTO occasions (id, project_id, delivery, body, received_at, next_at, done_at, said) VALUES (4, 1, 'a', '{}', 1, 1, 2, 'run 1');
        INSERT INTO occasions (id, project_id, delivery, body, received_at, next_at) VALUES (5, 1, 'b', '{}', 3, 3);
        INSERT INTO occasions (id, project_id, delivery, body, received_at, next_at, done_at, gave_up) VALUES (6, 1, 'c', '{}', 3, 3, 4, 1);
        INSERT INTO journal (run_id, at, body) VALUES (1, 1, '{}'), (1, 1, '{}');
        INSERT INTO outbox (id, project_id, commit_id, kind, body, next_at, sent_at) VALUES (1, 1, 'c1', 'status', '1', 1, 2);
        INSERT INTO outbox (id, project_id, commit_id, kind, body, next_at) VALUES (2, 1, 'c1', 'status', '2', 1);
        INSERT INTO outbox (id, project_id, commit_id, kind, body, next_at, given_up_at, said) VALUES (3, 1, 'c1', 'note', '3', 1, 2, 'no');";
    sqlx::raw_sql(sql).execute(&old).await.expect("as it was");
    old.close().await;
    let records = Records::open(folder.path()).await.expect("a database");
    assert_eq!(records.owners(None).await.expect("a list"), ["owner"]);
    assert_eq!(records.tokens(None).await.expect("a list").len(), 1);
    assert_eq!(records.sessions(None, 0, 10).await.expect("a list").len(), 1);
    let due = records.due_work(WorkKind::Occasion, 10, 1).await.expect("a list");
    assert_eq!(due.iter().map(|one| one.id).collect::<Vec<_>>(), [5], "under its old number");
    let status = records.due_work(WorkKind::Status, 10, 1).await.expect("a list");
    assert_eq!((status[0].lane.as_str(), status[0].body.as_str(), status.len()), ("c1", "2", 1));
    assert!(status[0].id > 6);
    assert_eq!(records.troubled_work().await.expect("a list").len(), 2);
    assert_eq!(records.cursor("status").await.expect("an answer"), 2, "what was told is not told again");
    assert!(
        change!(records, 20, add_work(&occasion(&records.project("tidegauge").await.expect("an answer").expect("it"), "c")))
            .expect("an answer")
    );
}
