//! Keys with which the service signs: the private half sealed, the public half as a JWK.

use super::{Records, StoreError, Tx};

/// A key that signs. The private part is encrypted.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct SigningKeyRow {
    pub id: String,
    /// Empty once it signs no more.
    pub sealed: Vec<u8>,
    /// A JSON Web Key (RFC 7517).
    pub public: String,
    pub made_at: i64,
}

impl Records {
    /// Those of one purpose, the newest first.
    pub async fn signing_keys(&self, purpose: &str) -> Result<Vec<SigningKeyRow>, StoreError> {
        let sql = "SELECT id, sealed, public, made_at FROM signing_keys WHERE purpose = ? ORDER BY made_at DESC, id";
        Ok(sqlx::query_as(sql).bind(purpose).fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// Adds a key; the newest signs.
    pub async fn add_signing_key(&mut self, purpose: &str, key: &SigningKeyRow) -> Result<(), StoreError> {
        let sql = "INSERT INTO signing_keys (id, purpose, sealed, public, made_at) VALUES (?, ?, ?, ?, ?)";
        let query = sqlx::query(sql).bind(&key.id).bind(purpose).bind(&key.sealed).bind(&key.public).bind(key.made_at);
        query.execute(&mut *self.on).await?;
        Ok(())
    }

    /// Drops keys with which nothing was signed for long.
    pub async fn drop_signing_keys(&mut self, purpose: &str, made_before: i64) -> Result<(), StoreError> {
        let sql = "DELETE FROM signing_keys WHERE purpose = ? AND made_at < ?";
        sqlx::query(sql).bind(purpose).bind(made_before).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Keys that are there already sign no more: what they signed can still be checked.
    pub async fn retire_signing_keys(&mut self, purpose: &str) -> Result<(), StoreError> {
        sqlx::query("UPDATE signing_keys SET sealed = x'' WHERE purpose = ?").bind(purpose).execute(&mut *self.on).await?;
        Ok(())
    }
}
