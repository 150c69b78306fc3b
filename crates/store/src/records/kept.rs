//! Entries of caches that outlive their database: the service of a rehearsal is new each time, what its jobs cached is not.
//! They lie in a small database of their own beside the packs, which holds nothing else of the rehearsal.

use super::{Records, StoreError};
use sqlx::{AssertSqlSafe, Connection, SqliteConnection};
use std::path::Path;

/// The form of the file. One of another form is as none.
const FORM: i64 = 1;

const PACKS: &str = "id, name, bytes, sealed, made_at, blocks";
const CACHES: &str = "id, key, tree, files, raw_bytes, bytes, run, job, saved_at, used_at, uses";

impl Records {
    /// Writes the packs and all entries of caches to a file. It is there whole or as it was before.
    pub async fn keep_caches(&self, file: &Path) -> Result<(), StoreError> {
        let new = file.with_extension("new");
        let folder = |source| StoreError::Folder { path: new.clone(), source };
        match std::fs::remove_file(&new) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(folder(error)),
            _ => {}
        }
        let copies = [
            format!("PRAGMA kept.user_version = {FORM}"),
            format!("CREATE TABLE kept.packs AS SELECT {PACKS} FROM main.packs"),
            format!("CREATE TABLE kept.caches AS SELECT {CACHES} FROM main.caches"),
        ];
        self.beside(&new, &copies).await?;
        std::fs::rename(&new, file).map_err(folder)
    }

    /// Takes over the packs that such a file names. Before the store is opened.
    pub async fn bring_packs(&self, file: &Path) -> Result<(), StoreError> {
        let sql = format!("INSERT INTO main.packs ({PACKS}) SELECT {PACKS} FROM kept.packs ORDER BY id");
        self.bring(file, sql).await
    }

    /// Takes over the entries of such a file for a project.
    pub async fn bring_caches(&self, file: &Path, project_id: i64) -> Result<(), StoreError> {
        let sql =
            format!("INSERT INTO main.caches (project_id, {CACHES}) SELECT {project_id}, {CACHES} FROM kept.caches WHERE true ORDER BY id");
        self.bring(file, sql).await
    }

    async fn bring(&self, file: &Path, sql: String) -> Result<(), StoreError> {
        if !file.exists() || form_of(file).await? != FORM {
            return Ok(());
        }
        self.beside(file, &[sql]).await
    }

    /// Runs statements on the one connection that writes, with the file attached as `kept`.
    async fn beside(&self, file: &Path, statements: &[String]) -> Result<(), StoreError> {
        let mut on = self.writer.acquire().await?;
        sqlx::query("ATTACH DATABASE ? AS kept").bind(file.display().to_string()).execute(&mut *on).await?;
        let done = in_one(&mut on, statements).await;
        sqlx::query("DETACH DATABASE kept").execute(&mut *on).await?;
        done
    }
}

async fn in_one(on: &mut SqliteConnection, statements: &[String]) -> Result<(), StoreError> {
    let mut tx = on.begin().await?;
    for sql in statements {
        // Of constants and numbers alone.
        sqlx::query(AssertSqlSafe(sql.as_str())).execute(&mut *tx).await?;
    }
    Ok(tx.commit().await?)
}

async fn form_of(file: &Path) -> Result<i64, StoreError> {
    let options = sqlx::sqlite::SqliteConnectOptions::new().filename(file).read_only(true);
    let mut on = SqliteConnection::connect_with(&options).await?;
    let form = sqlx::query_scalar("PRAGMA user_version").fetch_one(&mut on).await?;
    on.close().await?;
    Ok(form)
}
