//! Browsers that are signed in. A session ends some time after its last use, and at its latest some time after it began;
//! how long that is, is the caller's to say.

use super::{PersonRow, Records, StoreError, Tx};
use crate::key::digest_of;

/// A session to be added.
#[derive(Debug, Clone)]
pub struct NewSession<'a> {
    pub person_id: i64,
    pub secret: &'a str,
    /// What the browser calls itself.
    pub agent: &'a str,
    pub address: Option<&'a str>,
    /// However often it is used.
    pub ends_at: i64,
}

/// A session of the console.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct SessionRow {
    pub id: i64,
    pub person: String,
    pub agent: String,
    pub address: Option<String>,
    pub made_at: i64,
    pub used_at: i64,
    pub ends_at: i64,
}

const SESSIONS: &str = "SELECT sessions.id, persons.name AS person, agent, address, made_at, used_at, ends_at FROM sessions
  JOIN persons ON persons.id = person_id";

impl Records {
    /// Whose session this is: (person, number of the session, last use). None when it has ended, or was not used after
    /// `used_after`.
    pub async fn session(&self, secret: &str, used_after: i64, now: i64) -> Result<Option<(PersonRow, i64, i64)>, StoreError> {
        let sql = "SELECT persons.id, name, mail, added_at, sessions.id, used_at FROM sessions JOIN persons ON persons.id = person_id
                   WHERE digest = ? AND ends_at > ? AND used_at > ?";
        let row: Option<(i64, String, Option<String>, i64, i64, i64)> =
            sqlx::query_as(sql).bind(digest_of(secret)).bind(now).bind(used_after).fetch_optional(&self.reads).await?;
        Ok(row.map(|(id, name, mail, added_at, session, used_at)| (PersonRow { id, name, mail, added_at }, session, used_at)))
    }

    /// Those that have not ended, used last first: one person's, or with none everybody's.
    pub async fn sessions(&self, person: Option<&str>, used_after: i64, now: i64) -> Result<Vec<SessionRow>, StoreError> {
        let sql = format!("{SESSIONS} WHERE (?1 IS NULL OR persons.name = ?1) AND used_at > ?2 AND ends_at > ?3 ORDER BY used_at DESC");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(person).bind(used_after).bind(now).fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// Begins a session. Only the digest of its secret is stored.
    pub async fn add_session(&mut self, new: &NewSession<'_>) -> Result<(), StoreError> {
        let sql = "INSERT INTO sessions (person_id, digest, agent, address, made_at, used_at, ends_at) VALUES (?, ?, ?, ?, ?, ?, ?)";
        let query = sqlx::query(sql).bind(new.person_id).bind(digest_of(new.secret)).bind(new.agent).bind(new.address);
        query.bind(self.now).bind(self.now).bind(new.ends_at).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Notes when a session was last used.
    pub async fn session_used(&mut self, id: i64) -> Result<(), StoreError> {
        sqlx::query("UPDATE sessions SET used_at = ? WHERE id = ?").bind(self.now).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Ends the session with this secret; its person's name, if there was one.
    pub async fn end_session_with(&mut self, secret: &str) -> Result<Option<String>, StoreError> {
        let sql = "DELETE FROM sessions WHERE digest = ? RETURNING (SELECT name FROM persons WHERE id = person_id)";
        Ok(sqlx::query_scalar(sql).bind(digest_of(secret)).fetch_optional(&mut *self.on).await?)
    }

    /// Ends a session by its number; its person's name, if there was one. With `of`, only that person's.
    pub async fn end_session(&mut self, id: i64, of: Option<i64>) -> Result<Option<String>, StoreError> {
        let sql = "DELETE FROM sessions WHERE id = ?1 AND (?2 IS NULL OR person_id = ?2) RETURNING (SELECT name FROM persons WHERE id = person_id)";
        Ok(sqlx::query_scalar(sql).bind(id).bind(of).fetch_optional(&mut *self.on).await?)
    }

    /// Drops sessions that have ended, or were not used after a moment.
    pub async fn drop_ended_sessions(&mut self, used_after: i64) -> Result<(), StoreError> {
        let sql = "DELETE FROM sessions WHERE ends_at <= ? OR used_at <= ?";
        sqlx::query(sql).bind(self.now).bind(used_after).execute(&mut *self.on).await?;
        Ok(())
    }
}
