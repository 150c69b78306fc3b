//! Keys with which the service signs the identities of jobs: the private half sealed, the public half as a JWK.

use super::{Records, StoreError, Tx};

/// A key that signs identities of jobs. The private part is encrypted.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct SigningKeyRow {
    pub id: String,
    pub sealed: Vec<u8>,
    /// A JSON Web Key (RFC 7517).
    pub public: String,
    pub made_at: i64,
}

impl Records {
    /// The newest first.
    pub async fn signing_keys(&self) -> Result<Vec<SigningKeyRow>, StoreError> {
        let sql = "SELECT id, sealed, public, made_at FROM signing_keys ORDER BY made_at DESC, id";
        Ok(sqlx::query_as(sql).fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// Adds a key; the newest signs, older ones are still published until they expire.
    pub async fn add_signing_key(&mut self, key: &SigningKeyRow) -> Result<(), StoreError> {
        let sql = "INSERT INTO signing_keys (id, sealed, public, made_at) VALUES (?, ?, ?, ?)";
        sqlx::query(sql).bind(&key.id).bind(&key.sealed).bind(&key.public).bind(key.made_at).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Drops keys with which nothing was signed for long.
    pub async fn drop_signing_keys(&mut self, made_before: i64) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM signing_keys WHERE made_at < ?").bind(made_before).execute(&mut *self.on).await?;
        Ok(())
    }
}
