//! Tokens, sessions, and what works once. Only digests are here.

use super::{Records, StoreError};
use crate::key::digest_of;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    User,
    Session,
    Code,
    Invitation,
}

impl Kind {
    fn word(self) -> &'static str {
        match self {
            Kind::User => "user",
            Kind::Session => "session",
            Kind::Code => "code",
            Kind::Invitation => "invitation",
        }
    }
}

impl Records {
    /// Keeps a secret's digest for `name`, until `ends_at` if given.
    pub async fn add_key(&self, kind: Kind, secret: &str, name: &str, now: i64, ends_at: Option<i64>) -> Result<(), StoreError> {
        sqlx::query("INSERT INTO keys (digest, kind, name, created_at, ends_at) VALUES (?, ?, ?, ?, ?)")
            .bind(digest_of(secret))
            .bind(kind.word())
            .bind(name)
            .bind(now)
            .bind(ends_at)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Whose secret this is, if it is one of this kind and has not ended.
    pub async fn key_owner(&self, kind: Kind, secret: &str, now: i64) -> Result<Option<String>, StoreError> {
        let sql = "SELECT name FROM keys WHERE digest = ? AND kind = ? AND (ends_at IS NULL OR ends_at > ?)";
        Ok(sqlx::query_scalar(sql).bind(digest_of(secret)).bind(kind.word()).bind(now).fetch_optional(&self.pool).await?)
    }

    /// Takes a one-use secret: whoever comes second gets none.
    pub async fn use_key(&self, kind: Kind, secret: &str, now: i64) -> Result<Option<String>, StoreError> {
        let sql = "DELETE FROM keys WHERE digest = ? AND kind = ? AND (ends_at IS NULL OR ends_at > ?) RETURNING name";
        Ok(sqlx::query_scalar(sql).bind(digest_of(secret)).bind(kind.word()).bind(now).fetch_optional(&self.pool).await?)
    }

    pub async fn remove_key(&self, kind: Kind, secret: &str) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM keys WHERE digest = ? AND kind = ?").bind(digest_of(secret)).bind(kind.word()).execute(&self.pool).await?;
        Ok(())
    }

    pub async fn remove_ended_keys(&self, now: i64) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM keys WHERE ends_at <= ?").bind(now).execute(&self.pool).await?;
        Ok(())
    }

    pub async fn has_user(&self) -> Result<bool, StoreError> {
        let count: i64 = sqlx::query_scalar("SELECT count(*) FROM keys WHERE kind = 'user'").fetch_one(&self.pool).await?;
        Ok(count > 0)
    }

    /// The answer that was given to an unsafe call with this key, if there was one.
    pub async fn answer(&self, key: &str) -> Result<Option<(i64, String)>, StoreError> {
        Ok(sqlx::query_as("SELECT status, body FROM answers WHERE key = ?").bind(key).fetch_optional(&self.pool).await?)
    }

    /// Keeps an answer; the first one for a key stays.
    pub async fn keep_answer(&self, key: &str, status: i64, body: &str, now: i64) -> Result<(), StoreError> {
        sqlx::query("INSERT INTO answers (key, status, body, created_at) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING")
            .bind(key)
            .bind(status)
            .bind(body)
            .bind(now)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}
