//! A database of every earlier form is opened: rows in each of its tables are still there afterwards, and nothing refers to
//! what is not.

use super::{MIGRATIONS, Records, newest_schema};
use sqlx::migrate::Migrator;
use sqlx::sqlite::{SqliteConnectOptions, SqliteConnection, SqliteJournalMode};
use sqlx::{AssertSqlSafe, ConnectOptions, Connection, Row};
use std::collections::BTreeMap;
use std::path::Path;

/// Rows in each table.
const ROWS: i64 = 3;
/// Tables that a later form has otherwise, by the form up to which they were as they are here.
const OTHERWISE: [(&str, i64); 5] = [("occasions", 8), ("outbox", 8), ("journal", 8), ("answers", 6), ("ids", 8)];

struct Column {
    name: String,
    kind: String,
    must: bool,
}

async fn opened(folder: &Path) -> SqliteConnection {
    let path = folder.join("ordotaxis.db");
    let options = SqliteConnectOptions::new().filename(path).create_if_missing(true).journal_mode(SqliteJournalMode::Wal);
    options.foreign_keys(false).connect().await.expect("a database")
}

/// A database as it was with this change as the newest.
async fn as_of(folder: &Path, version: i64) -> SqliteConnection {
    let mut database = opened(folder).await;
    let until: Vec<_> = MIGRATIONS.iter().filter(|one| one.version <= version).cloned().collect();
    Migrator { migrations: until.into(), ..Migrator::DEFAULT }.run(&mut database).await.expect("it was so once");
    database
}

async fn tables(database: &mut SqliteConnection) -> Vec<String> {
    let sql = "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%' AND name NOT LIKE '_sqlx%' ORDER BY rowid";
    sqlx::query_scalar(sql).fetch_all(database).await.expect("names")
}

async fn counts(database: &mut SqliteConnection) -> BTreeMap<String, i64> {
    let mut counts = BTreeMap::new();
    for table in tables(database).await {
        let sql = AssertSqlSafe(format!("SELECT count(*) FROM {table}"));
        counts.insert(table, sqlx::query_scalar(sql).fetch_one(&mut *database).await.expect("a number"));
    }
    counts
}

async fn columns(database: &mut SqliteConnection, table: &str) -> Vec<Column> {
    let rows = sqlx::query(AssertSqlSafe(format!("PRAGMA table_info({table})"))).fetch_all(database).await.expect("columns");
    let column = |row: &sqlx::sqlite::SqliteRow| Column {
        name: row.get("name"),
        kind: row.get::<String, _>("type").to_uppercase(),
        must: row.get::<i64, _>("notnull") + row.get::<i64, _>("pk") > 0,
    };
    rows.iter().map(column).collect()
}

/// What each column refers to: a table and its column.
async fn referred(database: &mut SqliteConnection, table: &str) -> BTreeMap<String, (String, String)> {
    let rows = sqlx::query(AssertSqlSafe(format!("PRAGMA foreign_key_list({table})"))).fetch_all(database).await.expect("keys");
    let to = |row: &sqlx::sqlite::SqliteRow| (row.get("table"), row.get::<Option<String>, _>("to").unwrap_or_else(|| "id".into()));
    rows.iter().map(|row| (row.get("from"), to(row))).collect()
}

/// A value for a row, as SQL.
fn value(column: &Column, row: i64, refers: Option<&(String, String)>) -> String {
    match (refers, column.kind.as_str()) {
        (Some((table, key)), _) => format!("(SELECT {key} FROM {table} ORDER BY {key} LIMIT 1 OFFSET {})", row - 1),
        (None, kind) if kind.starts_with("INT") => row.to_string(),
        (None, kind) if kind.starts_with("BLOB") => format!("x'0{row}'"),
        (None, "REAL") => format!("{row}.5"),
        _ => format!("'{}-{row}'", column.name),
    }
}

/// Puts rows into every table. Where something may be missing and a table's own rules want that, it is.
async fn fill(database: &mut SqliteConnection) {
    for table in tables(database).await {
        let (columns, refers) = (columns(database, &table).await, referred(database, &table).await);
        for row in 1..=ROWS {
            let values: Vec<String> = columns.iter().map(|column| value(column, row, refers.get(&column.name))).collect();
            let mut tried = vec![values.clone()];
            for (at, _) in columns.iter().enumerate().filter(|(_, column)| !column.must) {
                let mut without = values.clone();
                "NULL".clone_into(&mut without[at]);
                tried.push(without);
            }
            let names: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
            let mut refused = String::new();
            for values in tried {
                let sql = format!("INSERT INTO {table} ({}) VALUES ({})", names.join(", "), values.join(", "));
                match sqlx::query(AssertSqlSafe(sql)).execute(&mut *database).await {
                    Ok(_) => {
                        refused.clear();
                        break;
                    }
                    Err(error) => refused = error.to_string(),
                }
            }
            // A table that counts rows of others may have this one already.
            assert!(refused.is_empty() || refused.contains("UNIQUE"), "{table}: {refused}");
        }
    }
}

#[tokio::test]
async fn a_database_of_every_earlier_form_is_brought_up_to_date_with_all_that_is_in_it() {
    for version in 1..newest_schema() {
        let folder = tempfile::tempdir().unwrap();
        let mut old = as_of(folder.path(), version).await;
        fill(&mut old).await;
        let before = counts(&mut old).await;
        old.close().await.unwrap();
        let records = Records::open(folder.path()).await.unwrap_or_else(|error| panic!("from {version}: {error}"));
        records.close().await;
        let mut new = opened(folder.path()).await;
        let newest: i64 = sqlx::query_scalar("SELECT max(version) FROM _sqlx_migrations").fetch_one(&mut new).await.unwrap();
        assert_eq!(newest, newest_schema());
        let sound: Vec<String> = sqlx::query_scalar("PRAGMA integrity_check").fetch_all(&mut new).await.unwrap();
        assert_eq!(sound, ["ok"], "from {version}");
        let dangling = sqlx::query("PRAGMA foreign_key_check").fetch_all(&mut new).await.unwrap();
        let dangling: Vec<String> = dangling.iter().map(|row| row.get::<String, _>("table")).collect();
        assert!(dangling.is_empty(), "from {version}: {dangling:?}");
        let after = counts(&mut new).await;
        for (table, rows) in before {
            let otherwise = OTHERWISE.iter().any(|(name, until)| *name == table && version <= *until);
            assert!(otherwise || after.get(&table) == Some(&rows), "from {version}: {table} had {rows}, has {:?}", after.get(&table));
        }
        new.close().await.unwrap();
        // A second start changes nothing.
        Records::open(folder.path()).await.unwrap().close().await;
    }
}
