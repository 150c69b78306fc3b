//! The journal: who did what, append only. Each row holds the digest of the row before it, so that a row that was
//! changed, taken out or put in between is found.

use super::{Records, StoreError};
use crate::key::hex;
use ordotaxis_core::access::{Action, Actor, Who};
use serde::Serialize;
use serde_json::Value;
use sha2::{Digest, Sha256};
use sqlx::SqliteConnection;

/// The digest that stands before the first row.
const FIRST: &str = "";
/// How many rows are read at once when all are verified.
const PAGE: i64 = 1000;

/// One thing that was done, or refused.
#[derive(Debug, Clone)]
pub struct Entry {
    action: Action,
    project: Option<String>,
    object: String,
    refused: Option<String>,
    before: Option<Value>,
    after: Option<Value>,
}

impl Entry {
    /// On the service. `object` says what it was done to: a person's name, say.
    pub fn new(action: Action, object: impl Into<String>) -> Entry {
        Entry { action, project: None, object: object.into(), refused: None, before: None, after: None }
    }

    /// It concerns this project.
    pub fn of(mut self, project: impl Into<String>) -> Entry {
        self.project = Some(project.into());
        self
    }

    /// Never a secret's value.
    pub fn before(mut self, before: impl Serialize) -> Entry {
        self.before = serde_json::to_value(before).ok();
        self
    }

    /// Never a secret's value.
    pub fn after(mut self, after: impl Serialize) -> Entry {
        self.after = serde_json::to_value(after).ok();
        self
    }

    /// It was not done, and why.
    pub fn refused(mut self, why: impl Into<String>) -> Entry {
        self.refused = Some(why.into());
        self
    }
}

/// One row of the journal. `digest` is over the row and the digest of the row before it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, sqlx::FromRow)]
pub struct JournalRow {
    pub id: i64,
    pub at: i64,
    pub kind: String,
    pub who: String,
    pub who_id: Option<i64>,
    pub way: String,
    pub address: Option<String>,
    pub action: String,
    pub project: Option<String>,
    pub object: String,
    pub refused: Option<String>,
    pub before: Option<String>,
    pub after: Option<String>,
    pub previous: String,
    pub digest: String,
}

impl JournalRow {
    /// SHA-256 over the row's columns but the last, as a JSON list.
    fn digest(&self) -> String {
        let columns = (
            (self.id, self.at, &self.kind, &self.who, self.who_id, &self.way, &self.address),
            (&self.action, &self.project, &self.object, &self.refused, &self.before, &self.after),
            &self.previous,
        );
        hex(&Sha256::digest(serde_json::to_vec(&columns).unwrap_or_default()))
    }
}

/// Which rows are asked for; all that is given must fit.
#[derive(Debug, Clone, Default)]
pub struct JournalFilter {
    pub project: Option<String>,
    pub by: Option<String>,
    /// An action's word, or its beginning up to the dot: `secret`.
    pub action: Option<String>,
    /// Milliseconds since 1970.
    pub since: Option<i64>,
    /// Rows with a lower number only.
    pub before: Option<i64>,
}

/// What was found when all rows were looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum JournalState {
    /// So many rows, and the digest of the last one: kept elsewhere, it proves later that none of them was changed.
    Whole { rows: i64, digest: String },
    /// The first row with which something is wrong, and what.
    Broken { row: i64, why: String },
}

/// Appends rows, each with the digest of the one before it.
pub(super) async fn write(on: &mut SqliteConnection, entries: &[(Actor, Entry)], now: i64) -> Result<(), StoreError> {
    if entries.is_empty() {
        return Ok(());
    }
    let sql = "SELECT id, digest FROM journal ORDER BY id DESC LIMIT 1";
    let last: Option<(i64, String)> = sqlx::query_as(sql).fetch_optional(&mut *on).await?;
    let (mut id, mut previous) = last.unwrap_or((0, FIRST.to_owned()));
    for (actor, entry) in entries {
        id += 1;
        let json = |value: &Option<Value>| value.as_ref().map(Value::to_string);
        let mut row = JournalRow {
            id,
            at: now,
            kind: actor.who.kind().to_owned(),
            who: actor.who.name().to_owned(),
            who_id: if let Who::Person { id, .. } = &actor.who { Some(*id) } else { None },
            way: actor.way.word().to_owned(),
            address: actor.address.clone(),
            action: entry.action.word().to_owned(),
            project: entry.project.clone(),
            object: entry.object.clone(),
            refused: entry.refused.clone(),
            before: json(&entry.before),
            after: json(&entry.after),
            previous,
            digest: String::new(),
        };
        row.digest = row.digest();
        insert(on, &row).await?;
        previous = row.digest;
    }
    sqlx::query("UPDATE ids SET last = ? WHERE of = 'journal'").bind(id).execute(on).await?;
    Ok(())
}

