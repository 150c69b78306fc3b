//! What is on disk after the storm, read for what must never be.

use super::Storm;
use super::troubles::Board;
use sha2::{Digest, Sha256};
use sqlx::sqlite::{SqliteConnectOptions, SqliteRow};
use sqlx::{AssertSqlSafe, ConnectOptions, Row, SqliteConnection};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::time::Duration;

async fn opened(data: &Path) -> SqliteConnection {
    let options = SqliteConnectOptions::new().filename(data.join("ordotaxis.db")).read_only(true).busy_timeout(Duration::from_secs(20));
    options.connect().await.expect("the database")
}

async fn rows(on: &mut SqliteConnection, sql: &str) -> Vec<SqliteRow> {
    sqlx::query(AssertSqlSafe(sql.to_owned())).fetch_all(on).await.unwrap_or_else(|error| panic!("{error}: {sql}"))
}

async fn count(on: &mut SqliteConnection, sql: &str) -> i64 {
    sqlx::query_scalar(AssertSqlSafe(sql.to_owned())).fetch_one(on).await.unwrap_or_else(|error| panic!("{error}: {sql}"))
}

/// What has not come to its end, by kind.
pub(super) async fn open(data: &Path) -> BTreeMap<&'static str, i64> {
    let mut on = opened(data).await;
    let mut left = BTreeMap::new();
    for (what, sql) in [
        ("runs", "SELECT count(*) FROM runs WHERE ended_at IS NULL"),
        ("attempts", "SELECT count(*) FROM attempts WHERE ended_at IS NULL"),
        ("machines", "SELECT count(*) FROM machines WHERE gone_at IS NULL"),
        ("deployments", "SELECT count(*) FROM deployments WHERE ended_at IS NULL"),
        ("work", "SELECT count(*) FROM work WHERE state = 'waiting'"),
        ("notices", "SELECT count(*) FROM notices WHERE state = 'waiting'"),
        ("places in the queue", "SELECT coalesce(sum(json_array_length(state, '$.entries')), 0) FROM landings"),
    ] {
        let there = count(&mut on, sql).await;
        if there > 0 {
            left.insert(what, there);
        }
    }
    left
}

/// How many proposals have landed or left.
pub(super) async fn ended_proposals(data: &Path) -> usize {
    let ended = count(&mut opened(data).await, "SELECT count(DISTINCT proposal) FROM landing_ends").await;
    usize::try_from(ended).unwrap_or(0)
}

/// Each table: how many rows it has, and a digest of them.
pub(super) async fn dump(data: &Path) -> BTreeMap<String, (usize, String)> {
    let mut on = opened(data).await;
    let tables = rows(&mut on, "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%'").await;
    let mut all = BTreeMap::new();
    for table in tables.iter().map(|row| row.get::<String, _>(0)) {
        let columns = rows(&mut on, &format!("PRAGMA table_info({table})")).await;
        let columns: Vec<String> = columns.iter().map(|column| format!("quote({})", column.get::<String, _>("name"))).collect();
        let lines = rows(&mut on, &format!("SELECT {} AS line FROM {table} ORDER BY line", columns.join(" || ',' || "))).await;
        let mut digest = Sha256::new();
        lines.iter().for_each(|line| digest.update(line.get::<String, _>(0)));
        let digest: String = digest.finalize().iter().map(|byte| format!("{byte:02x}")).collect();
        all.insert(table, (lines.len(), digest));
    }
    all
}

struct Attempt {
    run: i64,
    job: i64,
    number: i64,
    runner: String,
    state: String,
}

/// A stretch of time: of a machine, of a deployment.
struct Stretch {
    of: String,
    from: i64,
    to: i64,
    how: String,
}

/// All that is looked at, read when nothing writes any more.
pub(super) struct Book {
    attempts: Vec<Attempt>,
    events: Vec<serde_json::Value>,
    machines: Vec<Stretch>,
    deployments: Vec<Stretch>,
    present: i64,
    /// Proposal, and what it landed as.
    landed: Vec<(String, Option<String>)>,
    passed: BTreeSet<String>,
    notices: Vec<(i64, String)>,
    given_up: Vec<String>,
}

