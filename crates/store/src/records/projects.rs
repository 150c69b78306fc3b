//! Projects.

use super::{Records, StoreError, Tx, exists};
use ordotaxis_core::access::Seen;
use serde::{Deserialize, Serialize};

/// A project: a repository with its settings.
#[derive(Debug, Clone)]
pub struct Project {
    pub id: i64,
    pub name: String,
    pub git_url: String,
    pub main_branch: String,
    /// It is the one that the repository names, and follows it.
    pub main_follows: bool,
    /// The webhook's secret and the forge's token, sealed by the service.
    pub sealed: Option<Vec<u8>>,
    pub forge: Option<Forge>,
    /// What is done with proposals from outside: `ask`, `run` or `never`.
    pub outside: String,
    /// Who sees it.
    pub seen: Seen,
    /// Whoever has it sees its badges, and nothing else. Made when the project is added.
    pub badge_key: String,
    pub created_at: i64,
}

/// Where commit statuses go.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Forge {
    pub profile: String,
    pub url: String,
    pub repository: String,
}

/// What versions before kept in the clear.
#[derive(Debug)]
pub struct Unsealed {
    pub id: i64,
    pub hook_secret: String,
    pub token: Option<String>,
}

#[derive(sqlx::FromRow)]
struct Row {
    id: i64,
    name: String,
    git_url: String,
    main_branch: String,
    main_follows: bool,
    sealed: Option<Vec<u8>>,
    forge: Option<String>,
    outside: String,
    seen: String,
    badge_key: String,
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
            main_follows: self.main_follows,
            sealed: self.sealed,
            forge,
            outside: self.outside,
            seen: self.seen.parse().map_err(|_| StoreError::Value("projects.seen"))?,
            badge_key: self.badge_key,
            created_at: self.created_at,
        })
    }
}

impl Records {
    /// Projects of versions before, whose secrets are not sealed yet.
    pub async fn unsealed_projects(&self) -> Result<Vec<Unsealed>, StoreError> {
        let sql = "SELECT id, hook_secret, forge ->> '$.token' FROM projects WHERE sealed IS NULL AND hook_secret <> ''";
        let rows: Vec<(i64, String, Option<String>)> = sqlx::query_as(sql).fetch_all(&self.reads).await?;
        Ok(rows.into_iter().map(|(id, hook_secret, token)| Unsealed { id, hook_secret, token }).collect())
    }

    /// All projects, by name.
    pub async fn projects(&self) -> Result<Vec<Project>, StoreError> {
        let rows: Vec<Row> = sqlx::query_as("SELECT * FROM projects ORDER BY name").fetch_all(&self.reads).await?;
        rows.into_iter().map(Row::read).collect()
    }

    /// A project by name; none when there is no such project.
    pub async fn project(&self, name: &str) -> Result<Option<Project>, StoreError> {
        let row: Option<Row> = sqlx::query_as("SELECT * FROM projects WHERE name = ?").bind(name).fetch_optional(&self.reads).await?;
        row.map(Row::read).transpose()
    }

    /// A project by number; none when it was removed.
    pub async fn project_by_id(&self, id: i64) -> Result<Option<Project>, StoreError> {
        let row: Option<Row> = sqlx::query_as("SELECT * FROM projects WHERE id = ?").bind(id).fetch_optional(&self.reads).await?;
        row.map(Row::read).transpose()
    }
}

impl Records {
    /// The rules that the service keeps for a project, as text.
    pub async fn kept_rules(&self, project_id: i64) -> Result<String, StoreError> {
        let sql = "SELECT rules FROM projects WHERE id = ?";
        Ok(sqlx::query_scalar(sql).bind(project_id).fetch_optional(&self.reads).await?.unwrap_or_default())
    }
}

impl Tx {
    /// Keeps rules for a project besides those of its main branch.
    pub async fn set_rules(&mut self, project_id: i64, text: &str) -> Result<(), StoreError> {
        sqlx::query("UPDATE projects SET rules = ? WHERE id = ?").bind(text).bind(project_id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// What a project is called; none where it was removed.
    pub async fn project_name(&mut self, id: i64) -> Result<Option<String>, StoreError> {
        Ok(sqlx::query_scalar("SELECT name FROM projects WHERE id = ?").bind(id).fetch_optional(&mut *self.on).await?)
    }

    /// Adds a project and gives its number. A name that is taken is refused. What is to be sealed is sealed for the number: set
    /// it afterwards with [`Records::seal_project`].
    pub async fn add_project(&mut self, project: &Project) -> Result<i64, StoreError> {
        let forge = project.forge.as_ref().and_then(|forge| serde_json::to_string(forge).ok());
        let sql = "INSERT INTO projects (id, name, git_url, main_branch, main_follows, hook_secret, forge, outside, seen, badge_key, created_at)
                   VALUES ((SELECT last + 1 FROM ids WHERE of = 'projects'), ?, ?, ?, ?, '', ?, ?, ?, lower(hex(randomblob(12))), ?) RETURNING id";
        sqlx::query_scalar(sql)
            .bind(&project.name)
            .bind(&project.git_url)
            .bind(&project.main_branch)
            .bind(project.main_follows)
            .bind(forge)
            .bind(&project.outside)
            .bind(project.seen.word())
            .bind(project.created_at)
            .fetch_one(&mut *self.on)
            .await
            .map_err(|error| exists(error, "a project", &project.name))
    }

    /// Keeps a project's sealed secret and token; what lay there in the clear goes.
    pub async fn seal_project(&mut self, id: i64, sealed: &[u8]) -> Result<(), StoreError> {
        let sql = "UPDATE projects SET sealed = ?, hook_secret = '', forge = json_remove(forge, '$.token') WHERE id = ?";
        sqlx::query(sql).bind(sealed).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Changes where a project's repository is.
    pub async fn set_git_url(&mut self, id: i64, git_url: &str) -> Result<(), StoreError> {
        sqlx::query("UPDATE projects SET git_url = ? WHERE id = ?").bind(git_url).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Says which branch is a project's main one, and whether it is the one that the repository names.
    pub async fn set_main_branch(&mut self, id: i64, branch: &str, follows: bool) -> Result<(), StoreError> {
        let sql = "UPDATE projects SET main_branch = ?, main_follows = ? WHERE id = ?";
        sqlx::query(sql).bind(branch).bind(follows).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Says who sees a project.
    pub async fn set_seen(&mut self, id: i64, seen: Seen) -> Result<(), StoreError> {
        sqlx::query("UPDATE projects SET seen = ? WHERE id = ?").bind(seen.word()).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Says what is done with proposals from outside. False when there is no such project.
    pub async fn set_outside(&mut self, name: &str, outside: &str) -> Result<bool, StoreError> {
        let sql = "UPDATE projects SET outside = ? WHERE name = ?";
        Ok(sqlx::query(sql).bind(outside).bind(name).execute(&mut *self.on).await?.rows_affected() > 0)
    }

    /// Removes a project with its runs. Gives false when there was none.
    pub async fn remove_project(&mut self, name: &str) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM projects WHERE name = ?").bind(name).execute(&mut *self.on).await?;
        Ok(done.rows_affected() > 0)
    }
}
