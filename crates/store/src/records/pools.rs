//! Pools, and the machines that were made for them.

use super::{Granted, Kind, Records, StoreError, Tx};
use crate::key::digest_of;
use ordotaxis_core::pool::{Machine, Stage};

/// A pool as it was set.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct PoolRow {
    pub name: String,
    /// JSON
    pub settings: String,
    /// Set in the service's configuration.
    pub from_file: bool,
    pub ended: bool,
    /// JSON: what a machine of it was found to offer.
    pub found: Option<String>,
    pub set_by: String,
    pub set_at: i64,
}

/// What an invitation is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Invited {
    pub granted: Granted,
    /// The only runner that can use it.
    pub machine: Option<String>,
}

impl Records {
    /// All pools, by name.
    pub async fn pools(&self) -> Result<Vec<PoolRow>, StoreError> {
        let sql = "SELECT name, settings, from_file, ended, found, set_by, set_at FROM pools ORDER BY name";
        Ok(sqlx::query_as(sql).fetch_all(&self.reads).await?)
    }

    /// Machines that are not gone, by when they were wanted.
    pub async fn machines_there(&self) -> Result<Vec<Machine>, StoreError> {
        let sql = "SELECT machine FROM machines WHERE gone_at IS NULL ORDER BY wanted_at, id";
        read(sqlx::query_scalar(sql).fetch_all(&self.reads).await?)
    }

    /// Machines that went after `since`, the newest first, at most so many.
    pub async fn machines_gone(&self, since: i64, most: u32) -> Result<Vec<Machine>, StoreError> {
        let sql = "SELECT machine FROM machines WHERE gone_at > ? ORDER BY gone_at DESC, id LIMIT ?";
        read(sqlx::query_scalar(sql).bind(since).bind(most).fetch_all(&self.reads).await?)
    }

    /// The machine of this name, there or gone; none when there never was one.
    pub async fn machine(&self, id: &str) -> Result<Option<Machine>, StoreError> {
        let found: Option<String> =
            sqlx::query_scalar("SELECT machine FROM machines WHERE id = ?").bind(id).fetch_optional(&self.reads).await?;
        Ok(read(found.into_iter().collect())?.pop())
    }

    /// A word that was chosen once; `word` when it was not yet, which then is it.
    pub async fn mark(&self, name: &str, word: &str, now: i64) -> Result<String, StoreError> {
        let known = sqlx::query_scalar("SELECT word FROM marks WHERE name = ?").bind(name).fetch_optional(&self.reads).await?;
        if let Some(known) = known {
            return Ok(known);
        }
        let mut tx = self.tx_by_rule("first-start", now).await?;
        sqlx::query("INSERT INTO marks (name, word) VALUES (?, ?)").bind(name).bind(word).execute(&mut *tx.on).await?;
        tx.commit().await?;
        Ok(word.to_owned())
    }
}

pub(super) fn read(texts: Vec<String>) -> Result<Vec<Machine>, StoreError> {
    let read = |text: &String| serde_json::from_str(text).map_err(|_| StoreError::Value("machines.machine"));
    texts.iter().map(read).collect()
}

impl Tx {
    /// Sets a pool; with other settings than before, what was found of its machines is forgotten.
    pub async fn set_pool(&mut self, name: &str, settings: &str, from_file: bool, by: &str) -> Result<(), StoreError> {
        let sql = "INSERT INTO pools (name, settings, from_file, set_by, set_at) VALUES (?1, ?2, ?3, ?4, ?5)
                   ON CONFLICT (name) DO UPDATE SET from_file = ?3, ended = 0,
                   found = CASE WHEN settings = ?2 THEN found END, set_by = ?4, set_at = ?5, settings = ?2";
        let now = self.now;
        sqlx::query(sql).bind(name).bind(settings).bind(from_file).bind(by).bind(now).execute(&mut *self.on).await?;
        Ok(())
    }

    /// A pool makes no more machines. False when there is none of this name that did.
    pub async fn end_pool(&mut self, name: &str) -> Result<bool, StoreError> {
        let sql = "UPDATE pools SET ended = 1 WHERE name = ? AND ended = 0";
        Ok(sqlx::query(sql).bind(name).execute(&mut *self.on).await?.rows_affected() > 0)
    }

    /// Forgets pools that ended and have no machine any more.
    pub async fn drop_ended_pools(&mut self) -> Result<(), StoreError> {
        let sql = "DELETE FROM pools WHERE ended = 1 AND NOT EXISTS (SELECT 1 FROM machines WHERE gone_at IS NULL AND pool = pools.name)";
        sqlx::query(sql).execute(&mut *self.on).await?;
        Ok(())
    }

    /// What a machine of a pool was found to offer, as JSON.
    pub async fn set_pool_found(&mut self, name: &str, found: &str) -> Result<(), StoreError> {
        sqlx::query("UPDATE pools SET found = ? WHERE name = ?").bind(found).bind(name).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Writes machines down as they are now.
    pub async fn write_machines(&mut self, machines: &[Machine]) -> Result<(), StoreError> {
        for machine in machines {
            let text = serde_json::to_string(machine).map_err(|_| StoreError::Value("machines.machine"))?;
            let sql = "INSERT INTO machines (id, pool, stage, wanted_at, gone_at, machine) VALUES (?1, ?2, ?3, ?4, ?5, ?6)
                       ON CONFLICT (id) DO UPDATE SET stage = ?3, gone_at = ?5, machine = ?6";
            let gone_at = (machine.stage == Stage::Gone).then_some(machine.gone_at.unwrap_or(self.now));
            sqlx::query(sql)
                .bind(&machine.id)
                .bind(&machine.pool)
                .bind(machine.stage.word())
                .bind(machine.wanted_at)
                .bind(gone_at)
                .bind(text)
                .execute(&mut *self.on)
                .await?;
        }
        Ok(())
    }

    /// Keeps the digest of an invitation that only this machine can use.
    pub async fn invite_machine(&mut self, secret: &str, machine: &str, granted: &Granted, ends_at: i64) -> Result<(), StoreError> {
        self.add_invitation(secret, "pool", granted, ends_at).await?;
        sqlx::query("UPDATE keys SET machine = ? WHERE digest = ?").bind(machine).bind(digest_of(secret)).execute(&mut *self.on).await?;
        Ok(())
    }

    /// A machine is given up: its invitation and its credential are worth nothing any more.
    pub async fn end_machine(&mut self, machine: &str) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM keys WHERE machine = ?").bind(machine).execute(&mut *self.on).await?;
        self.remove_runner(machine).await?;
        Ok(())
    }

    /// Drops machines that went before a moment.
    pub async fn drop_machines(&mut self, before: i64) -> Result<u64, StoreError> {
        Ok(sqlx::query("DELETE FROM machines WHERE gone_at < ?").bind(before).execute(&mut *self.on).await?.rows_affected())
    }
}

impl Records {
    /// What an invitation is for that has not been used and has not ended.
    pub async fn invitation(&self, secret: &str, now: i64) -> Result<Option<Invited>, StoreError> {
        let sql = "SELECT coalesce(grants, '{}'), machine FROM keys WHERE digest = ? AND kind = ? AND (ends_at IS NULL OR ends_at > ?)";
        let found: Option<(String, Option<String>)> =
            sqlx::query_as(sql).bind(digest_of(secret)).bind(Kind::Invitation.word()).bind(now).fetch_optional(&self.reads).await?;
        let Some((grants, machine)) = found else { return Ok(None) };
        let granted = serde_json::from_str(&grants).map_err(|_| StoreError::Value("keys.grants"))?;
        Ok(Some(Invited { granted, machine }))
    }
}
