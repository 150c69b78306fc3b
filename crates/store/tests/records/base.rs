//! The database itself; projects, keys, runners, secrets.

use super::*;

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

#[tokio::test]
async fn runners_are_known_by_their_credential() {
    let (_folder, records) = records().await;
    let granted = Granted { labels: vec!["usb".into()], projects: Some(vec!["tidegauge".into()]), outside: Taking::Only };
    for token in ["one", "two"] {
        change!(records, 0, add_invitation(token, "Ines", &granted, 100)).expect("an invitation");
    }
    assert_eq!(records.invitation("one", 100).await.expect("an answer"), None, "past its time");
    let invited = records.invitation("one", 99).await.expect("an answer").expect("the invitation");
    let found = invited.granted;
    assert_eq!((&found, invited.machine), (&granted, None));
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
        gpus: 2,
        draining_by: None,
        granted: Granted::default(),
        fence: "bars".into(),
    };
    change!(records, 9, runner_signed_on(&row)).expect("an answer");
    assert!(change!(records, 1, set_draining("quay", Some("Odd"))).expect("an answer"));
    assert!(!change!(records, 1, set_draining("spar", Some("Odd"))).expect("an answer"));
    let known = records.runners().await.expect("a list").remove(0);
    assert_eq!((known.slots, known.labels, known.seen_at), (4, vec!["linux".to_owned()], Some(9)));
    assert_eq!(known.gpus, 2);
    assert_eq!((known.tools, known.memory, known.draining_by.as_deref()), (row.tools, 1 << 34, Some("Odd")));
    assert_eq!((known.granted, known.fence.as_str()), (granted, "bars"), "what it says of itself changes nothing of what it may have");
    assert!(change!(records, 1, set_granted("quay", &Granted::default())).expect("an answer"));
    let one = records.runner("quay").await.expect("an answer").expect("it is there");
    assert_eq!((one.granted, one.slots, one.draining_by.as_deref()), (Granted::default(), 4, Some("Odd")));
    assert!(records.runner("spar").await.expect("an answer").is_none());
    assert!(change!(records, 1, remove_runner("quay")).expect("an answer"));
    assert!(records.runner("quay").await.expect("an answer").is_none());
    assert_eq!(records.runner_by_credential("oxr_secret").await.expect("an answer"), None);
}

#[tokio::test]
async fn secrets_are_kept_by_name() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let row = |sealed: &[u8], by: &str, reach| SecretRow {
        name: "KEY".into(),
        environment: None,
        sealed: sealed.to_vec(),
        set_by: by.into(),
        set_at: 5,
        reach,
    };
    change!(records, 1, set_secret(project.id, &row(b"one", "Ines", Reach::default()))).expect("an answer");
    let reach = Reach { branches: Some(vec!["topic/*".into()]), tags: None, pipelines: Some(vec!["ship".into()]) };
    change!(records, 1, set_secret(project.id, &row(b"two", "Odd", reach.clone()))).expect("an answer");
    let known = records.secrets(project.id).await.expect("a list");
    assert_eq!(known[0].reach, reach);
    assert_eq!((known.len(), &known[0].sealed[..], known[0].set_by.as_str()), (1, &b"two"[..], "Odd"));
    assert!(change!(records, 1, remove_secret(project.id, "KEY", None)).expect("an answer"));
    assert!(!change!(records, 1, remove_secret(project.id, "KEY", None)).expect("an answer"));
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
