//! Releases: what was made known, with what it rests on, its notes and what is fetched of it.

use super::error::json;
use super::{Records, StoreError, Tx};
use serde::{Deserialize, Serialize};

/// A release as it is stored.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct ReleaseRow {
    pub id: i64,
    pub project_id: i64,
    pub version: String,
    pub title: String,
    /// `draft`, `published`, `withdrawn`
    pub state: String,
    pub commit_id: String,
    pub tag: String,
    pub run_id: i64,
    /// `stations/41`
    pub run: String,
    pub job: i64,
    pub job_id: String,
    /// Markdown
    pub notes: String,
    /// JSON, version 1; never changes.
    pub evidence: String,
    pub made_at: i64,
    pub published_at: Option<i64>,
    /// None: a rule.
    pub published_by: Option<String>,
    pub withdrawn_at: Option<i64>,
    pub withdrawn_by: Option<String>,
    pub reason: Option<String>,
    /// What became of telling the forge.
    pub told: Option<String>,
}

/// An artifact that belongs to a release.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, sqlx::FromRow)]
pub struct ReleaseAsset {
    pub job: i64,
    pub job_id: String,
    pub name: String,
    pub digest: String,
    pub bytes: i64,
    pub files: i64,
}

/// Notes and title as they once were.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct ReleaseEdit {
    pub number: i64,
    pub title: String,
    pub notes: String,
    /// None: a rule.
    pub by: Option<String>,
    pub at: i64,
}

/// A release that is made now.
#[derive(Debug, Clone)]
pub struct NewRelease<'a> {
    pub project_id: i64,
    pub version: &'a str,
    pub title: &'a str,
    pub draft: bool,
    pub commit_id: &'a str,
    pub tag: &'a str,
    pub run_id: i64,
    pub run: &'a str,
    pub job: i64,
    pub job_id: &'a str,
    pub notes: &'a str,
    pub evidence: &'a str,
    pub assets: &'a [ReleaseAsset],
}

/// A release that holds an artifact: its digest, project, version, state.
pub type Holding = (String, String, String, String);

impl Records {
    /// A project's releases, the newest first.
    pub async fn releases(&self, project_id: i64) -> Result<Vec<ReleaseRow>, StoreError> {
        let sql = "SELECT * FROM releases WHERE project_id = ? ORDER BY id DESC";
        Ok(sqlx::query_as(sql).bind(project_id).fetch_all(&self.reads).await?)
    }

    /// One release of a project.
    pub async fn release(&self, project_id: i64, version: &str) -> Result<Option<ReleaseRow>, StoreError> {
        let sql = "SELECT * FROM releases WHERE project_id = ? AND version = ?";
        Ok(sqlx::query_as(sql).bind(project_id).bind(version).fetch_optional(&self.reads).await?)
    }

    /// What is fetched of a release, in order of jobs and names.
    pub async fn release_assets(&self, release: i64) -> Result<Vec<ReleaseAsset>, StoreError> {
        let sql = "SELECT job, job_id, name, digest, bytes, files FROM release_assets WHERE release_id = ? ORDER BY job, name";
        Ok(sqlx::query_as(sql).bind(release).fetch_all(&self.reads).await?)
    }

    /// Every edit of a release, the newest first.
    pub async fn release_edits(&self, release: i64) -> Result<Vec<ReleaseEdit>, StoreError> {
        let sql = "SELECT number, title, notes, by, at FROM release_edits WHERE release_id = ? ORDER BY number DESC";
        Ok(sqlx::query_as(sql).bind(release).fetch_all(&self.reads).await?)
    }

    /// Releases that hold one of these artifacts, by digest; the newest first.
    pub async fn releases_with(&self, digests: &[String]) -> Result<Vec<Holding>, StoreError> {
        let sql = "SELECT assets.digest, projects.name, version, state FROM release_assets AS assets
                   JOIN releases ON releases.id = release_id JOIN projects ON projects.id = project_id
                   WHERE assets.digest IN (SELECT value FROM json_each(?)) ORDER BY releases.id DESC";
        Ok(sqlx::query_as(sql).bind(json(digests)?).fetch_all(&self.reads).await?)
    }

    /// The release that an artifact belongs to, by its version.
    pub async fn release_of_artifact(&self, run_id: i64, job: i64, name: &str) -> Result<Option<String>, StoreError> {
        let sql = "SELECT version FROM releases JOIN release_assets AS assets ON release_id = releases.id
                   WHERE run_id = ? AND assets.job = ? AND name = ?";
        Ok(sqlx::query_scalar(sql).bind(run_id).bind(job).bind(name).fetch_optional(&self.reads).await?)
    }

    /// Jobs of a project that passed and whose release could not be made, the newest first: run, job, why, when.
    pub async fn unreleased(&self, project_id: i64) -> Result<Vec<(i64, i64, String, i64)>, StoreError> {
        let sql = "SELECT run_id, job, unreleased.why, unreleased.at FROM unreleased JOIN runs ON runs.id = run_id
                   WHERE project_id = ? ORDER BY unreleased.at DESC LIMIT 20";
        Ok(sqlx::query_as(sql).bind(project_id).fetch_all(&self.reads).await?)
    }

