//! Persons, their rights, sessions and tokens; and that nothing changes without an actor.

use super::work::occasion;
use super::*;

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
    let all = records.grants_of_all().await.expect("an answer");
    assert_eq!(all.get(&maren), Some(&held), "asked for all, as for one");
    assert_eq!(all.get(&odd), Some(&records.grants_of(odd).await.expect("an answer")), "as a member alone");
    assert_eq!(all.len(), 2, "who holds nothing is not among them");
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
            .is_some()
    );
}
