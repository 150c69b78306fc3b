//! What jobs have given: names for trees in the store, each kept for a while or for good.

use super::{Records, StoreError};
use sqlx::SqliteConnection;

#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct StoredArtifact {
    pub run_id: i64,
    pub job: i64,
    pub name: String,
    /// For people: `sha256:…` of what `sha256sum` prints for the files.
    pub digest: String,
    /// What was new to the store, packed.
    pub bytes: i64,
    pub files: i64,
    /// Names the tree in the store. None for one of before, that has not been brought over.
    pub tree: Option<String>,
    /// Of the files.
    pub raw_bytes: i64,
    /// Names what is in it, without times: the same for two that are alike.
    pub content: String,
    pub kept_until: Option<i64>,
    pub pinned_by: Option<String>,
}

/// An artifact that may be swept away.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct DueArtifact {
    pub run_id: i64,
    pub project: String,
    pub number: i64,
    pub job: i64,
    pub name: String,
    pub raw_bytes: i64,
    pub kept_until: i64,
}

pub(super) async fn write(tx: &mut SqliteConnection, row: &StoredArtifact) -> Result<(), StoreError> {
    let sql = "INSERT OR REPLACE INTO artifacts (run_id, job, name, digest, bytes, files, tree, raw_bytes, content, kept_until, pinned_by)
               VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)";
    sqlx::query(sql)
        .bind(row.run_id)
        .bind(row.job)
        .bind(&row.name)
        .bind(&row.digest)
        .bind(row.bytes)
        .bind(row.files)
        .bind(&row.tree)
        .bind(row.raw_bytes)
        .bind(&row.content)
        .bind(row.kept_until)
        .bind(&row.pinned_by)
        .execute(tx)
        .await?;
    Ok(())
}

impl Records {
    pub async fn artifacts(&self, run_id: i64) -> Result<Vec<StoredArtifact>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM artifacts WHERE run_id = ? ORDER BY job, name").bind(run_id).fetch_all(&self.pool).await?)
    }

    pub async fn artifact(&self, run_id: i64, job: i64, name: &str) -> Result<Option<StoredArtifact>, StoreError> {
        let sql = "SELECT * FROM artifacts WHERE run_id = ? AND job = ? AND name = ?";
        Ok(sqlx::query_as(sql).bind(run_id).bind(job).bind(name).fetch_optional(&self.pool).await?)
    }

    /// Says that an artifact is to be kept for good, or with none that it is not.
    pub async fn pin_artifact(&self, run_id: i64, job: i64, name: &str, by: Option<&str>) -> Result<bool, StoreError> {
        let sql = "UPDATE artifacts SET pinned_by = ? WHERE run_id = ? AND job = ? AND name = ?";
        let done = sqlx::query(sql).bind(by).bind(run_id).bind(job).bind(name).execute(&self.pool).await?;
        Ok(done.rows_affected() > 0)
    }

    /// Artifacts whose time is over, of runs that have ended and that nobody pinned; the oldest first.
    pub async fn due_artifacts(&self, now: i64) -> Result<Vec<DueArtifact>, StoreError> {
        let sql = "SELECT run_id, projects.name AS project, runs.number, job, artifacts.name, raw_bytes, kept_until FROM artifacts
                   JOIN runs ON runs.id = run_id JOIN projects ON projects.id = runs.project_id
                   WHERE kept_until < ? AND pinned_by IS NULL AND runs.ended_at IS NOT NULL ORDER BY kept_until, run_id, job";
        Ok(sqlx::query_as(sql).bind(now).fetch_all(&self.pool).await?)
    }

    pub async fn drop_artifact(&self, due: &DueArtifact) -> Result<(), StoreError> {
        let sql = "DELETE FROM artifacts WHERE run_id = ? AND job = ? AND name = ? AND pinned_by IS NULL";
        sqlx::query(sql).bind(due.run_id).bind(due.job).bind(&due.name).execute(&self.pool).await?;
        Ok(())
    }

    /// Every tree that something in here names, each once, with what names it.
    pub async fn named_trees(&self) -> Result<Vec<(String, String)>, StoreError> {
        let sql = "SELECT tree, min(what) FROM (
                     SELECT tree, 'artifact ' || artifacts.name || ' of ' || projects.name || '/' || runs.number AS what FROM artifacts
                       JOIN runs ON runs.id = run_id JOIN projects ON projects.id = runs.project_id WHERE tree IS NOT NULL
                     UNION ALL SELECT tree, 'cache ' || key || ' of ' || projects.name FROM caches
                       JOIN projects ON projects.id = project_id)
                   GROUP BY tree";
        Ok(sqlx::query_as(sql).fetch_all(&self.pool).await?)
    }

    /// The trees that would still have a name without these artifacts and entries of caches.
    pub async fn trees_kept_after(&self, artifacts: &[DueArtifact], caches: &[i64]) -> Result<Vec<String>, StoreError> {
        let gone: Vec<(i64, i64, &str)> = artifacts.iter().map(|due| (due.run_id, due.job, due.name.as_str())).collect();
        let sql = "SELECT tree FROM artifacts WHERE tree IS NOT NULL AND NOT EXISTS (
                     SELECT 1 FROM json_each(?1) WHERE value ->> 0 = run_id AND value ->> 1 = job AND value ->> 2 = name)
                   UNION SELECT tree FROM caches WHERE id NOT IN (SELECT value FROM json_each(?2))";
        let json = |text: serde_json::Result<String>| text.map_err(|_| StoreError::Value("what is swept"));
        let (gone, caches) = (json(serde_json::to_string(&gone))?, json(serde_json::to_string(caches))?);
        Ok(sqlx::query_scalar(sql).bind(gone).bind(caches).fetch_all(&self.pool).await?)
    }

    /// Artifacts of before, that are whole archives: run, job, name and the archive's digest.
    pub(crate) async fn archived_artifacts(&self) -> Result<Vec<StoredArtifact>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM artifacts WHERE tree IS NULL").fetch_all(&self.pool).await?)
    }

    pub(crate) async fn bring_over(&self, row: &StoredArtifact) -> Result<(), StoreError> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        write(&mut tx, row).await?;
        Ok(tx.commit().await?)
    }
}
