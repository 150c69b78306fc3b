//! Where artifacts come from and where they went.

use super::{a_plan, begin, new_run, project, records};
use ordotaxis_core::report::Component;
use ordotaxis_store::{NewBill, Project, Records, StatementRow, TracedFile};

async fn run(records: &Records, project: &Project, commit: &str) -> i64 {
    begin(records, &new_run(project, commit, "push", Some(&a_plan())), 1).await.expect("a run").id
}

fn said(run_id: i64, name: &str, digest: &str) -> StatementRow {
    StatementRow {
        run_id,
        job: 0,
        name: name.into(),
        digest: digest.into(),
        payload: format!("{{\"of\":\"{name}\"}}").into_bytes(),
        key_id: "k1".into(),
        signature: vec![1, 2, 3],
    }
}

fn file(byte: u8, path: &str) -> TracedFile {
    TracedFile { sha256: [byte; 32], path: path.into() }
}

async fn names(records: &Records, byte: u8) -> Vec<(i64, String, Option<String>)> {
    let found = records.made_with_file(&[byte; 32], 10).await.expect("an answer");
    found.into_iter().map(|row| (row.run_id, row.name, row.path)).collect()
}

#[tokio::test]
async fn a_statement_comes_back_and_the_files_of_an_earlier_one_are_forgotten() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let run = run(&records, &project, "c0ffee01").await;
    assert_eq!(records.statement(run, 0, "bundle").await.expect("an answer"), None);
    change!(records, 5, set_statement(&said(run, "bundle", "sha256:a"), &[file(1, "out/gauge"), file(2, "out/map")])).expect("kept");
    assert_eq!(records.statement(run, 0, "bundle").await.expect("an answer"), Some(said(run, "bundle", "sha256:a")));
    let path = |path: &str| Some(path.to_owned());
    assert_eq!(names(&records, 1).await, [(run, "bundle".to_owned(), path("out/gauge"))]);
    // The job was done again, and gave something else under the same name.
    for _ in 0..2 {
        change!(records, 6, set_statement(&said(run, "bundle", "sha256:b"), &[file(2, "out/map"), file(2, "out/chart")])).expect("kept");
    }
    assert_eq!(names(&records, 1).await, []);
    assert_eq!(names(&records, 2).await, [(run, "bundle".to_owned(), path("out/chart")), (run, "bundle".to_owned(), path("out/map"))]);
    let of = |digest: &str| [digest.to_owned()];
    assert_eq!(records.made_by_digest(&of("sha256:a"), 9).await.expect("an answer"), []);
    let made = records.made_by_digest(&of("sha256:b"), 9).await.expect("an answer");
    assert_eq!(
        made.iter().map(|row| (row.run_id, row.kept, row.signed)).collect::<Vec<_>>(),
        [(run, false, true)],
        "swept, or never stored"
    );
    assert_eq!(records.made_by_runs(&[run, run + 1], 9).await.expect("an answer"), made);
}

#[tokio::test]
async fn of_a_run_that_made_much_the_first_are_read_and_each_by_its_name() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let runs = [run(&records, &project, "c1").await, run(&records, &project, "c2").await];
    for (run, count) in [(runs[0], 9), (runs[1], 3)] {
        for at in 0..count {
            change!(records, 5, set_statement(&said(run, &format!("part-{at}"), &format!("sha256:{run}-{at}")), &[])).expect("kept");
        }
    }
    let all: Vec<(i64, String)> =
        [(runs[1], 3), (runs[0], 9)].into_iter().flat_map(|(run, count)| (0..count).map(move |at| (run, format!("part-{at}")))).collect();
    for limit in [0, 1, 3, 4, 11, 12, 200] {
        let made = records.made_by_runs(&[runs[0], runs[1], runs[0]], limit).await.expect("an answer");
        let made: Vec<(i64, String)> = made.into_iter().map(|row| (row.run_id, row.name)).collect();
        let most = all.len().min(usize::try_from(limit).expect("not below nought"));
        assert_eq!(made, all[..most], "{limit}");
    }
    let named =
        [(runs[0], 0, "part-8".to_owned()), (runs[0], 0, "part-8".to_owned()), (runs[1], 0, "part-8".to_owned()), (7, 0, String::new())];
    let made = records.made_as(&named).await.expect("an answer");
    let told: Vec<(&str, bool, bool)> = made.iter().map(|row| (row.digest.as_str(), row.kept, row.signed)).collect();
    assert_eq!(told, [(format!("sha256:{}-8", runs[0]).as_str(), false, true)]);
}

