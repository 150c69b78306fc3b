//! Entries of caches: a key names a tree once and for all. Whoever saves second finds that the first has won.

use super::{Records, StoreError, Tx};

/// An entry of a project's caches.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct CacheRow {
    pub id: i64,
    pub project_id: i64,
    pub key: String,
    pub tree: String,
    pub files: i64,
    pub raw_bytes: i64,
    pub bytes: i64,
    pub run: String,
    pub job: String,
    pub saved_at: i64,
    pub used_at: i64,
    pub uses: i64,
}

/// An entry to be added.
#[derive(Debug, Clone)]
pub struct NewCache<'a> {
    pub project_id: i64,
    pub key: &'a str,
    pub tree: &'a str,
    pub files: i64,
    pub raw_bytes: i64,
    pub bytes: i64,
    pub run: &'a str,
    pub job: &'a str,
}

impl Records {
    /// Bytes of all artifacts and caches that have a name, as jobs see them.
    pub async fn named_bytes(&self) -> Result<i64, StoreError> {
        let sql = "SELECT coalesce((SELECT sum(raw_bytes) FROM artifacts WHERE tree IS NOT NULL), 0) + coalesce((SELECT sum(raw_bytes) FROM caches), 0)";
        Ok(sqlx::query_scalar(sql).fetch_one(&self.reads).await?)
    }

    /// A project's entries, used last first.
    pub async fn caches(&self, project_id: i64) -> Result<Vec<CacheRow>, StoreError> {
        let sql = "SELECT * FROM caches WHERE project_id = ? ORDER BY used_at DESC, id DESC";
        Ok(sqlx::query_as(sql).bind(project_id).fetch_all(&self.reads).await?)
    }

    /// Every entry, unused longest first.
    pub async fn unused_caches(&self) -> Result<Vec<CacheRow>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM caches ORDER BY used_at, id").fetch_all(&self.reads).await?)
    }

    /// The entry with this key in this scope, exactly.
    pub async fn cache(&self, project_id: i64, key: &str) -> Result<Option<CacheRow>, StoreError> {
        let sql = "SELECT * FROM caches WHERE project_id = ? AND key = ?";
        Ok(sqlx::query_as(sql).bind(project_id).bind(key).fetch_optional(&self.reads).await?)
    }
}

