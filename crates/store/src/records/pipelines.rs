//! What belongs to pipelines rather than to runs: files kept here, schedules, and what was borrowed.

use super::{NewWork, Records, StoreError, Tx, WorkKind};

/// One version of a pipeline file that is kept here. An empty text says that it was taken out.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct StoredPipeline {
    pub pipeline: String,
    pub version: i64,
    pub text: String,
    pub by: String,
    pub message: String,
    pub at: i64,
}

/// A schedule whose moment has come.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct DueSchedule {
    pub project_id: i64,
    pub pipeline: String,
    pub line: String,
    pub next_at: i64,
}

impl Records {
    /// The newest version of each pipeline kept for a project, by name; those taken out are left out.
    pub async fn stored_pipelines(&self, project_id: i64) -> Result<Vec<StoredPipeline>, StoreError> {
        let sql = "SELECT pipeline, version, text, by, message, at FROM stored_pipelines AS newest WHERE project_id = ?1 AND text <> ''
                   AND version = (SELECT max(version) FROM stored_pipelines WHERE project_id = ?1 AND pipeline = newest.pipeline) ORDER BY pipeline";
        Ok(sqlx::query_as(sql).bind(project_id).fetch_all(&self.reads).await?)
    }

    /// Every version of one pipeline, newest first.
    pub async fn stored_versions(&self, project_id: i64, pipeline: &str) -> Result<Vec<StoredPipeline>, StoreError> {
        let sql = "SELECT pipeline, version, text, by, message, at FROM stored_pipelines WHERE project_id = ? AND pipeline = ? ORDER BY version DESC";
        Ok(sqlx::query_as(sql).bind(project_id).bind(pipeline).fetch_all(&self.reads).await?)
    }

    /// Projects of which a pipeline begins when `PROJECT/NAME` passes.
    pub async fn listeners(&self, passed: &str) -> Result<Vec<i64>, StoreError> {
        let sql = "SELECT DISTINCT project_id FROM listens WHERE passed = ? ORDER BY project_id";
        Ok(sqlx::query_scalar(sql).bind(passed).fetch_all(&self.reads).await?)
    }

    /// Schedules whose moment is not after `now`, in milliseconds since 1970.
    pub async fn due_schedules(&self, now: i64) -> Result<Vec<DueSchedule>, StoreError> {
        let sql = "SELECT project_id, pipeline, line, next_at FROM schedules WHERE next_at <= ? ORDER BY next_at LIMIT 100";
        Ok(sqlx::query_as(sql).bind(now).fetch_all(&self.reads).await?)
    }

    /// When the next schedule comes due; none when there is no schedule.
    pub async fn next_schedule_at(&self) -> Result<Option<i64>, StoreError> {
        Ok(sqlx::query_scalar("SELECT min(next_at) FROM schedules").fetch_one(&self.reads).await?)
    }
}

impl Tx {
    /// Keeps a new version on top of version `on` (0 for none). Gives none when another one came first.
    pub async fn store_pipeline(&mut self, project_id: i64, on: i64, new: &StoredPipeline) -> Result<Option<i64>, StoreError> {
        let sql = "INSERT INTO stored_pipelines (project_id, pipeline, version, text, by, message, at)
                   SELECT ?1, ?2, ?3 + 1, ?4, ?5, ?6, ?7
                   WHERE ?3 = (SELECT coalesce(max(version), 0) FROM stored_pipelines WHERE project_id = ?1 AND pipeline = ?2)
                   RETURNING version";
        let query = sqlx::query_scalar(sql).bind(project_id).bind(&new.pipeline).bind(on).bind(&new.text);
        Ok(query.bind(&new.by).bind(&new.message).bind(new.at).fetch_optional(&mut *self.on).await?)
    }

