//! What works once: sign-in links and invitations; and answers to calls that may be repeated. Only digests are here.

use super::{Granted, Records, StoreError, Tx, exists};
use crate::key::digest_of;

/// What a one-use secret is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    Code,
    Invitation,
}

impl Kind {
    pub(super) fn word(self) -> &'static str {
        match self {
            Kind::Code => "code",
            Kind::Invitation => "invitation",
        }
    }
}

impl Records {
    /// The answer that was given to an unsafe call with this key, if there was one: the digest of the call's body, the status,
    /// and the answer itself where it was kept.
    pub async fn answer(&self, key: &str) -> Result<Option<(i64, String, Option<String>)>, StoreError> {
        Ok(sqlx::query_as("SELECT status, asked, body FROM answers WHERE key = ?").bind(key).fetch_optional(&self.reads).await?)
    }
}

impl Tx {
    /// Keeps a secret's digest for `name`, until `ends_at` if given.
    pub async fn add_key(&mut self, kind: Kind, secret: &str, name: &str, ends_at: Option<i64>) -> Result<(), StoreError> {
        let now = self.now;
        sqlx::query("INSERT INTO keys (digest, kind, name, created_at, ends_at) VALUES (?, ?, ?, ?, ?)")
            .bind(digest_of(secret))
            .bind(kind.word())
            .bind(name)
            .bind(now)
            .bind(ends_at)
            .execute(&mut *self.on)
            .await?;
        Ok(())
    }

    /// Takes a one-use secret: a second caller gets none.
    pub async fn use_key(&mut self, kind: Kind, secret: &str) -> Result<Option<String>, StoreError> {
        let now = self.now;
        let sql = "DELETE FROM keys WHERE digest = ? AND kind = ? AND (ends_at IS NULL OR ends_at > ?) RETURNING name";
        Ok(sqlx::query_scalar(sql).bind(digest_of(secret)).bind(kind.word()).bind(now).fetch_optional(&mut *self.on).await?)
    }

    /// Removes one-use secrets that expired before `now` or were used. Returns how many.
    pub async fn remove_ended_keys(&mut self) -> Result<(), StoreError> {
        let now = self.now;
        sqlx::query("DELETE FROM keys WHERE ends_at <= ?").bind(now).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Keeps an answer; the first one for a key stays.
    pub async fn keep_answer(&mut self, key: &str, asked: &str, status: i64, body: Option<&str>) -> Result<(), StoreError> {
        let now = self.now;
        sqlx::query("INSERT INTO answers (key, asked, status, body, created_at) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING")
            .bind(key)
            .bind(asked)
            .bind(status)
            .bind(body)
            .bind(now)
            .execute(&mut *self.on)
            .await?;
        Ok(())
    }

    /// Drops answers that were kept before a moment: nobody repeats a call that late.
    pub async fn drop_answers(&mut self, before: i64) -> Result<u64, StoreError> {
        let sql = "DELETE FROM answers WHERE created_at < ?";
        Ok(sqlx::query(sql).bind(before).execute(&mut *self.on).await?.rows_affected())
    }

    /// Keeps the digest of an invitation, and what it grants.
    pub async fn add_invitation(&mut self, secret: &str, by: &str, granted: &Granted, ends_at: i64) -> Result<(), StoreError> {
        let grants = serde_json::to_string(granted).map_err(|_| StoreError::Value("keys.grants"))?;
        self.add_key(Kind::Invitation, secret, by, Some(ends_at)).await?;
        sqlx::query("UPDATE keys SET grants = ? WHERE digest = ?").bind(grants).bind(digest_of(secret)).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Takes an invitation and makes the runner, both or neither. False when someone else was first.
    pub async fn enrol(&mut self, invitation: &str, name: &str, credential: &str, granted: &Granted) -> Result<bool, StoreError> {
        let now = self.now;
        let used = sqlx::query("DELETE FROM keys WHERE digest = ? AND kind = 'invitation'").bind(digest_of(invitation));
        if used.execute(&mut *self.on).await?.rows_affected() == 0 {
            return Ok(false);
        }
        let list = |names: &[String]| serde_json::to_string(names).map_err(|_| StoreError::Value("runners.granted"));
        sqlx::query("INSERT INTO runners (name, credential, enrolled_at, granted, projects, outside) VALUES (?, ?, ?, ?, ?, ?)")
            .bind(name)
            .bind(digest_of(credential))
            .bind(now)
            .bind(list(&granted.labels)?)
            .bind(granted.projects.as_deref().map(list).transpose()?)
            .bind(granted.outside.word())
            .execute(&mut *self.on)
            .await
            .map_err(|error| exists(error, "a runner", name))?;
        Ok(true)
    }
}