#[tokio::test]
async fn runs_are_found_by_the_beginning_of_their_commit() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let mut runs = Vec::new();
    for commit in ["c0ffee01", "c0ffee02", "c0ffef00", "d0"] {
        runs.push(run(&records, &project, commit).await);
    }
    for (begin, wanted) in
        [("c0ffee", vec![runs[1], runs[0]]), ("c0ffee01", vec![runs[0]]), ("c0ffe", vec![runs[2], runs[1], runs[0]]), ("c1", vec![])]
    {
        assert_eq!(records.runs_of_commit(begin, 9).await.expect("an answer"), wanted, "{begin}");
    }
}

#[tokio::test]
async fn components_are_kept_once_and_documents_until_nothing_of_the_run_is_left() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let runs = [run(&records, &project, "c1").await, run(&records, &project, "c2").await];
    let bill = |version: &str, document: &str| NewBill {
        file: "bom.json".into(),
        form: "spdx",
        components: vec![
            Component { name: "keel".into(), version: String::new(), purl: None },
            Component { name: "zlib".into(), version: version.into(), purl: Some(format!("pkg:generic/zlib@{version}")) },
        ],
        document: document.as_bytes().to_vec(),
    };
    change!(records, 5, set_bills(runs[0], 0, &[bill("1.2", "first")])).expect("kept");
    for run in runs {
        // Done again, it takes the place of what it said before.
        change!(records, 6, set_bills(run, 0, &[bill("1.3.1", "second")])).expect("kept");
    }
    let found = records.components_made("zlib", 9).await.expect("an answer");
    let told: Vec<(i64, &str)> = found.iter().map(|row| (row.run_id, row.version.as_str())).collect();
    assert_eq!(told, [(runs[1], "1.3.1"), (runs[0], "1.3.1")]);
    assert_eq!(records.component_names("LIB", 9).await.expect("an answer"), ["zlib"]);
    assert!(records.components_made("lib", 9).await.expect("an answer").is_empty(), "a name is a whole name");
    assert_eq!(records.components_there("zlib", 9).await.expect("an answer"), [], "nothing was put anywhere");
    let there = records.bills(runs[0]).await.expect("an answer");
    assert_eq!(there, [(0, "bom.json".to_owned(), "spdx".to_owned(), 2, true)]);
    assert_eq!(records.bill(runs[0], 0, "bom.json").await.expect("an answer").as_deref(), Some(b"second".as_slice()));
    assert_eq!(records.bill(runs[0], 0, "other.json").await.expect("an answer"), None);
    assert_eq!(change!(records, 9, drop_documents(6)).expect("dropped"), 0, "it is not old enough");
    assert_eq!(change!(records, 9, drop_documents(7)).expect("dropped"), 2);
    assert_eq!(records.bill(runs[0], 0, "bom.json").await.expect("an answer"), None);
    assert_eq!(records.bills(runs[0]).await.expect("an answer"), [(0, "bom.json".to_owned(), "spdx".to_owned(), 2, false)]);
}

#[tokio::test]
async fn what_was_published_leads_back() {
    let (_folder, records) = records().await;
    let project = project(&records, "tidegauge").await;
    let run = run(&records, &project, "c1").await;
    for _ in 0..2 {
        change!(records, 5, set_published(run, 3, "image", "sha256:i", "oci://quay/gauge:1")).expect("kept");
    }
    let wanted = [(run, 3, "image".to_owned(), "oci://quay/gauge:1".to_owned())];
    assert_eq!(records.published_as("sha256:i").await.expect("an answer"), wanted);
    assert_eq!(records.published_by(&[run]).await.expect("an answer").len(), 1);
    assert_eq!(records.published_as("sha256:j").await.expect("an answer"), []);
}