async fn insert(on: &mut SqliteConnection, row: &JournalRow) -> Result<(), StoreError> {
    let sql =
        "INSERT INTO journal (id, at, kind, who, who_id, way, address, action, project, object, refused, before, after, previous, digest)
               VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)";
    sqlx::query(sql)
        .bind(row.id)
        .bind(row.at)
        .bind(&row.kind)
        .bind(&row.who)
        .bind(row.who_id)
        .bind(&row.way)
        .bind(&row.address)
        .bind(&row.action)
        .bind(&row.project)
        .bind(&row.object)
        .bind(&row.refused)
        .bind(&row.before)
        .bind(&row.after)
        .bind(&row.previous)
        .bind(&row.digest)
        .execute(on)
        .await?;
    Ok(())
}

impl Records {
    /// Rows that fit, newest first.
    pub async fn journal(&self, filter: &JournalFilter, limit: i64) -> Result<Vec<JournalRow>, StoreError> {
        let sql = "SELECT * FROM journal WHERE (?1 IS NULL OR project = ?1) AND (?2 IS NULL OR who = ?2)
                   AND (?3 IS NULL OR action = ?3 OR substr(action, 1, length(?3) + 1) = ?3 || '.')
                   AND (?4 IS NULL OR at >= ?4) AND id < ?5 ORDER BY id DESC LIMIT ?6";
        let query = sqlx::query_as(sql).bind(&filter.project).bind(&filter.by).bind(&filter.action).bind(filter.since);
        Ok(query.bind(filter.before.unwrap_or(i64::MAX)).bind(limit).fetch_all(&self.reads).await?)
    }

    /// Looks at every row. `against` is a row's number and the digest that it had earlier, as someone wrote it down.
    pub async fn verify_journal(&self, against: Option<(i64, &str)>) -> Result<JournalState, StoreError> {
        let last: i64 = sqlx::query_scalar("SELECT last FROM ids WHERE of = 'journal'").fetch_one(&self.reads).await?;
        let (mut rows, mut digest) = (0, FIRST.to_owned());
        let broken = |row: i64, why: &str| Ok(JournalState::Broken { row, why: why.to_owned() });
        loop {
            let sql = "SELECT * FROM journal WHERE id > ? ORDER BY id LIMIT ?";
            let page: Vec<JournalRow> = sqlx::query_as(sql).bind(rows).bind(PAGE).fetch_all(&self.reads).await?;
            if page.is_empty() {
                break;
            }
            for row in page {
                if row.id != rows + 1 {
                    return broken(rows + 1, "it is missing");
                }
                if row.previous != digest {
                    return broken(row.id, "it does not follow the row before it");
                }
                if row.digest() != row.digest {
                    return broken(row.id, "it was changed");
                }
                if against.is_some_and(|(number, known)| number == row.id && known != row.digest) {
                    return broken(row.id, "its digest is not the one that was written down");
                }
                (rows, digest) = (row.id, row.digest);
            }
        }
        // Rows may have been added while this went on, none may be missing.
        let told = against.map_or(0, |(number, _)| number);
        if rows < last.max(told) {
            return broken(rows + 1, "it is missing, with all after it");
        }
        Ok(JournalState::Whole { rows, digest })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    async fn written(rows: usize) -> (tempfile::TempDir, Records) {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path()).await.unwrap();
        let ines = Actor { who: Who::Person { id: 1, name: "ines".into() }, ..Actor::rule("") };
        for number in 0..rows {
            let mut tx = records.tx(&ines, 1_000 + number as i64).await.unwrap();
            tx.note(
                Entry::new(Action::SetSecret, format!("KEY_{number}")).of("tidegauge").after(serde_json::json!({ "branches": ["main"] })),
            );
            tx.commit().await.unwrap();
        }
        sqlx::raw_sql("DROP TRIGGER journal_stays; DROP TRIGGER journal_is_whole").execute(&records.writer).await.unwrap();
        (folder, records)
    }

