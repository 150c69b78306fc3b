//! Every question the records answer, asked of a real database.

use ordotaxis_core::dispatch::Taking;
use ordotaxis_core::engine::{Event, Outcome, Run, State};
use ordotaxis_core::plan::{Event as Happened, Lent, Occasion, Plan, Source, plan};
use ordotaxis_store::{
    AttemptRow, Forge, Granted, JobRow, Kind, NewResult, NewRunRow, Project, Reach, Records, ResultsOf, RunChange, RunKey, RunnerRow,
    SecretRow, StepRows, StoreError, StoredArtifact, ToolRow,
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
    let forge = Forge { profile: "practice".into(), url: "http://forge".into(), repository: name.into() };
    let project = Project {
        id: 0,
        name: name.into(),
        git_url: format!("http://forge/{name}.git"),
        main_branch: "main".into(),
        sealed: None,
        forge: Some(forge),
        outside: "ask".into(),
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
        held: false,
        unread: None,
        behind: None,
    }
}

async fn begin(records: &Records, run: &NewRunRow<'_>, now: i64) -> Option<RunKey> {
    records.begin_run(run, now, |number| vec![("status", format!("{{\"number\":{number}}}"))]).await.expect("an answer")
}

/// Ends a run that has no open jobs to speak of.
async fn end(records: &Records, id: i64, state: State, now: i64) {
    let rows = StepRows {
        runs: vec![RunChange { id, state, why: None, started: Some(now - 10), ended: Some(now), rest_ms: 0 }],
        ..StepRows::default()
    };
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
    records.keep_answer("k", "body", 201, Some("first"), 0).await.expect("kept");
    records.keep_answer("k", "other", 409, None, 1).await.expect("kept");
    assert_eq!(records.answer("k").await.expect("an answer"), Some((201, "body".into(), Some("first".into()))));
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
    assert_eq!(records.next_occasion_at(49).await.expect("an answer"), Some(50));
    assert_eq!(records.next_occasion_at(50).await.expect("an answer"), None, "due already");
    assert_eq!(records.trouble(project.id).await.expect("an answer").as_deref(), Some("away"));
    assert_eq!(records.due_occasions(50).await.expect("a list")[0].tries, 1);
    records.occasion_done(due[0].id, "run 1", 51).await.expect("an answer");
    assert_eq!(records.next_occasion_at(0).await.expect("an answer"), None);
    assert_eq!(records.trouble(project.id).await.expect("an answer"), None);
    assert!(!records.add_occasion(project.id, "d1", "{}", 52).await.expect("an answer"), "it came before, and was worked off");
    records.occasion_given_up(due[0].id, "away for long", 53).await.expect("an answer");
    assert!(records.add_occasion(project.id, "d1", "{}", 60).await.expect("an answer"), "told again, it is tried again");
    let again = records.due_occasions(60).await.expect("a list");
    assert_eq!((again[0].id, again[0].tries), (due[0].id, 0));
    assert!(records.add_occasion(project.id, "d2", "{}", 60).await.expect("an answer"));
    assert_eq!(records.due_occasions(60).await.expect("a list").len(), 1, "one of a project at a time");
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
        runs: vec![RunChange { id: key.id, state: run.state(), why: Some("so".into()), started: Some(12), ended: Some(13), rest_ms: 0 }],
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
        async move { records.due_messages(now, 8).await.expect("a list").into_iter().map(|one| (one.id, one.body)).collect::<Vec<_>>() }
    };
    let first = due(10).await;
    assert_eq!(first.iter().map(|(_, body)| body.as_str()).collect::<Vec<_>>(), ["1", "3", "4"]);
    records.message_again(first[0].0, "refused", 100).await.expect("an answer");
    let second: Vec<String> = due(50).await.into_iter().map(|(_, body)| body).collect();
    assert_eq!(second, ["3", "4"], "the second status waits for the first");
    records.message_sent(first[0].0, 60).await.expect("an answer");
    assert!(due(60).await.iter().any(|(_, body)| body == "2"));
    assert_eq!(records.unsent_messages().await.expect("a count"), 3);
    assert_eq!(records.next_message_at(0).await.expect("an answer"), Some(10));
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
    let granted = Granted { labels: vec!["usb".into()], projects: Some(vec!["tidegauge".into()]), outside: Taking::Only };
    for token in ["one", "two"] {
        records.add_invitation(token, "Ines", &granted, 0, 100).await.expect("an invitation");
    }
    assert_eq!(records.invitation("one", 100).await.expect("an answer"), None, "past its time");
    let found = records.invitation("one", 99).await.expect("an answer").expect("the invitation");
    assert_eq!(found, granted);
    assert!(records.enrol("one", "quay", "oxr_secret", &found, 1).await.expect("an answer"));
    assert!(!records.enrol("one", "spar", "oxr_other", &found, 1).await.expect("an answer"), "it works once");
    assert!(matches!(records.enrol("two", "quay", "oxr_other", &found, 1).await, Err(StoreError::Exists { .. })));
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
    records.runner_signed_on(&row, 9).await.expect("an answer");
    assert!(records.set_draining("quay", Some("Odd")).await.expect("an answer"));
    assert!(!records.set_draining("spar", Some("Odd")).await.expect("an answer"));
    let known = records.runners().await.expect("a list").remove(0);
    assert_eq!((known.slots, known.labels, known.seen_at), (4, vec!["linux".to_owned()], Some(9)));
    assert_eq!((known.tools, known.memory, known.draining_by.as_deref()), (row.tools, 1 << 34, Some("Odd")));
    assert_eq!((known.granted, known.fence.as_str()), (granted, "bars"), "what it says of itself changes nothing of what it may have");
    assert!(records.set_granted("quay", &Granted::default()).await.expect("an answer"));
    assert_eq!(records.runners().await.expect("a list")[0].granted, Granted::default());
    assert!(records.remove_runner("quay").await.expect("an answer"));
    assert_eq!(records.runner_by_credential("oxr_secret").await.expect("an answer"), None);
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
    let row =
        |sealed: &[u8], by: &str, reach| SecretRow { name: "KEY".into(), sealed: sealed.to_vec(), set_by: by.into(), set_at: 5, reach };
    records.set_secret(project.id, &row(b"one", "Ines", Reach::default())).await.expect("an answer");
    let reach = Reach { branches: Some(vec!["topic/*".into()]), tags: None, pipelines: Some(vec!["ship".into()]) };
    records.set_secret(project.id, &row(b"two", "Odd", reach.clone())).await.expect("an answer");
    let known = records.secrets(project.id).await.expect("a list");
    assert_eq!(known[0].reach, reach);
    assert_eq!((known.len(), &known[0].sealed[..], known[0].set_by.as_str()), (1, &b"two"[..], "Odd"));
    assert!(records.remove_secret(project.id, "KEY").await.expect("an answer"));
    assert!(!records.remove_secret(project.id, "KEY").await.expect("an answer"));
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
                let again = records.begin_again(key.id, "Odd", false, 10, |_| Vec::new()).await.expect("an answer").expect("a run");
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
            records.add_results(&of, &(0..3).map(case).collect::<Vec<_>>()).await.expect("results");
            records.add_results(&of, &(1..5).map(case).collect::<Vec<_>>()).await.expect("results");
            assert_eq!(records.results(of.run_id, None).await.expect("a list").len(), 5);
        }
        for name in order {
            assert!(records.remove_project(name).await.expect("an answer"));
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
    records.seal_project(id, b"sealed").await.expect("an answer");
    assert!(records.unsealed_projects().await.expect("a list").is_empty());
    let known = records.project("tidegauge").await.expect("an answer").expect("the project");
    assert_eq!((known.sealed.as_deref(), known.forge.expect("a forge").repository), (Some(&b"sealed"[..]), "tidegauge".to_owned()));
    records.close().await;
    let bytes = std::fs::read(folder.path().join("ordotaxis.db")).expect("the file");
    let holds = |text: &str| bytes.windows(text.len()).any(|part| part == text.as_bytes());
    assert!(!holds("whsec_old") && !holds("token-old"), "it lies in the file still");
}

#[tokio::test]
async fn a_message_that_is_given_up_makes_way_and_can_be_sent_again() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let plan = a_plan();
    let row = new_run(&project, "c1", "push", Some(&plan));
    records.begin_run(&row, 10, |_| vec![("status", "{}".to_owned()), ("status", "{}".to_owned())]).await.expect("an answer");
    let first = records.due_messages(20, 8).await.expect("a list").remove(0);
    records.message_given_up(first.id, "the forge answered 404", 21).await.expect("an answer");
    let second = records.due_messages(22, 8).await.expect("a list").remove(0);
    assert!(second.id > first.id);
    let told = records.given_up_messages().await.expect("a list");
    assert_eq!((told.len(), told[0].said.as_deref()), (1, Some("the forge answered 404")));
    assert!(records.send_again(first.id, 30).await.expect("an answer"));
    assert!(!records.send_again(first.id, 30).await.expect("an answer"), "it is on its way");
    assert_eq!(records.due_messages(30, 8).await.expect("a list")[0].id, first.id, "in its old place");
}
