//! What jobs have given: names for trees in the store, each kept for a while or for good.

use super::{Records, StoreError, Tx};
use serde::Deserialize;
use sqlx::SqliteConnection;

/// An artifact of a job, as stored.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow, Deserialize)]
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

/// Writes an artifact; one of the same run, job and name is replaced.
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
    /// Of a run, in order of jobs and names. One row of JSON: ten thousand rows one by one would take four times as long.
    pub async fn artifacts(&self, run_id: i64) -> Result<Vec<StoredArtifact>, StoreError> {
        let sql = "SELECT json_group_array(
                     json_array(run_id, job, name, digest, bytes, files, tree, raw_bytes, content, kept_until, pinned_by))
                   FROM (SELECT * FROM artifacts WHERE run_id = ? ORDER BY job, name)";
        let list: String = sqlx::query_scalar(sql).bind(run_id).fetch_one(&self.reads).await?;
        serde_json::from_str(&list).map_err(|_| StoreError::Value("artifacts"))
    }

    /// One artifact; none when the job has not given it.
    pub async fn artifact(&self, run_id: i64, job: i64, name: &str) -> Result<Option<StoredArtifact>, StoreError> {
        let sql = "SELECT * FROM artifacts WHERE run_id = ? AND job = ? AND name = ?";
        Ok(sqlx::query_as(sql).bind(run_id).bind(job).bind(name).fetch_optional(&self.reads).await?)
    }

    /// Whether jobs of a run may read a tree: it is an artifact of the run, or in a cache of the project.
    pub async fn may_read(&self, run_id: i64, tree: &str) -> Result<bool, StoreError> {
        let sql = "SELECT EXISTS (SELECT 1 FROM artifacts WHERE run_id = ?1 AND tree = ?2)
                   OR EXISTS (SELECT 1 FROM caches WHERE project_id = (SELECT project_id FROM runs WHERE id = ?1) AND tree = ?2)";
        Ok(sqlx::query_scalar(sql).bind(run_id).bind(tree).fetch_one(&self.reads).await?)
    }

    /// Artifacts whose time is over, of runs that have ended and that nobody pinned; the oldest first. What is in an environment,
    /// was there lately, or waits to go in stays.
    pub async fn due_artifacts(&self, now: i64) -> Result<Vec<DueArtifact>, StoreError> {
        let sql = "SELECT run_id, projects.name AS project, runs.number, job, artifacts.name, raw_bytes, kept_until FROM artifacts
                   JOIN runs ON runs.id = run_id JOIN projects ON projects.id = runs.project_id
                   WHERE kept_until < ? AND pinned_by IS NULL AND runs.ended_at IS NOT NULL
                     AND NOT EXISTS (SELECT 1 FROM deployed JOIN deployments ON deployments.id = deployment_id
                       WHERE deployed.digest = artifacts.digest AND deployments.kept)
                     AND NOT EXISTS (SELECT 1 FROM jobs WHERE jobs.run_id = artifacts.run_id AND jobs.holds IS NOT NULL)
                   ORDER BY kept_until, run_id, job";
        Ok(sqlx::query_as(sql).bind(now).fetch_all(&self.reads).await?)
    }

    /// Every tree that something in here names, each once, with what names it.
    pub async fn named_trees(&self) -> Result<Vec<(String, String)>, StoreError> {
        let sql = "SELECT tree, min(what) FROM (
                     SELECT tree, 'artifact ' || artifacts.name || ' of ' || projects.name || '/' || runs.number AS what FROM artifacts
                       JOIN runs ON runs.id = run_id JOIN projects ON projects.id = runs.project_id WHERE tree IS NOT NULL
                     UNION ALL SELECT tree, 'cache ' || key || ' of ' || projects.name FROM caches
                       JOIN projects ON projects.id = project_id)
                   GROUP BY tree";
        Ok(sqlx::query_as(sql).fetch_all(&self.reads).await?)
    }

    /// The trees that would still have a name without these artifacts and entries of caches.
    pub async fn trees_kept_after(&self, artifacts: &[DueArtifact], caches: &[i64]) -> Result<Vec<String>, StoreError> {
        let gone: Vec<(i64, i64, &str)> = artifacts.iter().map(|due| (due.run_id, due.job, due.name.as_str())).collect();
        let sql = "SELECT tree FROM artifacts WHERE tree IS NOT NULL AND NOT EXISTS (
                     SELECT 1 FROM json_each(?1) WHERE value ->> 0 = run_id AND value ->> 1 = job AND value ->> 2 = name)
                   UNION SELECT tree FROM caches WHERE id NOT IN (SELECT value FROM json_each(?2))";
        let json = |text: serde_json::Result<String>| text.map_err(|_| StoreError::Value("what is swept"));
        let (gone, caches) = (json(serde_json::to_string(&gone))?, json(serde_json::to_string(caches))?);
        Ok(sqlx::query_scalar(sql).bind(gone).bind(caches).fetch_all(&self.reads).await?)
    }

    /// Artifacts of before, that are whole archives: run, job, name and the archive's digest.
    pub(crate) async fn archived_artifacts(&self) -> Result<Vec<StoredArtifact>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM artifacts WHERE tree IS NULL").fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// Says that an artifact is to be kept for good, or with none that it is not.
    pub async fn pin_artifact(&mut self, run_id: i64, job: i64, name: &str, by: Option<&str>) -> Result<bool, StoreError> {
        let sql = "UPDATE artifacts SET pinned_by = ? WHERE run_id = ? AND job = ? AND name = ?";
        let done = sqlx::query(sql).bind(by).bind(run_id).bind(job).bind(name).execute(&mut *self.on).await?;
        Ok(done.rows_affected() > 0)
    }

    /// Forgets an artifact; its chunks stay until the next sweep. A repeat changes nothing.
    pub async fn drop_artifact(&mut self, due: &DueArtifact) -> Result<(), StoreError> {
        let sql = "DELETE FROM artifacts WHERE run_id = ? AND job = ? AND name = ? AND pinned_by IS NULL";
        sqlx::query(sql).bind(due.run_id).bind(due.job).bind(&due.name).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Writes an artifact of an older data folder with the tree that it is kept in now.
    pub(crate) async fn bring_over(&mut self, row: &StoredArtifact) -> Result<(), StoreError> {
        write(&mut self.on, row).await?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Blobs, Place};
    use sha2::{Digest, Sha256};

    /// An archive of before, as that version wrote it.
    fn archive() -> Vec<u8> {
        let mut builder = tar::Builder::new(zstd::Encoder::new(Vec::new(), 1).unwrap());
        let mut header = tar::Header::new_gnu();
        header.set_size(9);
        header.set_mode(0o755);
        builder.append_data(&mut header, "out/gauge", &b"firmware\n"[..]).unwrap();
        let mut header = tar::Header::new_gnu();
        header.set_entry_type(tar::EntryType::Symlink);
        header.set_size(0);
        builder.append_link(&mut header, "out/latest", "gauge").unwrap();
        builder.into_inner().unwrap().finish().unwrap()
    }

    #[tokio::test]
    async fn archives_of_before_become_trees_once() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path()).await.unwrap();
        let bytes = archive();
        let hex: String = Sha256::digest(&bytes).iter().map(|byte| format!("{byte:02x}")).collect();
        let sql = "INSERT INTO projects (id, name, git_url, main_branch, hook_secret, created_at) VALUES (1, 'tidegauge', '', 'main', '', 0);
            INSERT INTO runs (id, project_id, number, pipeline, state, commit_id, commit_title, commit_author, commit_time, event, created_at)
              VALUES (1, 1, 1, 'main', 'passed', 'c', '', '', 0, 'push', 0)";
        sqlx::raw_sql(sql).execute(&records.writer).await.unwrap();
        for (job, digest) in [(0, format!("sha256:{hex}")), (1, "sha256:gone".to_owned())] {
            let sql = "INSERT INTO artifacts (run_id, job, name, digest, bytes, files) VALUES (1, ?, 'fw', ?, 9, 2)";
            sqlx::query(sql).bind(job).bind(digest).execute(&records.writer).await.unwrap();
        }
        let old = folder.path().join("blobs");
        std::fs::create_dir_all(old.join(&hex[..2])).unwrap();
        std::fs::write(old.join(&hex[..2]).join(&hex[2..]), &bytes).unwrap();
        let blobs = Blobs::open(&Place::Local(old.clone()), None, records.clone()).await.unwrap();
        for _ in 0..2 {
            blobs.bring_over(&old, 1).await.unwrap();
            let rows = records.artifacts(1).await.unwrap();
            let tree = blobs.tree(&rows[0].tree.as_ref().unwrap().parse().unwrap()).await.unwrap();
            let names: Vec<String> = tree.entries().iter().map(|entry| entry.name()).collect();
            assert_eq!((names, rows[0].raw_bytes, rows[0].files), (vec!["out/gauge".to_owned(), "out/latest".to_owned()], 9, 2));
            assert_eq!(rows[1].tree, None, "what cannot be read stays as it is");
        }
        assert!(!old.join(&hex[..2]).join(&hex[2..]).exists());
        assert_eq!(records.due_artifacts(i64::MAX).await.unwrap(), [], "they were made before there was a time to keep them for");
    }
}
