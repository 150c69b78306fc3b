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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::records::NewCache;

    async fn records(folder: &Path) -> Records {
        std::fs::create_dir_all(folder).unwrap();
        let records = Records::open(folder).await.unwrap();
        let project =
            "INSERT INTO projects (id, name, git_url, main_branch, hook_secret, created_at) VALUES (7, 'tidegauge', '', 'main', '', 0)";
        sqlx::query(project).execute(&records.writer).await.unwrap();
        records
    }

    #[tokio::test]
    async fn entries_come_to_another_database_and_can_be_added_to() {
        let folder = tempfile::tempdir().unwrap();
        let (file, before) = (folder.path().join("caches.db"), records(&folder.path().join("one")).await);
        let new = |key, tree| NewCache { project_id: 7, key, tree, files: 1, raw_bytes: 2, bytes: 1, run: "tidegauge/1", job: "a.b" };
        let mut tx = before.tx_by_rule("a test", 10).await.unwrap();
        assert!(tx.add_cache(&new("k-1", "t1")).await.unwrap() && tx.add_cache(&new("k-2", "t2")).await.unwrap());
        tx.commit().await.unwrap();
        before.keep_caches(&file).await.unwrap();
        before.keep_caches(&file).await.unwrap();
        let after = records(&folder.path().join("two")).await;
        after.bring_packs(&file).await.unwrap();
        after.bring_caches(&file, 7).await.unwrap();
        assert_eq!(after.caches(7).await.unwrap(), before.caches(7).await.unwrap());
        let mut tx = after.tx_by_rule("a test", 20).await.unwrap();
        assert!(!tx.add_cache(&new("k-1", "t9")).await.unwrap(), "it is there");
        assert!(tx.add_cache(&new("k-3", "t3")).await.unwrap(), "numbers go on where they were");
        tx.commit().await.unwrap();
    }

    #[tokio::test]
    async fn what_is_not_ours_is_as_nothing_or_an_error_and_changes_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let records = records(&folder.path().join("one")).await;
        let (none, later, broken) = (folder.path().join("none.db"), folder.path().join("later.db"), folder.path().join("broken.db"));
        records.bring_caches(&none, 7).await.unwrap();
        records.keep_caches(&later).await.unwrap();
        let options = sqlx::sqlite::SqliteConnectOptions::new().filename(&later);
        let mut on = SqliteConnection::connect_with(&options).await.unwrap();
        sqlx::query("PRAGMA user_version = 9").execute(&mut on).await.unwrap();
        sqlx::query("DROP TABLE caches").execute(&mut on).await.unwrap();
        on.close().await.unwrap();
        records.bring_caches(&later, 7).await.unwrap();
        std::fs::write(&broken, "no database, but long enough to be read as one ".repeat(100)).unwrap();
        assert!(records.bring_packs(&broken).await.is_err());
        assert!(records.caches(7).await.unwrap().is_empty());
        // The one connection that writes is as it was.
        records.keep_caches(&broken).await.unwrap();
        records.bring_packs(&broken).await.unwrap();
    }
}
