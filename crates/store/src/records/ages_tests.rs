//! Runs are old when nothing needs them, as a plain model says it; and what belongs to a run goes with it.

use super::Records;
use super::segments::LogSegmentRow;
use crate::log_id::LogId;
use proptest::prelude::*;
use sqlx::{AssertSqlSafe, Row, SqliteConnection};
use std::collections::BTreeSet;

/// Runs that ended before this are past their age.
const BEFORE: i64 = 1_000;
const NOW: i64 = 2_000;

/// What may need a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Need {
    Nothing,
    /// It goes on.
    GoesOn,
    OpenProposal,
    /// The proposal offers another commit now.
    ProposalThatMovedOn,
    ClosedProposal,
    Release,
    DeployedAndKept,
    DeployedOnce,
    Deploying,
    GoneBackTo,
    Pinned,
    KeptFor(i64),
    KeptForEver,
    ToShip,
    Shipped,
}

impl Need {
    fn keeps(self) -> bool {
        use Need::*;
        match self {
            Nothing | ProposalThatMovedOn | ClosedProposal | DeployedOnce | Shipped => false,
            KeptFor(until) => until > NOW,
            GoesOn | OpenProposal | Release | DeployedAndKept | Deploying | GoneBackTo | Pinned | KeptForEver | ToShip => true,
        }
    }
}

fn need() -> impl Strategy<Value = Need> {
    use Need::*;
    let all = [
        GoesOn,
        OpenProposal,
        ProposalThatMovedOn,
        ClosedProposal,
        Release,
        DeployedAndKept,
        DeployedOnce,
        Deploying,
        GoneBackTo,
        Pinned,
        KeptFor(NOW),
        KeptFor(NOW + 1),
        KeptForEver,
        ToShip,
        Shipped,
    ];
    prop_oneof![2 => Just(Nothing), 1 => proptest::sample::select(all.to_vec())]
}

#[derive(Debug, Clone)]
struct ARun {
    project: i64,
    pipeline: &'static str,
    branch: Option<&'static str>,
    ended: i64,
    need: Need,
    /// Which earlier one of the list it does once more with what that made.
    from: Option<usize>,
}

fn a_run() -> impl Strategy<Value = ARun> {
    let branch = proptest::sample::select(vec![Some("main"), Some("there"), Some("gone"), None]);
    let pipeline = proptest::sample::select(vec!["main", "soak"]);
    let ended = prop_oneof![Just(BEFORE - 1), Just(BEFORE), 1..NOW];
    (1..3_i64, pipeline, branch, ended, need(), proptest::option::weighted(0.1, 0..20_usize))
        .prop_map(|(project, pipeline, branch, ended, need, from)| ARun { project, pipeline, branch, ended, need, from })
}

/// The plain model: ids, from 1, of the runs that are old.
fn old(runs: &[ARun]) -> BTreeSet<i64> {
    let is_newest = |at: usize, run: &ARun| {
        !runs[at + 1..].iter().any(|newer| (newer.project, newer.pipeline, newer.branch) == (run.project, run.pipeline, run.branch))
    };
    let is_there = |run: &ARun| matches!(run.branch, Some("main" | "there"));
    let is_used = |at: usize, run: &ARun| runs.iter().any(|later| later.from == Some(at) && later.project == run.project);
    let is_old = |(at, run): &(usize, &ARun)| {
        let is_shown = is_newest(*at, run) && is_there(run);
        run.ended < BEFORE && !run.need.keeps() && !is_shown && !is_used(*at, run)
    };
    runs.iter().enumerate().filter(is_old).map(|(at, _)| at as i64 + 1).collect()
}

async fn sql(on: &mut SqliteConnection, text: String) {
    let what = text.clone();
    sqlx::query(AssertSqlSafe(text)).execute(on).await.unwrap_or_else(|error| panic!("{error}: {what}"));
}

async fn write(on: &mut SqliteConnection, runs: &[ARun]) {
    for project in 1..3 {
        sql(on, format!("INSERT INTO projects (id, name, git_url, main_branch, hook_secret, created_at) VALUES ({project}, 'p{project}', '', 'main', '', 1)")).await;
        sql(on, format!("INSERT INTO refs_seen VALUES ({project}, 'refs/heads/there', 'c')")).await;
        sql(
            on,
            format!("INSERT INTO environments (id, project_id, name, state, made_at) VALUES ({project}, {project}, 'pier', '{{}}', 1)"),
        )
        .await;
    }
    for (at, run) in runs.iter().enumerate() {
        write_run(on, at as i64 + 1, run, runs).await;
    }
}

