//! Tokens of persons, for programs, and of jobs. Only digests are here.

use super::{PersonRow, Records, StoreError, Tx};
use crate::key::digest_of;
use ordotaxis_core::access::Limit;

/// A token to be added.
#[derive(Debug, Clone)]
pub struct NewToken<'a> {
    pub person_id: i64,
    pub name: &'a str,
    pub secret: &'a str,
    pub limit: &'a Limit,
    pub ends_at: Option<i64>,
}

/// A token as lists show it; the token itself is not stored, only its digest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TokenRow {
    pub id: i64,
    pub person: String,
    pub name: String,
    pub limit: Limit,
    pub made_at: i64,
    pub ends_at: Option<i64>,
    pub used_at: Option<i64>,
}

#[derive(sqlx::FromRow)]
struct Row {
    id: i64,
    person: String,
    name: String,
    role: Option<String>,
    projects: Option<String>,
    made_at: i64,
    ends_at: Option<i64>,
    used_at: Option<i64>,
}

impl Row {
    fn read(self) -> Result<TokenRow, StoreError> {
        let Row { id, person, name, role, projects, made_at, ends_at, used_at } = self;
        Ok(TokenRow { id, person, name, limit: limit(role, projects)?, made_at, ends_at, used_at })
    }
}

fn limit(role: Option<String>, projects: Option<String>) -> Result<Limit, StoreError> {
    let role = role.map(|word| word.parse().map_err(|_| StoreError::Value("tokens.role"))).transpose()?;
    let projects = projects.map(|list| serde_json::from_str(&list).map_err(|_| StoreError::Value("tokens.projects"))).transpose()?;
    Ok(Limit { role, projects })
}

/// A token that is good: whose it is, and what it leaves of the person's rights.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GoodToken {
    pub person: PersonRow,
    pub token: i64,
    pub limit: Limit,
    pub used_at: Option<i64>,
}

/// A job's token: whose it is, and what it may be used for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct JobToken {
    pub run_id: i64,
    pub job: i64,
    pub attempt: u32,
    pub allows: Vec<String>,
}

impl Records {
    /// None when it is not known, or has ended.
    pub async fn token(&self, secret: &str, now: i64) -> Result<Option<GoodToken>, StoreError> {
        let sql = "SELECT persons.id, persons.name, mail, added_at, tokens.id, role, projects, used_at FROM tokens
                   JOIN persons ON persons.id = person_id WHERE digest = ? AND (ends_at IS NULL OR ends_at > ?)";
        type Found = (i64, String, Option<String>, i64, i64, Option<String>, Option<String>, Option<i64>);
        let found: Option<Found> = sqlx::query_as(sql).bind(digest_of(secret)).bind(now).fetch_optional(&self.reads).await?;
        found
            .map(|(id, name, mail, added_at, token, role, projects, used_at)| {
                let person = PersonRow { id, name, mail, added_at };
                Ok(GoodToken { person, token, limit: limit(role, projects)?, used_at })
            })
            .transpose()
    }

    /// One person's, or with none everybody's, the newest first; expired and revoked ones included.
    pub async fn tokens(&self, person: Option<&str>) -> Result<Vec<TokenRow>, StoreError> {
        let sql = "SELECT tokens.id, persons.name AS person, tokens.name, role, projects, made_at, ends_at, used_at FROM tokens
                   JOIN persons ON persons.id = person_id WHERE (?1 IS NULL OR persons.name = ?1) ORDER BY tokens.id DESC";
        let rows: Vec<Row> = sqlx::query_as(sql).bind(person).fetch_all(&self.reads).await?;
        rows.into_iter().map(Row::read).collect()
    }

    /// The job that a token belongs to; none when it is unknown or its attempt has ended.
    pub async fn job_token(&self, secret: &str) -> Result<Option<JobToken>, StoreError> {
        let sql = "SELECT run_id, job, attempt, allows FROM job_tokens WHERE digest = ?";
        let found: Option<(i64, i64, u32, String)> = sqlx::query_as(sql).bind(digest_of(secret)).fetch_optional(&self.reads).await?;
        found
            .map(|(run_id, job, attempt, allows)| {
                let allows = serde_json::from_str(&allows).map_err(|_| StoreError::Value("job_tokens.allows"))?;
                Ok(JobToken { run_id, job, attempt, allows })
            })
            .transpose()
    }
}

impl Tx {
    /// Gives the token's number.
    pub async fn add_token(&mut self, new: &NewToken<'_>) -> Result<i64, StoreError> {
        let projects =
            new.limit.projects.as_ref().map(serde_json::to_string).transpose().map_err(|_| StoreError::Value("tokens.projects"))?;
        let sql =
            "INSERT INTO tokens (person_id, name, digest, role, projects, made_at, ends_at) VALUES (?, ?, ?, ?, ?, ?, ?) RETURNING id";
        let query = sqlx::query_scalar(sql).bind(new.person_id).bind(new.name).bind(digest_of(new.secret));
        let query = query.bind(new.limit.role.map(|role| role.word())).bind(projects).bind(self.now).bind(new.ends_at);
        Ok(query.fetch_one(&mut *self.on).await?)
    }

    /// Notes when a token was last used.
    pub async fn token_used(&mut self, id: i64) -> Result<(), StoreError> {
        sqlx::query("UPDATE tokens SET used_at = ? WHERE id = ?").bind(self.now).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Takes a token away: (person, name of the token), if there was one. With `of`, only that person's.
    pub async fn end_token(&mut self, id: i64, of: Option<i64>) -> Result<Option<(String, String)>, StoreError> {
        let sql = "DELETE FROM tokens WHERE id = ?1 AND (?2 IS NULL OR person_id = ?2)
                   RETURNING (SELECT name FROM persons WHERE id = person_id), name";
        Ok(sqlx::query_as(sql).bind(id).bind(of).fetch_optional(&mut *self.on).await?)
    }

    /// A job has one token: that of an earlier attempt goes.
    pub async fn add_job_token(&mut self, secret: &str, token: &JobToken) -> Result<(), StoreError> {
        let sql = "DELETE FROM job_tokens WHERE run_id = ? AND job = ?";
        sqlx::query(sql).bind(token.run_id).bind(token.job).execute(&mut *self.on).await?;
        let allows = serde_json::to_string(&token.allows).map_err(|_| StoreError::Value("job_tokens.allows"))?;
        let sql = "INSERT INTO job_tokens (digest, run_id, job, attempt, allows) VALUES (?, ?, ?, ?, ?)";
        let query = sqlx::query(sql).bind(digest_of(secret)).bind(token.run_id).bind(token.job).bind(token.attempt);
        query.bind(allows).execute(&mut *self.on).await?;
        Ok(())
    }
}
