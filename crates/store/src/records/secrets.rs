//! Secrets as they are stored: sealed. Who can open them is the service's business (it holds the key).

use super::{Records, StoreError, Tx};

/// Where a secret goes: globs. With none at all, the main branch and every tag.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Reach {
    pub branches: Option<Vec<String>>,
    pub tags: Option<Vec<String>>,
    /// None: every pipeline.
    pub pipelines: Option<Vec<String>>,
}

/// As three columns hold it.
#[derive(Debug, Clone, sqlx::FromRow)]
pub(super) struct ReachRow {
    branches: Option<String>,
    tags: Option<String>,
    pipelines: Option<String>,
}

impl ReachRow {
    /// The columns of a reach.
    pub(super) fn of(reach: &Reach) -> Result<ReachRow, StoreError> {
        let list =
            |globs: &Option<Vec<String>>| globs.as_ref().map(serde_json::to_string).transpose().map_err(|_| StoreError::Value("globs"));
        Ok(ReachRow { branches: list(&reach.branches)?, tags: list(&reach.tags)?, pipelines: list(&reach.pipelines)? })
    }

    /// The reach of these columns.
    pub(super) fn read(self) -> Result<Reach, StoreError> {
        let list = |text: Option<String>| text.map(|text| serde_json::from_str(&text)).transpose().map_err(|_| StoreError::Value("globs"));
        Ok(Reach { branches: list(self.branches)?, tags: list(self.tags)?, pipelines: list(self.pipelines)? })
    }

    /// Branches, tags, pipelines, in the order in which they are bound.
    pub(super) fn columns(&self) -> [&Option<String>; 3] {
        [&self.branches, &self.tags, &self.pipelines]
    }
}

/// A secret: its encrypted value, and which runs may have it.
#[derive(Debug, Clone)]
pub struct SecretRow {
    pub name: String,
    /// For jobs that deploy there alone; none: for all that have no value of their own.
    pub environment: Option<String>,
    pub sealed: Vec<u8>,
    pub set_by: String,
    pub set_at: i64,
    pub reach: Reach,
}

#[derive(sqlx::FromRow)]
struct Row {
    name: String,
    environment: String,
    sealed: Vec<u8>,
    set_by: String,
    set_at: i64,
    #[sqlx(flatten)]
    reach: ReachRow,
}

impl Records {
    /// All secrets of a project, by name, those for all environments first. Values stay encrypted.
    pub async fn secrets(&self, project_id: i64) -> Result<Vec<SecretRow>, StoreError> {
        let sql = "SELECT name, environment, sealed, set_by, set_at, branches, tags, pipelines FROM secrets WHERE project_id = ?
                   ORDER BY name, environment";
        let rows: Vec<Row> = sqlx::query_as(sql).bind(project_id).fetch_all(&self.reads).await?;
        let read = |row: Row| {
            let Row { name, environment, sealed, set_by, set_at, reach } = row;
            let environment = Some(environment).filter(|name| !name.is_empty());
            Ok(SecretRow { name, environment, sealed, set_by, set_at, reach: reach.read()? })
        };
        rows.into_iter().map(read).collect()
    }
}

impl Tx {
    /// Sets a secret; one of that name for the same environment is gone.
    pub async fn set_secret(&mut self, project_id: i64, row: &SecretRow) -> Result<(), StoreError> {
        let reach = ReachRow::of(&row.reach)?;
        let [branches, tags, pipelines] = reach.columns();
        let sql = "INSERT OR REPLACE INTO secrets (project_id, name, environment, sealed, set_by, set_at, branches, tags, pipelines)
                   VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)";
        sqlx::query(sql)
            .bind(project_id)
            .bind(&row.name)
            .bind(row.environment.as_deref().unwrap_or_default())
            .bind(&row.sealed)
            .bind(&row.set_by)
            .bind(row.set_at)
            .bind(branches)
            .bind(tags)
            .bind(pipelines)
            .execute(&mut *self.on)
            .await?;
        Ok(())
    }

    /// Whether there was one.
    pub async fn remove_secret(&mut self, project_id: i64, name: &str, environment: Option<&str>) -> Result<bool, StoreError> {
        let sql = "DELETE FROM secrets WHERE project_id = ? AND name = ? AND environment = ?";
        Ok(sqlx::query(sql).bind(project_id).bind(name).bind(environment.unwrap_or_default()).execute(&mut *self.on).await?.rows_affected()
            > 0)
    }
}