    /// Sets the schedules of a pipeline's main branch: (line, next). A line that was there already keeps its time.
    pub async fn set_schedules(&mut self, project_id: i64, pipeline: &str, lines: &[(String, i64)]) -> Result<(), StoreError> {
        let list =
            serde_json::to_string(&lines.iter().map(|(line, _)| line).collect::<Vec<_>>()).map_err(|_| StoreError::Value("schedules"))?;
        let sql = "DELETE FROM schedules WHERE project_id = ? AND pipeline = ? AND line NOT IN (SELECT value FROM json_each(?))";
        sqlx::query(sql).bind(project_id).bind(pipeline).bind(list).execute(&mut *self.on).await?;
        for (line, next) in lines {
            let sql = "INSERT INTO schedules (project_id, pipeline, line, next_at) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING";
            sqlx::query(sql).bind(project_id).bind(pipeline).bind(line).bind(next).execute(&mut *self.on).await?;
        }
        Ok(())
    }

    /// Sets whose passed runs begin a pipeline: `PROJECT/NAME` each.
    pub async fn set_listens(&mut self, project_id: i64, pipeline: &str, passed: &[String]) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM listens WHERE project_id = ? AND pipeline = ?")
            .bind(project_id)
            .bind(pipeline)
            .execute(&mut *self.on)
            .await?;
        for passed in passed {
            let sql = "INSERT INTO listens (project_id, pipeline, passed) VALUES (?, ?, ?) ON CONFLICT DO NOTHING";
            sqlx::query(sql).bind(project_id).bind(pipeline).bind(passed).execute(&mut *self.on).await?;
        }
        Ok(())
    }

    /// Drops schedules and listeners of pipelines that the main branch does not have any more.
    pub async fn keep_pipelines(&mut self, project_id: i64, pipelines: &[&str]) -> Result<(), StoreError> {
        let list = serde_json::to_string(pipelines).map_err(|_| StoreError::Value("pipelines"))?;
        for sql in [
            "DELETE FROM schedules WHERE project_id = ? AND pipeline NOT IN (SELECT value FROM json_each(?))",
            "DELETE FROM listens WHERE project_id = ? AND pipeline NOT IN (SELECT value FROM json_each(?))",
        ] {
            sqlx::query(sql).bind(project_id).bind(&list).execute(&mut *self.on).await?;
        }
        Ok(())
    }

    /// Writes down that a schedule came due, as an occasion, and when it does next; none drops it. One transaction: a
    /// moment is neither lost nor counted twice.
    pub async fn schedule_came(&mut self, due: &DueSchedule, body: &str, next: Option<i64>) -> Result<(), StoreError> {
        let once = format!("schedule {} {} {}", due.pipeline, due.line, due.next_at);
        let (project_id, body) = (due.project_id, body.to_owned());
        self.add_work(&NewWork { kind: WorkKind::Occasion, project_id, lane: String::new(), once: Some(once), body }).await?;
        match next {
            Some(next) => {
                let sql = "UPDATE schedules SET next_at = ? WHERE project_id = ? AND pipeline = ? AND line = ?";
                sqlx::query(sql).bind(next).bind(due.project_id).bind(&due.pipeline).bind(&due.line).execute(&mut *self.on).await?;
            }
            None => {
                let sql = "DELETE FROM schedules WHERE project_id = ? AND pipeline = ? AND line = ?";
                sqlx::query(sql).bind(due.project_id).bind(&due.pipeline).bind(&due.line).execute(&mut *self.on).await?;
            }
        }
        Ok(())
    }

    /// Remembers which commit a tag named; gives the one it named before when that was another.
    pub async fn borrowed_at(&mut self, git: &str, at: &str, commit: &str) -> Result<Option<String>, StoreError> {
        let now = self.now;
        let before: Option<String> = sqlx::query_scalar("SELECT commit_id FROM borrowed WHERE git = ? AND at = ?")
            .bind(git)
            .bind(at)
            .fetch_optional(&mut *self.on)
            .await?;
        let sql = "INSERT INTO borrowed (git, at, commit_id, seen_at) VALUES (?1, ?2, ?3, ?4)
                   ON CONFLICT DO UPDATE SET commit_id = ?3, seen_at = ?4";
        sqlx::query(sql).bind(git).bind(at).bind(commit).bind(now).execute(&mut *self.on).await?;
        Ok(before.filter(|before| before != commit))
    }
}
