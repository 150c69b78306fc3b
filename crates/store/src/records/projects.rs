//! Projects.

use super::{Records, StoreError, exists};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone)]
pub struct Project {
    pub id: i64,
    pub name: String,
    pub git_url: String,
    pub main_branch: String,
    pub hook_secret: String,
    pub forge: Option<Forge>,
    pub created_at: i64,
}

/// Where commit statuses go.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Forge {
    pub profile: String,
    pub url: String,
    pub repository: String,
    pub token: Option<String>,
}

#[derive(sqlx::FromRow)]
struct Row {
    id: i64,
    name: String,
    git_url: String,
    main_branch: String,
    hook_secret: String,
    forge: Option<String>,
    created_at: i64,
}

impl Row {
    fn read(self) -> Result<Project, StoreError> {
        let forge = self.forge.map(|text| serde_json::from_str(&text)).transpose().map_err(|_| StoreError::Value("projects.forge"))?;
        Ok(Project {
            id: self.id,
            name: self.name,
            git_url: self.git_url,
            main_branch: self.main_branch,
            hook_secret: self.hook_secret,
            forge,
            created_at: self.created_at,
        })
    }
}

impl Records {
    /// Adds a project; its `id` is given anew. A name that is taken is refused.
    pub async fn add_project(&self, project: &Project) -> Result<(), StoreError> {
        let forge = project.forge.as_ref().and_then(|forge| serde_json::to_string(forge).ok());
        sqlx::query("INSERT INTO projects (name, git_url, main_branch, hook_secret, forge, created_at) VALUES (?, ?, ?, ?, ?, ?)")
            .bind(&project.name)
            .bind(&project.git_url)
            .bind(&project.main_branch)
            .bind(&project.hook_secret)
            .bind(forge)
            .bind(project.created_at)
            .execute(&self.pool)
            .await
            .map_err(|error| exists(error, "a project", &project.name))?;
        Ok(())
    }

    pub async fn projects(&self) -> Result<Vec<Project>, StoreError> {
        let rows: Vec<Row> = sqlx::query_as("SELECT * FROM projects ORDER BY name").fetch_all(&self.pool).await?;
        rows.into_iter().map(Row::read).collect()
    }

    pub async fn project(&self, name: &str) -> Result<Option<Project>, StoreError> {
        let row: Option<Row> = sqlx::query_as("SELECT * FROM projects WHERE name = ?").bind(name).fetch_optional(&self.pool).await?;
        row.map(Row::read).transpose()
    }

    pub async fn project_by_id(&self, id: i64) -> Result<Option<Project>, StoreError> {
        let row: Option<Row> = sqlx::query_as("SELECT * FROM projects WHERE id = ?").bind(id).fetch_optional(&self.pool).await?;
        row.map(Row::read).transpose()
    }

    /// Removes a project with its runs. Gives false when there was none.
    pub async fn remove_project(&self, name: &str) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM projects WHERE name = ?").bind(name).execute(&self.pool).await?;
        Ok(done.rows_affected() > 0)
    }
}
