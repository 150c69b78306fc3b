//! SQLite through one open path. Reads may run side by side; the service's one writer task writes runs (see
//! [`step`]), and the few other writes are short and begin `IMMEDIATE`.

mod artifacts;
mod board;
mod caches;
mod connections;
mod keys;
mod numbers;
mod occasions;
mod outbox;
mod packs;
mod pipelines;
mod projects;
mod results;
mod reusable;
mod runners;
mod runs;
mod secrets;
mod segments;
mod step;
mod usual;

pub use artifacts::{DueArtifact, StoredArtifact};
pub use board::{BoardRow, BrokenRow};
pub use caches::{CacheRow, NewCache};
pub use connections::ConnectionRow;
pub use keys::Kind;
pub use numbers::{NewNumber, NumberRow};
pub use occasions::{DueOccasion, Head, Sibling};
pub use outbox::{DueMessage, GivenUpMessage, Message};
pub use pipelines::{DueSchedule, StoredPipeline};
pub use projects::{Forge, Project, Unsealed};
pub use results::{FindingRow, FlakyRow, HistoryRow, NewResult, ResultRow, ResultsOf};
pub use reusable::ReusableRow;
pub use runners::{Busy, Granted, RunnerRow, ToolRow};
pub use runs::{NewRunRow, RunKey, RunRow, SetAside, StoredRun};
pub use secrets::{Reach, SecretRow};
pub(crate) use segments::LogSegmentRow;
pub use step::{AttemptRow, JobRow, Journal, PassedRun, RunChange, StepRows, Took};

use sqlx::SqlitePool;
use sqlx::migrate::MigrateError;
use sqlx::sqlite::{SqliteConnectOptions, SqliteJournalMode, SqlitePoolOptions, SqliteSynchronous};
use std::path::{Path, PathBuf};
use std::time::Duration;

#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    #[error("the data folder {} could not be prepared", path.display())]
    Folder {
        path: PathBuf,
        #[source]
        source: std::io::Error,
    },
    #[error("the database could not be asked")]
    Database(#[from] sqlx::Error),
    #[error("the database was written by a newer version of ordotaxis; start that version, or restore a backup made before it ran")]
    Newer,
    #[error("the database could not be brought to this version's form")]
    Migrate(#[source] MigrateError),
    #[error("the database holds a value that cannot be read: {0}")]
    Value(&'static str),
    #[error("there is already {what} `{name}`")]
    Exists { what: &'static str, name: String },
}

#[derive(Clone)]
pub struct Records {
    pool: SqlitePool,
}

impl Records {
    #[cfg(test)]
    pub(crate) fn pool(&self) -> &SqlitePool {
        &self.pool
    }

    /// Opens the database in `folder`, making it on first use (only its owner can read it). Only the service may call
    /// this: it migrates, and SQLite gives no lock against two that do so at once.
    pub async fn open(folder: &Path) -> Result<Records, StoreError> {
        let path = folder.join("ordotaxis.db");
        private(&path).map_err(|source| StoreError::Folder { path: path.clone(), source })?;
        let options = SqliteConnectOptions::new()
            .filename(&path)
            .create_if_missing(true)
            .journal_mode(SqliteJournalMode::Wal)
            .synchronous(SqliteSynchronous::Full)
            .foreign_keys(true)
            // What is taken out is overwritten: a secret of before must not lie in a free page.
            .pragma("secure_delete", "ON")
            .busy_timeout(Duration::from_secs(10));
        let pool = SqlitePoolOptions::new().max_connections(4).connect_with(options).await?;
        sqlx::migrate!("./migrations").run(&pool).await.map_err(|error| match error {
            MigrateError::VersionMissing(_) | MigrateError::VersionTooNew(..) => StoreError::Newer,
            other => StoreError::Migrate(other),
        })?;
        Ok(Records { pool })
    }

    /// Whether the database answers.
    pub async fn ready(&self) -> bool {
        sqlx::query("SELECT 1").execute(&self.pool).await.is_ok()
    }

    pub async fn close(&self) {
        self.pool.close().await;
    }
}

#[cfg(unix)]
fn private(path: &Path) -> std::io::Result<()> {
    use std::os::unix::fs::OpenOptionsExt;
    std::fs::OpenOptions::new().create(true).append(true).mode(0o600).open(path).map(drop)
}

/// Turns the refusal of a unique index into a sentence.
fn exists(error: sqlx::Error, what: &'static str, name: &str) -> StoreError {
    match &error {
        sqlx::Error::Database(database) if database.is_unique_violation() => StoreError::Exists { what, name: name.to_owned() },
        _ => StoreError::Database(error),
    }
}