impl Book {
    pub(super) async fn read(data: &Path) -> Book {
        assert!(open(data).await.is_empty(), "{:?}", open(data).await);
        let on = &mut opened(data).await;
        let text = |row: &SqliteRow, at: usize| row.get::<Option<String>, _>(at).unwrap_or_default();
        let stretch = |row: &SqliteRow| Stretch { of: text(row, 0), from: row.get(1), to: row.get(2), how: text(row, 3) };
        let attempts = rows(on, "SELECT run_id, job, number, runner, state FROM attempts ORDER BY run_id, job, number").await;
        let attempt =
            |row: &SqliteRow| Attempt { run: row.get(0), job: row.get(1), number: row.get(2), runner: text(row, 3), state: text(row, 4) };
        let events = rows(on, "SELECT body FROM events ORDER BY id").await;
        let machines = rows(on, "SELECT id, wanted_at, gone_at, stage FROM machines").await;
        let sql =
            "SELECT environments.name, let_in_at, ended_at, outcome FROM deployments JOIN environments ON environments.id = environment_id
                   ORDER BY environment_id, number";
        let deployments = rows(on, sql).await;
        let landed = rows(on, "SELECT proposal, commit_id FROM landing_ends ORDER BY id").await;
        let passed = rows(on, "SELECT commit_id FROM runs WHERE state = 'passed'").await;
        let notices = rows(on, "SELECT id, state FROM notices").await;
        let given_up = rows(on, "SELECT kind || ': ' || coalesce(said, '') FROM work WHERE state = 'given up'").await;
        Book {
            attempts: attempts.iter().map(attempt).collect(),
            events: events.iter().map(|row| serde_json::from_str(&text(row, 0)).expect("JSON")).collect(),
            machines: machines.iter().map(stretch).collect(),
            deployments: deployments.iter().map(stretch).collect(),
            present: count(on, "SELECT coalesce(max(there), 0) FROM (SELECT count(*) AS there FROM deployments WHERE outcome = 'well' AND left_at IS NULL GROUP BY environment_id)").await,
            landed: landed.iter().map(|row| (text(row, 0), row.get(1))).collect(),
            passed: passed.iter().map(|row| text(row, 0)).collect(),
            notices: notices.iter().map(|row| (row.get(0), text(row, 1))).collect(),
            given_up: given_up.iter().map(|row| text(row, 0)).collect(),
        }
    }

    /// No job passed twice or went on after its end; attempts are counted without a gap; a machine did one job; nothing was given up.
    pub(super) fn runs(&self) -> String {
        let mut numbers: BTreeMap<(i64, i64), i64> = BTreeMap::new();
        let mut passed: BTreeSet<(i64, i64)> = BTreeSet::new();
        let mut machines: BTreeMap<&str, u32> = BTreeMap::new();
        for attempt in &self.attempts {
            let (job, what) = ((attempt.run, attempt.job), format!("job {} of run {}", attempt.job, attempt.run));
            let before = numbers.insert(job, attempt.number).unwrap_or(0);
            assert_eq!(attempt.number, before + 1, "{what}: attempts are counted");
            assert!(attempt.state != "passed" || passed.insert(job), "{what} passed twice");
            if attempt.runner.starts_with("heavy-") {
                *machines.entry(&attempt.runner).or_default() += 1;
            }
        }
        assert!(machines.values().all(|jobs| *jobs == 1), "a machine is for one job: {machines:?}");
        let mut states: BTreeMap<(&str, &str), &str> = BTreeMap::new();
        for event in &self.events {
            let (Some(run), Some(job), Some(now)) = (event["run"].as_str(), event["job"].as_str(), event["state"].as_str()) else {
                continue;
            };
            let before = states.insert((run, job), now).unwrap_or_default();
            assert!(!crate::faults::is_end(before) || before == now, "{run} {job} ended as {before} and then was {now}");
        }
        assert!(self.given_up.is_empty(), "work was given up: {:?}", self.given_up);
        let lost = self.attempts.iter().filter(|attempt| attempt.state == "lost").count();
        format!("{} attempts ({lost} lost), {} events", self.attempts.len(), self.events.len())
    }

