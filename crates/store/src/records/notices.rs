//! Notices: what persons want to be told, what was told to whom, and how each pipeline of a main branch last was.

use super::{Records, StoreError, Tx};
use ordotaxis_core::notice::{Choice, Notice, Turns};

/// A notice goes that was made before ?1, and does not wait to be sent.
pub(super) const OLD: &str = "at < ?1 AND state <> 'waiting'";

/// A notice for one receiver.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewNotice<'a> {
    pub project_id: i64,
    /// None: it goes to an address of the project.
    pub person_id: Option<i64>,
    /// A mail address, or the address of a webhook.
    pub receiver: &'a str,
    /// The `[notice.NAME]` that it is for.
    pub name: Option<&'a str>,
    pub notice: &'a Notice,
}

/// A notice as it is kept.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct NoticeRow {
    pub id: i64,
    pub project: String,
    pub person_id: Option<i64>,
    pub receiver: String,
    pub name: Option<String>,
    pub occasion: String,
    /// JSON: the core's notice.
    pub body: String,
    pub at: i64,
    /// `waiting`, `sent` or `given up`.
    pub state: String,
    pub ended_at: Option<i64>,
    pub said: Option<String>,
}

const COLUMNS: &str =
    "notices.id, projects.name AS project, person_id, receiver, notices.name, occasion, body, at, state, ended_at, said FROM notices
     JOIN projects ON projects.id = project_id";

impl NoticeRow {
    /// What it says.
    pub fn notice(&self) -> Result<Notice, StoreError> {
        serde_json::from_str(&self.body).map_err(|_| StoreError::Value("notices.body"))
    }
}

fn choice(text: &str) -> Result<Choice, StoreError> {
    serde_json::from_str(text).map_err(|_| StoreError::Value("choices.choice"))
}

impl Records {
    /// What a person wants to be told: (project; none: of all others, choice).
    pub async fn choices(&self, person_id: i64) -> Result<Vec<(Option<String>, Choice)>, StoreError> {
        let sql = "SELECT projects.name, choice FROM choices LEFT JOIN projects ON projects.id = project_id
                   WHERE person_id = ? ORDER BY projects.name";
        let rows: Vec<(Option<String>, String)> = sqlx::query_as(sql).bind(person_id).fetch_all(&self.reads).await?;
        rows.into_iter().map(|(project, text)| Ok((project, choice(&text)?))).collect()
    }

    /// What everybody wants to be told of one project, by person: their own line for it, else the one for all.
    pub async fn choices_for(&self, project_id: i64) -> Result<Vec<(i64, Choice)>, StoreError> {
        // A project's own line comes last, and stays.
        let sql = "SELECT person_id, choice FROM choices WHERE project_id IS NULL OR project_id = ? ORDER BY project_id IS NOT NULL";
        let rows: Vec<(i64, String)> = sqlx::query_as(sql).bind(project_id).fetch_all(&self.reads).await?;
        rows.into_iter().map(|(person, text)| Ok((person, choice(&text)?))).collect()
    }

    /// What ends a person's notices, and whose it is.
    pub async fn notice_key(&self, person_id: i64) -> Result<String, StoreError> {
        Ok(sqlx::query_scalar("SELECT notice_key FROM persons WHERE id = ?").bind(person_id).fetch_one(&self.reads).await?)
    }

    /// Whose key it is.
    pub async fn person_of_notice_key(&self, key: &str) -> Result<Option<i64>, StoreError> {
        let sql = "SELECT id FROM persons WHERE notice_key = ? AND notice_key <> ''";
        Ok(sqlx::query_scalar(sql).bind(key).fetch_optional(&self.reads).await?)
    }

    /// How a pipeline of a project's main branch was when people were last told.
    pub async fn turns(&self, project_id: i64, pipeline: &str) -> Result<Turns, StoreError> {
        let sql = "SELECT state FROM turns WHERE project_id = ? AND pipeline = ?";
        let text: Option<String> = sqlx::query_scalar(sql).bind(project_id).bind(pipeline).fetch_optional(&self.reads).await?;
        text.map_or(Ok(Turns::default()), |text| serde_json::from_str(&text).map_err(|_| StoreError::Value("turns.state")))
    }

