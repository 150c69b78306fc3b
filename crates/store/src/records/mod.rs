//! SQLite through one open path. Reads run side by side on connections that cannot write; all that changes goes through
//! [`Tx`] on the one connection that can, so that writers wait in order and none fails because another was faster.

mod ages;
#[cfg(test)]
mod ages_tests;
mod artifacts;
mod board;
mod caches;
mod connections;
mod deliveries;
mod environments;
mod error;
mod events;
mod heads;
mod insight;
mod job_row;
mod journal;
mod kept;
mod keys;
mod landings;
mod notices;
mod numbers;
mod packs;
mod persons;
mod pipelines;
mod pools;
mod projects;
mod proposals;
mod refs;
mod releases;
mod results;
mod reusable;
mod rings;
mod runners;
mod runs;
mod secrets;
mod segments;
mod sessions;
mod ships;
mod signing;
mod sought;
mod step;
mod timing;
mod tokens;
mod told;
mod tracing;
mod tx;
#[cfg(test)]
mod upgrade_tests;
mod usual;
mod work;

pub use ages::{Cutoffs, OldRows, OldRun};
pub use artifacts::{DueArtifact, StoredArtifact};
pub use board::{BoardRow, BrokenRow};
pub use caches::{CacheRow, NewCache};
pub use connections::ConnectionRow;
pub use deliveries::{DeliveryRow, NewDelivery};
pub use environments::{DeploymentRow, EnvironmentRow, NewDeployment, PastRow, PreviewRow};
pub use error::StoreError;
pub use events::{Event, NewEvent, RunEvent};
pub use heads::{Head, Sibling};
pub use insight::{CacheUseRow, RanRow, ReusedRow, RunEndRow, TriedRow};
pub use job_row::JobRow;
pub use journal::{Entry, JournalFilter, JournalRow, JournalState};
pub use keys::Kind;
pub use landings::{LandingEnd, TrialRun};
pub use notices::{NewNotice, NoticeRow};
pub use numbers::{NewNumber, NumberRow};
pub use persons::{GrantRow, GroupRow, Holder, IdentityRow, PersonRow};
pub use pipelines::{DueSchedule, StoredPipeline};
pub use pools::{Invited, PoolRow};
pub use projects::{Forge, Project, Unsealed};
pub use proposals::{ForgeWord, Given, ProposalRow, ReviewRow};
pub use refs::PolledRow;
pub use releases::{Holding, NewRelease, ReleaseAsset, ReleaseEdit, ReleaseRow};
pub use results::{FindingRow, FlakyRow, HistoryRow, NewResult, ResultRow, ResultsOf};
pub use reusable::ReusableRow;
pub use runners::{Busy, Granted, RunnerRow, ToolRow};
pub use runs::{NewRunRow, RunKey, RunRow, SetAside, StoredRun};
pub use secrets::{Reach, SecretRow};
pub(crate) use segments::LogSegmentRow;
pub use sessions::{NewSession, SessionRow};
pub use ships::{BehindRow, ShipRow};
pub use signing::SigningKeyRow;
pub use sought::{SoughtJob, SoughtRun, SoughtTest};
pub use step::{AttemptRow, RunChange, StepRows};
pub use timing::Timing;
pub use tokens::{GoodToken, JobToken, NewToken, TokenRow};
pub use tracing::{ComponentRow, MadeRow, NewBill, StatementRow, StayRow, TracedFile};
pub use tx::Tx;
pub use usual::Took;
pub use work::{DueWork, NewWork, TroubledWork, WorkCount, WorkKind};

use error::exists;
use rings::Rings;
use sqlx::migrate::MigrateError;
use sqlx::pool::PoolConnection;
use sqlx::sqlite::{SqliteConnectOptions, SqliteJournalMode, SqlitePoolOptions, SqliteSynchronous};
use sqlx::{Sqlite, SqlitePool};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{Notify, watch};

/// The database. Cloning gives another handle to the same connections.
#[derive(Clone)]
pub struct Records {
    /// Connections that read only.
    reads: SqlitePool,
    /// The one connection that writes.
    writer: SqlitePool,
    rings: Arc<Rings>,
    timing: Timing,
    path: Arc<Path>,
}