    /// Never more machines than the pool may have, and none is left.
    pub(super) fn machines(&self, most: i64) -> String {
        let mut changes: Vec<(i64, i64)> = self.machines.iter().flat_map(|machine| [(machine.from, 1), (machine.to, -1)]).collect();
        changes.sort_unstable(); // one that went makes room for one that comes in the same moment
        let (mut there, mut peak) = (0, 0);
        for (_, change) in changes {
            there += change;
            peak = peak.max(there);
        }
        assert!(peak <= most, "{peak} machines at the same time");
        assert!(self.machines.iter().all(|machine| machine.how == "gone"), "one is left");
        format!("{} machines, at most {peak} at once", self.machines.len())
    }

    /// One deployment at a time in each environment, each with an outcome, and one thing there.
    pub(super) fn deployments(&self) -> String {
        for pair in self.deployments.windows(2) {
            let overlap = pair[0].of == pair[1].of && pair[1].from < pair[0].to;
            assert!(!overlap, "in {} one began at {} while the one before went on until {}", pair[0].of, pair[1].from, pair[0].to);
        }
        assert!(self.deployments.iter().all(|one| ["well", "untouched", "failed", "lost"].contains(&one.how.as_str())));
        assert!(self.present <= 1, "two things are in one environment");
        format!("{} deployments, {} well", self.deployments.len(), self.deployments.iter().filter(|one| one.how == "well").count())
    }

    /// What landed is on the main branch once, passed as exactly that commit, and the branch was good at each of them.
    pub(super) fn landings(&self, storm: &Storm) -> String {
        let git = |arguments: &[&str]| storm.repository.git(arguments);
        git(&["fetch", "--quiet", "origin", "main"]);
        let history = git(&["rev-list", "--first-parent", "FETCH_HEAD"]);
        let history: Vec<&str> = history.lines().collect();
        let mut landed: BTreeSet<&str> = BTreeSet::new();
        for (proposal, commit) in &self.landed {
            let Some(commit) = commit else { continue };
            assert!(landed.insert(proposal), "proposal {proposal} landed twice");
            assert_eq!(history.iter().filter(|one| *one == commit).count(), 1, "proposal {proposal}: {commit} is not on the branch");
            assert!(self.passed.contains(commit), "proposal {proposal} landed as {commit}, which never passed");
        }
        for commit in &history {
            let files = git(&["ls-tree", "--name-only", commit]);
            let files: BTreeSet<&str> = files.lines().collect();
            assert!(!files.contains("bad"), "{commit} is bad");
            let both = files.iter().filter_map(|file| file.strip_suffix("-a")).find(|pair| files.contains(format!("{pair}-b").as_str()));
            assert!(both.is_none(), "{commit} has both of {both:?}");
        }
        assert_eq!(landed.len() + 1, history.len(), "every commit after the first is a proposal's");
        format!("{} proposals, {} landed", storm.offered, landed.len())
    }

    /// Every notice was sent, and came.
    pub(super) fn notices(&self, board: &Board) -> String {
        assert!(self.notices.iter().all(|(_, state)| state == "sent"), "{:?}", self.notices);
        let came = board.came();
        assert!(
            came.len() >= usize::from(!self.notices.is_empty()) && came.len() <= self.notices.len(),
            "{} notices, {} came",
            self.notices.len(),
            came.len()
        );
        let again: u32 = came.values().map(|times| times - 1).sum();
        format!("{} notices in {} messages, {again} of them came twice", self.notices.len(), came.len())
    }
}