async fn write_run(on: &mut SqliteConnection, id: i64, run: &ARun, all: &[ARun]) {
    let text = |word: Option<String>| word.map_or("NULL".to_owned(), |word| format!("'{word}'"));
    let (branch, project) = (text(run.branch.map(str::to_owned)), run.project);
    let from = run.from.filter(|from| all.get(*from).is_some_and(|earlier| earlier.project == project));
    let from = text(from.map(|from| format!("p{project}/{}", from + 1)));
    let ended = if run.need == Need::GoesOn { "NULL".to_owned() } else { run.ended.to_string() };
    let is_offered = matches!(run.need, Need::OpenProposal | Need::ProposalThatMovedOn | Need::ClosedProposal);
    let proposal = text(is_offered.then(|| id.to_string()));
    sql(on, format!("INSERT INTO runs (id, project_id, number, pipeline, state, commit_id, commit_title, commit_author, commit_time, branch, event, created_at, ended_at, from_run, proposal)
        VALUES ({id}, {project}, {id}, '{}', 'passed', 'c{id}', '', '', 1, {branch}, 'push', 1, {ended}, {from}, {proposal})", run.pipeline)).await;
    sql(on, format!("INSERT INTO attempts (run_id, job, number, runner, session, slot, state, started_at, ended_at, phases) VALUES ({id}, 0, 1, 'quay', '', 0, 'passed', 1, {ended}, '[]')")).await;
    sql(on, format!("INSERT INTO log_segments VALUES ({id}, 0, 1, '', 0, x'', x'')")).await;
    let offered = |head: &str, state: &str| {
        format!(
            "INSERT INTO proposals (project_id, number, title, target, head, outside, draft, state, offered_at, changed_at) VALUES ({project}, '{id}', '', 'main', '{head}', 0, 0, '{state}', 1, 1)"
        )
    };
    let deployed = |ended: &str, kept: bool| {
        format!("INSERT INTO deployments (environment_id, number, run_id, run, job, job_id, commit_id, reference, way, artifacts, words, rules_commit, let_in_at, ended_at, kept)
        VALUES ({project}, {id}, {id}, '', 0, '', '', '', '{{}}', '[]', '[]', '', 1, {ended}, {kept})")
    };
    let artifact = |until: &str, pinned: &str| {
        format!(
            "INSERT INTO artifacts (run_id, job, name, digest, bytes, files, kept_until, pinned_by) VALUES ({id}, 0, 'fw', '', 1, 1, {until}, {pinned})"
        )
    };
    let ship = |done: bool| format!("INSERT INTO ships VALUES ('archive', {id}, 0, 1, 0, {done})");
    let more = match run.need {
        Need::Nothing | Need::GoesOn => return,
        Need::OpenProposal => offered(&format!("c{id}"), "open"),
        Need::ProposalThatMovedOn => offered("c0", "open"),
        Need::ClosedProposal => offered(&format!("c{id}"), "closed"),
        Need::Release => format!(
            "INSERT INTO releases (project_id, version, title, state, commit_id, tag, run_id, run, job, job_id, notes, evidence, made_at) VALUES ({project}, '{id}', '', 'published', '', '', {id}, '', 0, '', '', '', 1)"
        ),
        Need::DeployedAndKept => deployed("5", true),
        Need::DeployedOnce => deployed("5", false),
        Need::Deploying => deployed("NULL", false),
        Need::GoneBackTo => format!("INSERT INTO going_back VALUES ({id}, 1, 1, {id})"),
        Need::Pinned => artifact("5", "'Ines'"),
        Need::KeptFor(until) => artifact(&until.to_string(), "NULL"),
        Need::KeptForEver => artifact("NULL", "NULL"),
        Need::ToShip => ship(false),
        Need::Shipped => ship(true),
    };
    sql(on, more).await;
}

fn run_async<T>(work: impl Future<Output = T>) -> T {
    tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap().block_on(work)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// What is found is what the model says; it goes, with all that belongs to it, and nothing else does.
    #[test]
    fn a_run_is_old_when_nothing_needs_it(runs in proptest::collection::vec(a_run(), 1..20)) {
        run_async(async {
            let folder = tempfile::tempdir().unwrap();
            let records = Records::open(folder.path()).await.unwrap();
            write(&mut records.own_write().await, &runs).await;
            let expected = old(&runs);
            let found: Vec<i64> = records.old_runs(BEFORE, NOW, 100).await.unwrap().iter().map(|run| run.id).collect();
            assert_eq!(found.iter().copied().collect::<BTreeSet<i64>>(), expected);
            assert!(found.is_sorted_by_key(|id| usize::try_from(*id - 1).map_or(0, |at| runs[at].ended)), "the oldest first");
            let all: Vec<i64> = (1..=runs.len() as i64).collect();
            let mut tx = records.tx_by_rule("a test", NOW).await.unwrap();
            let logs = tx.drop_old_logs(&all, BEFORE).await.unwrap();
            tx.commit().await.unwrap();
            assert_eq!(logs.into_iter().collect::<BTreeSet<i64>>(), expected, "logs are needed for the same reasons");
            assert!(records.old_logs(BEFORE, NOW, 100).await.unwrap().is_empty(), "and once");
            let mut tx = records.tx_by_rule("a test", NOW).await.unwrap();
            let gone = tx.drop_old_runs(&all, BEFORE).await.unwrap();
            tx.commit().await.unwrap();
            assert_eq!(gone.into_iter().collect::<BTreeSet<i64>>(), expected);
            let left: Vec<i64> = all.iter().copied().filter(|id| !expected.contains(id)).collect();
            let mut on = records.own_write().await;
            for (table, column) in [("runs", "id"), ("attempts", "run_id"), ("log_segments", "run_id")] {
                let there: Vec<i64> = sqlx::query_scalar(AssertSqlSafe(format!("SELECT {column} FROM {table} ORDER BY 1"))).fetch_all(&mut on).await.unwrap();
                assert_eq!(there, left, "{table}");
            }
        });
    }
}

/// Dropping one run looks at no other's rows, however many there are.
#[tokio::test]
async fn what_belongs_to_a_run_is_found_by_an_index() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path()).await.unwrap();
    let mut on = records.own_write().await;
    let tables: Vec<String> = sqlx::query_scalar("SELECT name FROM sqlite_schema WHERE type = 'table'").fetch_all(&mut on).await.unwrap();
    let mut looked = 0;
    for table in tables {
        let keys = sqlx::query(AssertSqlSafe(format!("PRAGMA foreign_key_list({table})"))).fetch_all(&mut on).await.unwrap();
        for key in keys.iter().filter(|key| key.get::<String, _>("table") == "runs") {
            let column: String = key.get("from");
            let how = format!("EXPLAIN QUERY PLAN SELECT rowid FROM {table} WHERE {column} = 1").replace("rowid", &column);
            let how: String = sqlx::query(AssertSqlSafe(how)).fetch_one(&mut on).await.unwrap().get("detail");
            assert!(how.starts_with("SEARCH"), "{table}.{column}: {how}");
            assert_eq!(key.get::<String, _>("on_delete"), "CASCADE", "{table}.{column}");
            looked += 1;
        }
    }
    assert!(looked >= 15, "{looked}");
}

/// A log that was dropped does not come back, when its file was not yet moved; that of a later attempt does.
#[tokio::test]
async fn a_dropped_log_stays_dropped() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path()).await.unwrap();
    let run = ARun { project: 1, pipeline: "main", branch: Some("gone"), ended: 5, need: Need::Nothing, from: None };
    write(&mut records.own_write().await, &[run]).await;
    assert_eq!(records.log_dropped(1, 0, 1).await.unwrap(), None);
    let mut tx = records.tx_by_rule("a test", NOW).await.unwrap();
    assert_eq!(tx.drop_old_logs(&[1, 2], BEFORE).await.unwrap(), [1]);
    tx.commit().await.unwrap();
    assert_eq!((records.log_dropped(1, 0, 1).await.unwrap(), records.logs_dropped(1).await.unwrap()), (Some(NOW), Some(NOW)));
    let again = "INSERT INTO attempts (run_id, job, number, runner, session, slot, state, started_at, ended_at, phases)
        VALUES (1, 0, 2, 'quay', '', 0, 'passed', 1, 3000, '[]')";
    sql(&mut records.own_write().await, again.to_owned()).await;
    let row =
        |attempt| LogSegmentRow { run_id: 1, job: 0, attempt, beside: String::new(), segment: 0, chunks: Vec::new(), places: Vec::new() };
    let mut tx = records.tx_by_rule("a test", NOW + 1).await.unwrap();
    tx.add_log_segments(&[&row(1), &row(2)]).await.unwrap();
    tx.commit().await.unwrap();
    assert!(records.log_segments(&LogId::new(1, 0, 1)).await.unwrap().is_empty());
    assert_eq!(records.log_segments(&LogId::new(1, 0, 2)).await.unwrap().len(), 1);
    assert_eq!(records.log_dropped(1, 0, 2).await.unwrap(), None, "it ended later");
    sql(&mut records.own_write().await, "UPDATE runs SET ended_at = 3000".to_owned()).await;
    assert_eq!(records.old_logs(4_000, 5_000, 9).await.unwrap().len(), 1, "its new logs grow old, too");
}

/// What waits to be sent is never too old for it.
#[tokio::test]
async fn a_notice_that_waits_is_never_old() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path()).await.unwrap();
    write(&mut records.own_write().await, &[]).await;
    for state in ["waiting", "sent"] {
        let notice =
            format!("INSERT INTO notices (project_id, receiver, occasion, body, at, state) VALUES (1, '', 'broke', '{{}}', 5, '{state}')");
        sql(&mut records.own_write().await, notice).await;
    }
    let mut tx = records.tx_by_rule("a test", NOW).await.unwrap();
    assert_eq!(tx.drop_notices(BEFORE).await.unwrap(), 1);
    tx.commit().await.unwrap();
    let left: Vec<String> = sqlx::query_scalar("SELECT state FROM notices").fetch_all(&mut records.own_write().await).await.unwrap();
    assert_eq!(left, ["waiting"]);
}