impl Tx {
    /// Gives a tree its key. False when the key is there already: nothing was changed.
    pub async fn add_cache(&mut self, new: &NewCache<'_>) -> Result<bool, StoreError> {
        let now = self.now;
        let sql = "INSERT INTO caches (id, project_id, key, tree, files, raw_bytes, bytes, run, job, saved_at, used_at)
                   VALUES ((SELECT last + 1 FROM ids WHERE of = 'caches'), ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING";
        let done = sqlx::query(sql)
            .bind(new.project_id)
            .bind(new.key)
            .bind(new.tree)
            .bind(new.files)
            .bind(new.raw_bytes)
            .bind(new.bytes)
            .bind(new.run)
            .bind(new.job)
            .bind(now)
            .bind(now)
            .execute(&mut *self.on)
            .await?;
        Ok(done.rows_affected() > 0)
    }

    /// The entry of a key; else of the first beginning that fits some keys the newest. It counts as used now.
    pub async fn find_cache(&mut self, project_id: i64, key: &str, beginnings: &[String]) -> Result<Option<CacheRow>, StoreError> {
        let now = self.now;
        let exact = "SELECT * FROM caches WHERE project_id = ? AND key = ?";
        let mut found: Option<CacheRow> = sqlx::query_as(exact).bind(project_id).bind(key).fetch_optional(&mut *self.on).await?;
        for beginning in beginnings {
            if found.is_some() {
                break;
            }
            // Compared by characters, since a key may hold what a pattern would read otherwise.
            let sql =
                "SELECT * FROM caches WHERE project_id = ?1 AND substr(key, 1, length(?2)) = ?2 ORDER BY saved_at DESC, id DESC LIMIT 1";
            found = sqlx::query_as(sql).bind(project_id).bind(beginning).fetch_optional(&mut *self.on).await?;
        }
        if let Some(row) = &found {
            let sql = "UPDATE caches SET used_at = ?, uses = uses + 1 WHERE id = ?";
            sqlx::query(sql).bind(now).bind(row.id).execute(&mut *self.on).await?;
        }
        Ok(found)
    }

    /// Drops entries whose keys begin so; gives how many.
    pub async fn drop_caches(&mut self, project_id: i64, beginning: &str, whole: bool) -> Result<u64, StoreError> {
        let sql = "DELETE FROM caches WHERE project_id = ?1 AND (key = ?2 OR (NOT ?3 AND substr(key, 1, length(?2)) = ?2))";
        Ok(sqlx::query(sql).bind(project_id).bind(beginning).bind(whole).execute(&mut *self.on).await?.rows_affected())
    }

    /// Drops an entry unless it was used since it was looked at.
    pub async fn drop_unused_cache(&mut self, row: &CacheRow) -> Result<bool, StoreError> {
        let done =
            sqlx::query("DELETE FROM caches WHERE id = ? AND used_at = ?").bind(row.id).bind(row.used_at).execute(&mut *self.on).await?;
        Ok(done.rows_affected() > 0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    macro_rules! change {
        ($records:expr, $now:expr, $method:ident($($argument:expr),*)) => {{
            let mut tx = $records.tx_by_rule("a test", $now).await.unwrap();
            let answer = tx.$method($($argument),*).await;
            tx.commit().await.unwrap();
            answer
        }};
    }

    #[tokio::test]
    async fn the_first_saver_wins_and_the_nearest_is_the_newest() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path()).await.unwrap();
        let project = "INSERT INTO projects (id, name, git_url, main_branch, hook_secret, created_at) VALUES (?, ?, '', 'main', '', 0)";
        for (id, name) in [(1, "tidegauge"), (2, "almanac")] {
            sqlx::query(project).bind(id).bind(name).execute(&records.writer).await.unwrap();
        }
        let new =
            |key, tree| NewCache { project_id: 1, key, tree, files: 1, raw_bytes: 2, bytes: 1, run: "tidegauge/1", job: "build.gauge" };
        assert!(change!(records, 10, add_cache(&new("obj-gcc-O0-aa", "t1"))).unwrap());
        assert!(!change!(records, 11, add_cache(&new("obj-gcc-O0-aa", "t2"))).unwrap());
        assert!(change!(records, 12, add_cache(&new("obj-gcc-O2-bb", "t3"))).unwrap());
        assert!(change!(records, 13, add_cache(&new("obj_gcc", "t4"))).unwrap());
        let find = async |key: &str, beginnings: &[&str]| {
            let beginnings: Vec<String> = beginnings.iter().map(|text| (*text).to_owned()).collect();
            change!(records, 20, find_cache(1, key, &beginnings)).unwrap().map(|row| row.tree)
        };
        assert_eq!(find("obj-gcc-O0-aa", &[]).await.as_deref(), Some("t1"));
        assert_eq!(find("obj-gcc-O0-cc", &["obj-gcc-O0-", "obj-"]).await.as_deref(), Some("t1"));
        assert_eq!(find("obj-clang", &["obj-clang-", "obj-"]).await.as_deref(), Some("t3"));
        assert_eq!(find("none", &["obj%", "nothing"]).await, None);
        assert_eq!(change!(records, 20, find_cache(2, "obj-gcc-O0-aa", &["".into()])).unwrap(), None);
        let uses: Vec<(String, i64, i64)> =
            records.caches(1).await.unwrap().into_iter().map(|row| (row.tree, row.uses, row.used_at)).collect();
        assert_eq!(uses, [("t3".into(), 1, 20), ("t1".into(), 2, 20), ("t4".into(), 0, 13)]);
        assert_eq!(change!(records, 1, drop_caches(1, "obj-gcc-", false)).unwrap(), 2);
        assert_eq!(change!(records, 1, drop_caches(1, "obj", true)).unwrap(), 0);
        let last = records.unused_caches().await.unwrap().remove(0);
        assert!(!change!(records, 1, drop_unused_cache(&CacheRow { used_at: 1, ..last.clone() })).unwrap());
        assert!(change!(records, 1, drop_unused_cache(&last)).unwrap());
    }
}
