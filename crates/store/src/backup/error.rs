//! Why a backup was not made, or not brought back.

use std::path::PathBuf;

/// Why a backup was not made, or not brought back. Whatever was there before is as it was.
#[derive(Debug, thiserror::Error)]
pub enum BackupError {
    #[error("{} is no data folder: it has no ordotaxis.db", .0.display())]
    NoData(PathBuf),
    #[error("{0} holds other things than backups; name an empty folder, or one that backups were written to")]
    Other(String),
    #[error("the backups in {0} were written by a newer version of ordotaxis; use that version")]
    Newer(String),
    #[error("{} and {} lie one in the other; backups need a place of their own", .0.display(), .1.display())]
    Within(PathBuf, PathBuf),
    #[error("{} could not be read or written", path.display())]
    File {
        path: PathBuf,
        #[source]
        source: std::io::Error,
    },
    #[error("the database could not be copied")]
    Database(#[from] sqlx::Error),
    #[error("the place for backups could not be read or written")]
    Place(#[from] object_store::Error),
    #[error("pack {name} of the store could not be read; `ordotaxis store verify` says what is damaged")]
    Pack {
        name: String,
        #[source]
        source: object_store::Error,
    },
    #[error("the store was swept again and again meanwhile; try again")]
    Swept,
    #[error("there is no whole backup in {0}")]
    None(String),
    #[error("there is no backup {wanted} in {place}; there are: {there}")]
    NoSuch { wanted: String, place: String, there: String },
    #[error("{} is not empty; name a folder that is not there yet", .0.display())]
    InUse(PathBuf),
    #[error("another backup to {0} goes on, or a service keeps its own there")]
    Busy(String),
    /// The last moment, in milliseconds since 1970, before which all is there; none: there is only the copy itself.
    #[error("its changes are not all there, or one is damaged; {}", up_to(*.0))]
    Gap(Option<i64>),
    /// What was not sent has become too much, or cannot be told any more: a new copy is needed.
    #[error("what changed could not be sent for too long")]
    Behind,
    #[error("the place for backups did not take it in {0:?}")]
    Slow(std::time::Duration),
    #[error("the backup is damaged: {0}")]
    Damaged(String),
    #[error(transparent)]
    Store(#[from] crate::blobs::BlobError),
}

fn up_to(until: Option<i64>) -> String {
    match until.and_then(|ms| jiff::Timestamp::from_millisecond(ms).ok()) {
        Some(moment) => format!("up to {moment} they are whole: `--until {moment}`"),
        None => "the copy that they belong to may be whole: `--until` its own moment".to_owned(),
    }
}
