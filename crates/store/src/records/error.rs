//! Why the database was not read or not changed.

use serde::Serialize;
use sqlx::migrate::MigrateError;
use std::path::PathBuf;

/// Why the database was not read or not changed. Nothing was changed when a call returns one.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    #[error("the data folder {} could not be prepared", path.display())]
    Folder {
        path: PathBuf,
        #[source]
        source: std::io::Error,
    },
    #[error("the database could not be asked")]
    Database(#[from] sqlx::Error),
    #[error("the database was written by a newer version of ordotaxis; start that version, or restore a backup made before it ran")]
    Newer,
    #[error("the database could not be brought to this version's form")]
    Migrate(#[source] MigrateError),
    #[error("the database holds a value that cannot be read: {0}")]
    Value(&'static str),
    #[error("a change by a person was not noted in the journal; nothing was changed")]
    Unnoted,
    #[error("there is already {what} `{name}`")]
    Exists { what: &'static str, name: String },
}

/// Turns the refusal of a unique index into a sentence.
pub(super) fn exists(error: sqlx::Error, what: &'static str, name: &str) -> StoreError {
    match &error {
        sqlx::Error::Database(database) if database.is_unique_violation() => StoreError::Exists { what, name: name.to_owned() },
        _ => StoreError::Database(error),
    }
}

/// Rows as the one JSON value that a statement reads with `json_each`.
pub(super) fn json<T: Serialize>(rows: &[T]) -> Result<String, StoreError> {
    serde_json::to_string(rows).map_err(|_| StoreError::Value("rows"))
}
