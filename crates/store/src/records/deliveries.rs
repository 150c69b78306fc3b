//! What forges sent, as it came: how each delivery was read and what came of it.

use super::{Records, StoreError, Tx};

/// A delivery goes that came before ?1; and the oldest of each project beyond ?2 bytes.
pub(super) const OLD: &str = "at < ?1 OR id IN (SELECT id FROM
    (SELECT id, sum(size) OVER (PARTITION BY project_id ORDER BY id DESC) AS held FROM deliveries) WHERE held > ?2)";

/// A delivery that is to be kept.
#[derive(Debug, Clone)]
pub struct NewDelivery<'a> {
    pub project_id: i64,
    /// What names it.
    pub given: Option<&'a str>,
    /// `taken`, `nothing`, `unread` or `refused`.
    pub state: &'a str,
    /// Why nothing came of it, or what was missing.
    pub said: Option<&'a str>,
    /// JSON list: what was read, in words.
    pub events: &'a str,
    /// JSON list: numbers of work.
    pub work: &'a str,
    pub address: Option<&'a str>,
    /// JSON, without secrets.
    pub headers: &'a str,
    pub body: &'a [u8],
}

/// A delivery as lists show it.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct DeliveryRow {
    pub id: i64,
    pub project_id: i64,
    pub at: i64,
    pub given: Option<String>,
    pub state: String,
    pub said: Option<String>,
    pub events: String,
    pub work: String,
    pub times: i64,
    pub address: Option<String>,
    pub headers: String,
    pub size: i64,
}

const COLUMNS: &str = "id, project_id, at, given, state, said, events, work, times, address, headers, size";
/// The fastest: bodies are written while a forge waits for its answer.
const LEVEL: i32 = 1;
/// A body is at most so large once unpacked; what is kept was checked before.
const LARGEST: usize = 8 << 20;

impl Records {
    /// Deliveries of a project with numbers below `before`, newest first; of one state where that is named.
    pub async fn deliveries(&self, project_id: i64, state: Option<&str>, before: i64, limit: i64) -> Result<Vec<DeliveryRow>, StoreError> {
        let sql = format!(
            "SELECT {COLUMNS} FROM deliveries WHERE project_id = ?1 AND id < ?2 AND (?3 IS NULL OR state = ?3) ORDER BY id DESC LIMIT ?4"
        );
        let query = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project_id).bind(before).bind(state).bind(limit);
        Ok(query.fetch_all(&self.reads).await?)
    }

    /// One delivery of a project.
    pub async fn delivery(&self, project_id: i64, id: i64) -> Result<Option<DeliveryRow>, StoreError> {
        let sql = format!("SELECT {COLUMNS} FROM deliveries WHERE project_id = ? AND id = ?");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project_id).bind(id).fetch_optional(&self.reads).await?)
    }

    /// A delivery's body as it came.
    pub async fn delivery_body(&self, id: i64) -> Result<Vec<u8>, StoreError> {
        let packed: Option<Vec<u8>> =
            sqlx::query_scalar("SELECT body FROM deliveries WHERE id = ?").bind(id).fetch_optional(&self.reads).await?;
        zstd::bulk::decompress(&packed.unwrap_or_default(), LARGEST).map_err(|_| StoreError::Value("deliveries.body"))
    }

    /// Whether a delivery of this name was taken before.
    pub async fn delivery_taken(&self, project_id: i64, given: &str) -> Result<Option<i64>, StoreError> {
        let sql = "SELECT id FROM deliveries WHERE project_id = ? AND given = ? AND state IN ('taken', 'nothing') ORDER BY id LIMIT 1";
        Ok(sqlx::query_scalar(sql).bind(project_id).bind(given).fetch_optional(&self.reads).await?)
    }

    /// When a hook of the project was last taken.
    pub async fn newest_hook(&self, project_id: i64) -> Result<Option<i64>, StoreError> {
        let sql = "SELECT max(at) FROM deliveries WHERE project_id = ? AND state IN ('taken', 'nothing')";
        Ok(sqlx::query_scalar(sql).bind(project_id).fetch_one(&self.reads).await?)
    }

    /// What pieces of work led to, by number: (number, state, in words).
    pub async fn work_said(&self, ids: &[i64]) -> Result<Vec<(i64, String, Option<String>)>, StoreError> {
        let sql = "SELECT id, state, said FROM work WHERE id IN (SELECT value FROM json_each(?)) ORDER BY id";
        Ok(sqlx::query_as(sql).bind(super::error::json(ids)?).fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// Keeps a delivery, and gives its number.
    pub async fn add_delivery(&mut self, new: &NewDelivery<'_>) -> Result<i64, StoreError> {
        let body = zstd::bulk::compress(new.body, LEVEL).map_err(|_| StoreError::Value("deliveries.body"))?;
        let sql = "INSERT INTO deliveries (project_id, at, given, state, said, events, work, address, headers, size, body)
                   VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id";
        let query = sqlx::query_scalar(sql)
            .bind(new.project_id)
            .bind(self.now)
            .bind(new.given)
            .bind(new.state)
            .bind(new.said)
            .bind(new.events)
            .bind(new.work)
            .bind(new.address)
            .bind(new.headers)
            .bind(i64::try_from(new.body.len()).unwrap_or(i64::MAX))
            .bind(body);
        Ok(query.fetch_one(&mut *self.on).await?)
    }

    /// It came once more.
    pub async fn delivery_came_again(&mut self, id: i64) -> Result<(), StoreError> {
        sqlx::query("UPDATE deliveries SET times = times + 1 WHERE id = ?").bind(id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// It was read anew: what came of it replaces what came of it before.
    pub async fn delivery_read_again(&mut self, id: i64, new: &NewDelivery<'_>) -> Result<(), StoreError> {
        let sql = "UPDATE deliveries SET state = ?, said = ?, events = ?, work = ? WHERE id = ?";
        sqlx::query(sql).bind(new.state).bind(new.said).bind(new.events).bind(new.work).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Of deliveries that were refused only the newest `most` of a project stay: anybody can send them.
    pub async fn drop_refused_deliveries(&mut self, project_id: i64, most: i64) -> Result<(), StoreError> {
        let sql = "DELETE FROM deliveries WHERE project_id = ?1 AND state = 'refused' AND id <=
                     (SELECT id FROM deliveries WHERE project_id = ?1 AND state = 'refused' ORDER BY id DESC LIMIT 1 OFFSET ?2)";
        sqlx::query(sql).bind(project_id).bind(most).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Drops what came before a moment; and the oldest of each project beyond `most` bytes of bodies, as they came.
    pub async fn drop_deliveries(&mut self, before: i64, most: i64) -> Result<u64, StoreError> {
        let sql = format!("DELETE FROM deliveries WHERE {OLD}");
        Ok(sqlx::query(sqlx::AssertSqlSafe(sql)).bind(before).bind(most).execute(&mut *self.on).await?.rows_affected())
    }
}
