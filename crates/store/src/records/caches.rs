//! Entries of caches: a key names a tree once and for all. Whoever saves second finds that the first has won.

use super::{Records, StoreError};

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
    /// Gives a tree its key. False when the key is there already: nothing was changed.
    pub async fn add_cache(&self, new: &NewCache<'_>, now: i64) -> Result<bool, StoreError> {
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
            .execute(&self.pool)
            .await?;
        Ok(done.rows_affected() > 0)
    }

    /// The entry of a key; else of the first beginning that fits some keys the newest. It counts as used now.
    pub async fn find_cache(&self, project_id: i64, key: &str, beginnings: &[String], now: i64) -> Result<Option<CacheRow>, StoreError> {
        let exact = "SELECT * FROM caches WHERE project_id = ? AND key = ?";
        let mut found: Option<CacheRow> = sqlx::query_as(exact).bind(project_id).bind(key).fetch_optional(&self.pool).await?;
        for beginning in beginnings {
            if found.is_some() {
                break;
            }
            // Compared by characters, since a key may hold what a pattern would read otherwise.
            let sql =
                "SELECT * FROM caches WHERE project_id = ?1 AND substr(key, 1, length(?2)) = ?2 ORDER BY saved_at DESC, id DESC LIMIT 1";
            found = sqlx::query_as(sql).bind(project_id).bind(beginning).fetch_optional(&self.pool).await?;
        }
        if let Some(row) = &found {
            let sql = "UPDATE caches SET used_at = ?, uses = uses + 1 WHERE id = ?";
            sqlx::query(sql).bind(now).bind(row.id).execute(&self.pool).await?;
        }
        Ok(found)
    }

    /// A project's entries, used last first.
    pub async fn caches(&self, project_id: i64) -> Result<Vec<CacheRow>, StoreError> {
        let sql = "SELECT * FROM caches WHERE project_id = ? ORDER BY used_at DESC, id DESC";
        Ok(sqlx::query_as(sql).bind(project_id).fetch_all(&self.pool).await?)
    }

    /// Every entry, unused longest first.
    pub async fn unused_caches(&self) -> Result<Vec<CacheRow>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM caches ORDER BY used_at, id").fetch_all(&self.pool).await?)
    }

    pub async fn cache(&self, project_id: i64, key: &str) -> Result<Option<CacheRow>, StoreError> {
        let sql = "SELECT * FROM caches WHERE project_id = ? AND key = ?";
        Ok(sqlx::query_as(sql).bind(project_id).bind(key).fetch_optional(&self.pool).await?)
    }

    /// Drops entries whose keys begin so; gives how many.
    pub async fn drop_caches(&self, project_id: i64, beginning: &str, whole: bool) -> Result<u64, StoreError> {
        let sql = "DELETE FROM caches WHERE project_id = ?1 AND (key = ?2 OR (NOT ?3 AND substr(key, 1, length(?2)) = ?2))";
        Ok(sqlx::query(sql).bind(project_id).bind(beginning).bind(whole).execute(&self.pool).await?.rows_affected())
    }

    /// Drops an entry unless it was used since it was looked at.
    pub async fn drop_unused_cache(&self, row: &CacheRow) -> Result<bool, StoreError> {
        let done =
            sqlx::query("DELETE FROM caches WHERE id = ? AND used_at = ?").bind(row.id).bind(row.used_at).execute(&self.pool).await?;
        Ok(done.rows_affected() > 0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn the_first_saver_wins_and_the_nearest_is_the_newest() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path()).await.unwrap();
        let project = "INSERT INTO projects (id, name, git_url, main_branch, hook_secret, created_at) VALUES (?, ?, '', 'main', '', 0)";
        for (id, name) in [(1, "tidegauge"), (2, "almanac")] {
            sqlx::query(project).bind(id).bind(name).execute(&records.pool).await.unwrap();
        }
        let new =
            |key, tree| NewCache { project_id: 1, key, tree, files: 1, raw_bytes: 2, bytes: 1, run: "tidegauge/1", job: "build.gauge" };
        assert!(records.add_cache(&new("obj-gcc-O0-aa", "t1"), 10).await.unwrap());
        assert!(!records.add_cache(&new("obj-gcc-O0-aa", "t2"), 11).await.unwrap());
        assert!(records.add_cache(&new("obj-gcc-O2-bb", "t3"), 12).await.unwrap());
        assert!(records.add_cache(&new("obj_gcc", "t4"), 13).await.unwrap());
        let find = async |key: &str, beginnings: &[&str]| {
            let beginnings: Vec<String> = beginnings.iter().map(|text| (*text).to_owned()).collect();
            records.find_cache(1, key, &beginnings, 20).await.unwrap().map(|row| row.tree)
        };
        assert_eq!(find("obj-gcc-O0-aa", &[]).await.as_deref(), Some("t1"));
        assert_eq!(find("obj-gcc-O0-cc", &["obj-gcc-O0-", "obj-"]).await.as_deref(), Some("t1"));
        assert_eq!(find("obj-clang", &["obj-clang-", "obj-"]).await.as_deref(), Some("t3"));
        assert_eq!(find("none", &["obj%", "nothing"]).await, None);
        assert_eq!(records.find_cache(2, "obj-gcc-O0-aa", &["".into()], 20).await.unwrap(), None);
        let uses: Vec<(String, i64, i64)> =
            records.caches(1).await.unwrap().into_iter().map(|row| (row.tree, row.uses, row.used_at)).collect();
        assert_eq!(uses, [("t3".into(), 1, 20), ("t1".into(), 2, 20), ("t4".into(), 0, 13)]);
        assert_eq!(records.drop_caches(1, "obj-gcc-", false).await.unwrap(), 2);
        assert_eq!(records.drop_caches(1, "obj", true).await.unwrap(), 0);
        let last = records.unused_caches().await.unwrap().remove(0);
        assert!(!records.drop_unused_cache(&CacheRow { used_at: 1, ..last.clone() }).await.unwrap());
        assert!(records.drop_unused_cache(&last).await.unwrap());
    }
}