    /// Proposals that landed in a branch after one moment and not after another, the oldest first: number, title, author.
    pub async fn landed_between(
        &self,
        project_id: i64,
        target: &str,
        (after, until): (i64, i64),
    ) -> Result<Vec<(String, String, Option<String>)>, StoreError> {
        let sql = "SELECT number, title, author FROM proposals WHERE project_id = ? AND target = ? AND state = 'landed'
                   AND ended_at > ? AND ended_at <= ? ORDER BY ended_at, id LIMIT 500";
        Ok(sqlx::query_as(sql).bind(project_id).bind(target).bind(after).bind(until).fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// Writes a release with what is fetched of it, which is kept for good from now on. None, and nothing is written: there is
    /// one of this version.
    pub async fn add_release(&mut self, new: &NewRelease<'_>) -> Result<Option<i64>, StoreError> {
        let state = if new.draft { "draft" } else { "published" };
        let sql =
            "INSERT INTO releases (project_id, version, title, state, commit_id, tag, run_id, run, job, job_id, notes, evidence, made_at,
                     published_at)
                   VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING RETURNING id";
        let query = sqlx::query_scalar(sql).bind(new.project_id).bind(new.version).bind(new.title).bind(state).bind(new.commit_id);
        let query = query.bind(new.tag).bind(new.run_id).bind(new.run).bind(new.job).bind(new.job_id).bind(new.notes).bind(new.evidence);
        let query = query.bind(self.now).bind((!new.draft).then_some(self.now));
        let made: Option<i64> = query.fetch_optional(&mut *self.on).await?;
        let Some(id) = made else { return Ok(None) };
        let sql = "INSERT INTO release_edits (release_id, number, title, notes, at) VALUES (?, 1, ?, ?, ?)";
        sqlx::query(sql).bind(id).bind(new.title).bind(new.notes).bind(self.now).execute(&mut *self.on).await?;
        let sql = "INSERT INTO release_assets (release_id, job, job_id, name, digest, bytes, files)
                   SELECT ?1, value ->> 'job', value ->> 'job_id', value ->> 'name', value ->> 'digest', value ->> 'bytes', value ->> 'files'
                   FROM json_each(?2)";
        sqlx::query(sql).bind(id).bind(json(new.assets)?).execute(&mut *self.on).await?;
        for asset in new.assets {
            self.pin_artifact(new.run_id, asset.job, &asset.name, Some(&format!("release {}", new.version))).await?;
        }
        sqlx::query("DELETE FROM unreleased WHERE run_id = ? AND job = ?").bind(new.run_id).bind(new.job).execute(&mut *self.on).await?;
        Ok(Some(id))
    }

    /// Says why a job's release could not be made.
    pub async fn set_unreleased(&mut self, run_id: i64, job: i64, why: &str) -> Result<(), StoreError> {
        let sql = "INSERT OR REPLACE INTO unreleased (run_id, job, why, at) VALUES (?, ?, ?, ?)";
        sqlx::query(sql).bind(run_id).bind(job).bind(why).bind(self.now).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Changes title and notes; what they were is kept.
    pub async fn edit_release(&mut self, id: i64, title: &str, notes: &str, by: &str) -> Result<(), StoreError> {
        sqlx::query("UPDATE releases SET title = ?, notes = ? WHERE id = ?")
            .bind(title)
            .bind(notes)
            .bind(id)
            .execute(&mut *self.on)
            .await?;
        let sql = "INSERT INTO release_edits (release_id, number, title, notes, by, at)
                   SELECT ?1, 1 + coalesce(max(number), 0), ?2, ?3, ?4, ?5 FROM release_edits WHERE release_id = ?1";
        sqlx::query(sql).bind(id).bind(title).bind(notes).bind(by).bind(self.now).execute(&mut *self.on).await?;
        Ok(())
    }

    /// A draft, or what was withdrawn, is published. False: it was already.
    pub async fn publish_release(&mut self, id: i64, by: &str) -> Result<bool, StoreError> {
        let sql = "UPDATE releases SET state = 'published', published_at = ?, published_by = ?, withdrawn_at = NULL, withdrawn_by = NULL,
                     reason = NULL WHERE id = ? AND state <> 'published'";
        Ok(sqlx::query(sql).bind(self.now).bind(by).bind(id).execute(&mut *self.on).await?.rows_affected() > 0)
    }

    /// Nobody should use it any more. False: that was said already.
    pub async fn withdraw_release(&mut self, id: i64, by: &str, reason: &str) -> Result<bool, StoreError> {
        let sql =
            "UPDATE releases SET state = 'withdrawn', withdrawn_at = ?, withdrawn_by = ?, reason = ? WHERE id = ? AND state <> 'withdrawn'";
        Ok(sqlx::query(sql).bind(self.now).bind(by).bind(reason).bind(id).execute(&mut *self.on).await?.rows_affected() > 0)
    }

    /// What became of telling the forge.
    pub async fn set_release_told(&mut self, id: i64, told: &str) -> Result<(), StoreError> {
        sqlx::query("UPDATE releases SET told = ? WHERE id = ?").bind(told).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }
}