/// Who writes changes from SQLite's log back into the database file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WriteBack {
    /// SQLite, when the log has a thousand pages.
    BySqlite,
    /// Who sends them to a backup: nothing is written back that was not taken before.
    ByBackup,
}

/// The newest change of the database's form that this version knows.
pub(crate) fn newest_schema() -> i64 {
    MIGRATIONS.iter().map(|migration| migration.version).max().unwrap_or(0)
}

static MIGRATIONS: sqlx::migrate::Migrator = sqlx::migrate!("./migrations");

/// How many questions are answered side by side.
const READERS: u32 = 4;

impl Records {
    #[cfg(test)]
    pub(crate) fn writer(&self) -> &SqlitePool {
        &self.writer
    }

    /// A connection that nobody else uses.
    #[cfg(test)]
    pub(crate) async fn own_write(&self) -> sqlx::SqliteConnection {
        use sqlx::ConnectOptions;
        SqliteConnectOptions::new().filename(&self.path).connect().await.expect("a connection")
    }

    /// Opens the database in `folder`, making it on first use (only its owner can read it). Only the service may call
    /// this: it migrates, and SQLite gives no lock against two that do so at once.
    pub async fn open(folder: &Path) -> Result<Records, StoreError> {
        Records::open_as(folder, WriteBack::BySqlite).await
    }

    /// The same, where changes may be sent to a backup.
    pub async fn open_as(folder: &Path, write_back: WriteBack) -> Result<Records, StoreError> {
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
        let options = match write_back {
            WriteBack::BySqlite => options,
            WriteBack::ByBackup => options.pragma("wal_autocheckpoint", "0"),
        };
        let writer = SqlitePoolOptions::new().max_connections(1).test_before_acquire(false).connect_with(options.clone()).await?;
        MIGRATIONS.run(&writer).await.map_err(|error| match error {
            MigrateError::VersionMissing(_) | MigrateError::VersionTooNew(..) => StoreError::Newer,
            other => StoreError::Migrate(other),
        })?;
        let reads = SqlitePoolOptions::new()
            .max_connections(READERS)
            .test_before_acquire(false)
            .connect_with(options.pragma("query_only", "ON"))
            .await?;
        let newest = sqlx::query_scalar("SELECT coalesce(max(id), 0) FROM events").fetch_one(&reads).await?;
        let rings = Rings { events: watch::Sender::new(newest), run_events: watch::Sender::new(newest), work: Notify::new() };
        Ok(Records { reads, writer, rings: Arc::new(rings), timing: Timing::default(), path: path.into() })
    }

    /// The database's file.
    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// The one connection that writes: nothing changes while it is held.
    pub(crate) async fn hold(&self) -> Result<PoolConnection<Sqlite>, sqlx::Error> {
        self.writer.acquire().await
    }

    /// Writes back what SQLite's log holds, as far as readers let it: where a backup does that and has not begun.
    pub async fn write_back(&self) -> Result<(), StoreError> {
        let mut held = self.writer.acquire().await?;
        sqlx::query("PRAGMA wal_checkpoint(PASSIVE)").execute(&mut *held).await?;
        Ok(())
    }

    /// Whether the service has sealed anything with its key.
    pub async fn has_sealed(&self) -> Result<bool, StoreError> {
        let sql = "SELECT EXISTS (SELECT 1 FROM projects WHERE sealed IS NOT NULL) OR EXISTS (SELECT 1 FROM secrets)
            OR EXISTS (SELECT 1 FROM connections) OR EXISTS (SELECT 1 FROM signing_keys)";
        Ok(sqlx::query_scalar(sql).fetch_one(&self.reads).await?)
    }

    /// How long changes wait and take.
    pub fn timing(&self) -> Timing {
        self.timing.clone()
    }

    /// Whether the database answers.
    pub async fn ready(&self) -> bool {
        sqlx::query("SELECT 1").execute(&self.reads).await.is_ok()
    }

    /// Closes all connections after their last call.
    pub async fn close(&self) {
        self.reads.close().await;
        self.writer.close().await;
    }
}

#[cfg(unix)]
fn private(path: &Path) -> std::io::Result<()> {
    use std::os::unix::fs::OpenOptionsExt;
    std::fs::OpenOptions::new().create(true).append(true).mode(0o600).open(path).map(drop)
}