    /// What a receiver still waits for, oldest first.
    pub async fn notices_waiting(&self, receiver: &str) -> Result<Vec<NoticeRow>, StoreError> {
        let sql = format!("SELECT {COLUMNS} WHERE receiver = ? AND state = 'waiting' ORDER BY notices.id LIMIT 1000");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(receiver).fetch_all(&self.reads).await?)
    }

    /// When messages went to a receiver since a moment; several notices of one message count once.
    pub async fn notices_sent(&self, receiver: &str, since: i64) -> Result<Vec<i64>, StoreError> {
        let sql = "SELECT DISTINCT ended_at FROM notices WHERE receiver = ? AND state = 'sent' AND ended_at > ? ORDER BY ended_at";
        Ok(sqlx::query_scalar(sql).bind(receiver).bind(since).fetch_all(&self.reads).await?)
    }

    /// A person's last notices, newest first.
    pub async fn notices_of_person(&self, person_id: i64, limit: i64) -> Result<Vec<NoticeRow>, StoreError> {
        let sql = format!("SELECT {COLUMNS} WHERE person_id = ? ORDER BY notices.id DESC LIMIT ?");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(person_id).bind(limit).fetch_all(&self.reads).await?)
    }

    /// The last notices to addresses of a project, newest first.
    pub async fn notices_of_project(&self, project_id: i64, limit: i64) -> Result<Vec<NoticeRow>, StoreError> {
        let sql = format!("SELECT {COLUMNS} WHERE project_id = ? AND person_id IS NULL ORDER BY notices.id DESC LIMIT ?");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project_id).bind(limit).fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// A person wants this from now on, of a project or of all others.
    pub async fn set_choice(&mut self, person_id: i64, project_id: Option<i64>, choice: &Choice) -> Result<(), StoreError> {
        let text = serde_json::to_string(choice).map_err(|_| StoreError::Value("choices.choice"))?;
        let sql = "INSERT INTO choices (person_id, project_id, choice) VALUES (?1, ?2, ?3)
                   ON CONFLICT (person_id, coalesce(project_id, 0)) DO UPDATE SET choice = ?3";
        sqlx::query(sql).bind(person_id).bind(project_id).bind(text).execute(&mut *self.on).await?;
        Ok(())
    }

    /// What holds for all others, or the usual, holds again. False when nothing was chosen.
    pub async fn drop_choice(&mut self, person_id: i64, project_id: Option<i64>) -> Result<bool, StoreError> {
        let sql = "DELETE FROM choices WHERE person_id = ? AND project_id IS ?";
        Ok(sqlx::query(sql).bind(person_id).bind(project_id).execute(&mut *self.on).await?.rows_affected() > 0)
    }

    /// Nothing is chosen any more, neither for all nor for single projects.
    pub async fn drop_choices(&mut self, person_id: i64) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM choices WHERE person_id = ?").bind(person_id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// People are told how a pipeline of the main branch is.
    pub async fn set_turns(&mut self, project_id: i64, pipeline: &str, turns: &Turns) -> Result<(), StoreError> {
        let text = serde_json::to_string(turns).map_err(|_| StoreError::Value("turns.state"))?;
        let sql = "INSERT INTO turns (project_id, pipeline, state) VALUES (?1, ?2, ?3) ON CONFLICT DO UPDATE SET state = ?3";
        sqlx::query(sql).bind(project_id).bind(pipeline).bind(text).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Keeps a notice until it is sent.
    pub async fn add_notice(&mut self, new: &NewNotice<'_>) -> Result<i64, StoreError> {
        let body = serde_json::to_string(new.notice).map_err(|_| StoreError::Value("notices.body"))?;
        let sql = "INSERT INTO notices (project_id, person_id, receiver, name, occasion, body, at, state)
                   VALUES (?, ?, ?, ?, ?, ?, ?, 'waiting') RETURNING id";
        let query = sqlx::query_scalar(sql).bind(new.project_id).bind(new.person_id).bind(new.receiver).bind(new.name);
        Ok(query.bind(new.notice.occasion.word()).bind(body).bind(self.now).fetch_one(&mut *self.on).await?)
    }

    /// These went out in one message, or never will: with the reason.
    pub async fn notices_ended(&mut self, ids: &[i64], given_up: Option<&str>) -> Result<(), StoreError> {
        let state = if given_up.is_some() { "given up" } else { "sent" };
        let sql = "UPDATE notices SET state = ?, ended_at = ?, said = ? WHERE id IN (SELECT value FROM json_each(?))";
        sqlx::query(sql).bind(state).bind(self.now).bind(given_up).bind(super::error::json(ids)?).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Drops what was told before a moment.
    pub async fn drop_notices(&mut self, before: i64) -> Result<u64, StoreError> {
        let sql = format!("DELETE FROM notices WHERE {OLD}");
        Ok(sqlx::query(sqlx::AssertSqlSafe(sql)).bind(before).execute(&mut *self.on).await?.rows_affected())
    }
}
