//! Packs: which there are and what is in each. What they are for stands with artifacts and caches.

use super::{Records, StoreError, Tx};

/// A pack as it is recorded.
#[derive(Debug, Clone, sqlx::FromRow)]
pub(crate) struct PackRow {
    pub(crate) id: i64,
    pub(crate) name: String,
    pub(crate) bytes: i64,
    pub(crate) sealed: bool,
    pub(crate) made_at: i64,
    /// The headers of its blocks, one after the other.
    pub(crate) blocks: Vec<u8>,
}

impl Records {
    /// All packs, the oldest first.
    pub(crate) async fn packs(&self) -> Result<Vec<PackRow>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM packs ORDER BY id").fetch_all(&self.reads).await?)
    }
}

impl Records {
    /// The headers of a pack's blocks, one after the other; empty for one that is gone.
    pub(crate) async fn pack_headers(&self, name: &str) -> Result<Vec<u8>, StoreError> {
        let query = sqlx::query_scalar("SELECT blocks FROM packs WHERE name = ?").bind(name);
        Ok(query.fetch_optional(&self.reads).await?.unwrap_or_default())
    }
}

impl Tx {
    /// Records a pack that was written; gives its number.
    pub(crate) async fn add_pack(&mut self, name: &str, bytes: i64, sealed: bool, blocks: &[u8]) -> Result<i64, StoreError> {
        let now = self.now;
        let sql = "INSERT INTO packs (name, bytes, sealed, made_at, blocks) VALUES (?, ?, ?, ?, ?) RETURNING id";
        let query = sqlx::query_scalar(sql).bind(name).bind(bytes).bind(sealed).bind(now).bind(blocks);
        Ok(query.fetch_one(&mut *self.on).await?)
    }

    /// Forgets packs. Their files are deleted after the commit.
    pub(crate) async fn drop_packs(&mut self, ids: &[i64]) -> Result<(), StoreError> {
        let list = serde_json::to_string(ids).map_err(|_| StoreError::Value("pack ids"))?;
        sqlx::query("DELETE FROM packs WHERE id IN (SELECT value FROM json_each(?))").bind(list).execute(&mut *self.on).await?;
        Ok(())
    }
}