    #[derive(Debug, Clone)]
    enum Tampering {
        Change { row: i64, column: &'static str },
        Remove { row: i64 },
        RemoveAfter { row: i64 },
        Swap { row: i64 },
        Insert,
    }

    fn tampering(rows: i64) -> impl Strategy<Value = Tampering> {
        let columns = [
            "at", "kind", "who", "who_id", "way", "address", "action", "project", "object", "refused", "before", "after", "previous",
            "digest",
        ];
        prop_oneof![
            (1..=rows, prop::sample::select(columns.to_vec())).prop_map(|(row, column)| Tampering::Change { row, column }),
            (1..=rows).prop_map(|row| Tampering::Remove { row }),
            (1..=rows).prop_map(|row| Tampering::RemoveAfter { row }),
            (1..rows).prop_map(|row| Tampering::Swap { row }),
            Just(Tampering::Insert),
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]
        #[test]
        fn tampering_with_any_row_is_found(tampering in tampering(7)) {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
            runtime.block_on(async {
                let (_folder, records) = written(7).await;
                assert!(matches!(records.verify_journal(None).await.unwrap(), JournalState::Whole { rows: 7, .. }));
                let sql = match tampering {
                    Tampering::Change { row, column } => format!("UPDATE journal SET {column} = coalesce({column}, '') || '1' WHERE id = {row}"),
                    Tampering::Remove { row } => format!("DELETE FROM journal WHERE id = {row}"),
                    Tampering::RemoveAfter { row } => format!("DELETE FROM journal WHERE id >= {row}"),
                    Tampering::Swap { row } => format!(
                        "UPDATE journal SET id = 100 WHERE id = {row}; UPDATE journal SET id = {row} WHERE id = {row} + 1; UPDATE journal SET id = {row} + 1 WHERE id = 100"
                    ),
                    Tampering::Insert => "INSERT INTO journal SELECT 8, at, kind, 'tomas', who_id, way, address, action, project, object, refused, before, after, previous, digest FROM journal WHERE id = 7".into(),
                };
                sqlx::raw_sql(sqlx::AssertSqlSafe(sql)).execute(&records.writer).await.unwrap();
                let found = records.verify_journal(None).await.unwrap();
                assert!(matches!(found, JournalState::Broken { .. }), "{tampering:?}: {found:?}");
            });
        }
    }

    #[tokio::test]
    async fn a_digest_that_was_written_down_finds_a_journal_that_was_rebuilt() {
        let (_folder, records) = written(3).await;
        let JournalState::Whole { digest, .. } = records.verify_journal(None).await.unwrap() else { panic!("whole") };
        assert!(matches!(records.verify_journal(Some((3, &digest))).await.unwrap(), JournalState::Whole { .. }));
        let (_other_folder, other) = written(2).await;
        assert_eq!(
            other.verify_journal(Some((3, &digest))).await.unwrap(),
            JournalState::Broken { row: 3, why: "it is missing, with all after it".into() }
        );
        assert!(matches!(records.verify_journal(Some((2, &digest))).await.unwrap(), JournalState::Broken { row: 2, .. }));
    }

    #[tokio::test]
    async fn what_a_person_does_is_noted_or_not_done() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path()).await.unwrap();
        let ines = Actor { who: Who::Person { id: 1, name: "ines".into() }, ..Actor::rule("") };
        let tx = records.tx(&ines, 1).await.unwrap();
        assert!(matches!(tx.commit().await, Err(StoreError::Unnoted)));
        records.tx_by_rule("sweep", 1).await.unwrap().commit().await.unwrap();
    }
}
