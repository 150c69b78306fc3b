//! Environments, each one value of the core's, and all that was let into them.

use super::{Records, StoreError, Tx};
use ordotaxis_core::delivery::{End, Environment, Stay, Way};
use sqlx::types::Json;
use std::collections::HashMap;

/// An environment as it is stored.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct EnvironmentRow {
    pub id: i64,
    pub project_id: i64,
    pub name: String,
    /// JSON; see [`EnvironmentRow::machine`].
    pub state: String,
    pub made_at: i64,
    pub closed_at: Option<i64>,
    /// Why it could not be closed the last time.
    pub unclosed: Option<String>,
    pub unclosed_at: Option<i64>,
}

/// A preview that was not closed yet: an environment with what a proposal's run put there last.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct PreviewRow {
    #[sqlx(flatten)]
    pub environment: EnvironmentRow,
    pub run_id: i64,
    pub since: i64,
    pub proposal: String,
    /// `open`, `closed`, `landed`; none: nothing is known of it.
    pub proposal_state: Option<String>,
    /// A run that closes it goes on.
    pub closing: bool,
}

impl EnvironmentRow {
    /// What the core keeps of it.
    pub fn machine(&self) -> Result<Environment, StoreError> {
        parse(&self.state)
    }
}

/// What was let into an environment.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct DeploymentRow {
    pub id: i64,
    pub environment_id: i64,
    /// Counted from 1 in its environment.
    pub number: i64,
    pub run_id: i64,
    /// `tidegauge/41`
    pub run: String,
    pub job: i64,
    pub job_id: String,
    pub commit_id: String,
    pub reference: String,
    #[sqlx(json)]
    pub way: Way,
    /// None: a rule.
    pub started_by: Option<String>,
    /// JSON: digests.
    pub artifacts: String,
    /// JSON: approvals, as they counted.
    pub words: String,
    pub rules_commit: String,
    pub let_in_at: i64,
    pub ended_at: Option<i64>,
    /// `well`, `untouched`, `failed`, `lost`; none: it goes on.
    pub outcome: Option<String>,
    pub back: bool,
    pub why: Option<String>,
    pub answer: Option<String>,
    pub left_at: Option<i64>,
    pub trouble: Option<String>,
    pub confirmed_by: Option<String>,
    pub confirmed_at: Option<i64>,
    /// When its commit was made.
    pub committed_at: Option<i64>,
}

/// Of a deployment that has ended what its environment's figures are counted from.
#[derive(Debug, Clone, serde::Deserialize)]
pub struct PastRow {
    pub environment: String,
    pub commit_id: String,
    pub committed_at: Option<i64>,
    pub let_in_at: i64,
    pub ended_at: i64,
    pub way: Way,
    /// `well`, `failed`, `lost`
    pub outcome: String,
    pub back: bool,
    pub left_at: Option<i64>,
    /// It was rolled back later.
    pub trouble: bool,
}

#[derive(sqlx::FromRow)]
struct NamedDeployment {
    name: String,
    #[sqlx(flatten)]
    row: DeploymentRow,
}

/// One that is let in now.
#[derive(Debug, Clone)]
pub struct NewDeployment {
    pub run_id: i64,
    pub run: String,
    pub job: i64,
    pub job_id: String,
    pub commit_id: String,
    pub reference: String,
    pub way: Way,
    pub started_by: Option<String>,
    pub artifacts: Vec<String>,
    pub words: String,
    pub rules_commit: String,
}

/// Of what is in an environment, and of so many less one before it, artifacts are never swept.
const KEPT: i64 = 6;

const ENVIRONMENT: &str = "SELECT id, project_id, name, state, made_at, closed_at, unclosed, unclosed_at FROM environments";

fn parse(text: &str) -> Result<Environment, StoreError> {
    serde_json::from_str(text).map_err(|_| StoreError::Value("environments.state"))
}

impl Records {
    /// The environments of a project, by name.
    pub async fn environments(&self, project_id: i64) -> Result<Vec<EnvironmentRow>, StoreError> {
        let sql = format!("{ENVIRONMENT} WHERE project_id = ? ORDER BY name");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project_id).fetch_all(&self.reads).await?)
    }

    /// One environment of a project.
    pub async fn environment(&self, project_id: i64, name: &str) -> Result<Option<EnvironmentRow>, StoreError> {
        let sql = format!("{ENVIRONMENT} WHERE project_id = ? AND name = ?");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project_id).bind(name).fetch_optional(&self.reads).await?)
    }

    /// What the core keeps of an environment; of one that is not there what it would be made with.
    pub async fn environment_state(&self, project_id: i64, name: &str) -> Result<Environment, StoreError> {
        let row = self.environment(project_id, name).await?;
        Ok(row.as_ref().map(EnvironmentRow::machine).transpose()?.unwrap_or_default())
    }

    /// Environments in which something waits or goes on, project by project.
    pub async fn busy_environments(&self) -> Result<Vec<EnvironmentRow>, StoreError> {
        let sql = format!("{ENVIRONMENT} WHERE state ->> '$.waiting' <> '[]' OR state ->> '$.inside' IS NOT NULL ORDER BY project_id, id");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).fetch_all(&self.reads).await?)
    }

    /// Environments in which something waits, or went past the rules and waits for someone to confirm it.
    pub async fn asking_environments(&self) -> Result<Vec<EnvironmentRow>, StoreError> {
        let sql = format!("{ENVIRONMENT} WHERE state ->> '$.waiting' <> '[]' OR state ->> '$.emergencies' <> '[]' ORDER BY id");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).fetch_all(&self.reads).await?)
    }

    /// Environments that proposals' runs put something into and that were not closed since, project by project; each
    /// with the run of its newest deployment.
    pub async fn previews(&self) -> Result<Vec<PreviewRow>, StoreError> {
        let sql = "SELECT environments.*, last.run_id, last.let_in_at AS since, runs.proposal, proposals.state AS proposal_state,
                     EXISTS (SELECT 1 FROM runs AS closing WHERE closing.project_id = environments.project_id
                       AND closing.environment = environments.name AND closing.event = 'closing' AND closing.ended_at IS NULL) AS closing
                   FROM environments JOIN deployments AS last ON last.id = (SELECT max(id) FROM deployments
                     WHERE environment_id = environments.id AND way ->> '$.way' <> 'close' AND coalesce(outcome, '') <> 'untouched')
                   JOIN runs ON runs.id = last.run_id
                   LEFT JOIN proposals ON proposals.project_id = environments.project_id AND proposals.number = runs.proposal
                   WHERE closed_at IS NULL AND runs.proposal IS NOT NULL ORDER BY environments.project_id, environments.id";
        Ok(sqlx::query_as(sql).fetch_all(&self.reads).await?)
    }

    /// The previews of a proposal that are open: their names, and the commit that each holds.
    pub async fn previews_of(&self, project_id: i64, proposal: &str) -> Result<Vec<(String, String)>, StoreError> {
        let sql = "SELECT environments.name, deployments.commit_id FROM environments JOIN deployments ON environment_id = environments.id
                   JOIN runs ON runs.id = run_id WHERE environments.project_id = ? AND runs.proposal = ? AND outcome = 'well' AND left_at IS NULL
                   ORDER BY environments.name";
        Ok(sqlx::query_as(sql).bind(project_id).bind(proposal).fetch_all(&self.reads).await?)
    }

    /// When time alone changes something in an environment next.
    pub async fn next_environment_wakes(&self) -> Result<Option<i64>, StoreError> {
        Ok(sqlx::query_scalar("SELECT min(wakes_at) FROM environments WHERE wakes_at IS NOT NULL").fetch_one(&self.reads).await?)
    }

    /// The deployments of an environment before one, the newest first; `before` none: from the newest on.
    pub async fn deployments(&self, environment_id: i64, before: Option<i64>, limit: i64) -> Result<Vec<DeploymentRow>, StoreError> {
        let sql = "SELECT * FROM deployments WHERE environment_id = ? AND number < coalesce(?, number + 1) ORDER BY number DESC LIMIT ?";
        Ok(sqlx::query_as(sql).bind(environment_id).bind(before).bind(limit).fetch_all(&self.reads).await?)
    }

    /// The environments of a project by name, or the one of this name, each with what was last put there well: all as they
    /// were at one moment.
    pub async fn held(&self, project_id: i64, name: Option<&str>) -> Result<Vec<(EnvironmentRow, Option<DeploymentRow>)>, StoreError> {
        let mut moment = self.reads.begin().await?;
        let sql = format!("{ENVIRONMENT} WHERE project_id = ?1 AND name = coalesce(?2, name) ORDER BY name");
        let rows: Vec<EnvironmentRow> =
            sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project_id).bind(name).fetch_all(&mut *moment).await?;
        let sql = "SELECT deployments.* FROM environments CROSS JOIN deployments ON environment_id = environments.id
                   WHERE project_id = ?1 AND name = coalesce(?2, name) AND outcome = 'well' AND left_at IS NULL";
        let there: Vec<DeploymentRow> = sqlx::query_as(sql).bind(project_id).bind(name).fetch_all(&mut *moment).await?;
        let mut there: HashMap<i64, DeploymentRow> = there.into_iter().map(|row| (row.environment_id, row)).collect();
        let with = |row: EnvironmentRow| {
            let present = there.remove(&row.id);
            (row, present)
        };
        Ok(rows.into_iter().map(with).collect())
    }

    /// What was let into environments of a project with one of these digests in it, the oldest first; each with its environment.
    pub async fn deployments_with(&self, project_id: i64, digests: &[String]) -> Result<Vec<(String, DeploymentRow)>, StoreError> {
        let sql = "SELECT DISTINCT environments.name, deployments.* FROM json_each(?1) AS wanted
                   CROSS JOIN deployed ON deployed.digest = wanted.value JOIN deployments ON deployments.id = deployment_id
                   JOIN environments ON environments.id = environment_id WHERE project_id = ?2 ORDER BY let_in_at, deployments.id";
        let rows: Vec<NamedDeployment> =
            sqlx::query_as(sql).bind(super::error::json(digests)?).bind(project_id).fetch_all(&self.reads).await?;
        Ok(rows.into_iter().map(|row| (row.name, row.row)).collect())
    }

    /// The newest deployment of an environment that a job of a run put there well.
    pub async fn deployment_of(&self, environment_id: i64, (run, job): (i64, usize)) -> Result<Option<DeploymentRow>, StoreError> {
        let sql = "SELECT * FROM deployments WHERE environment_id = ? AND run_id = ? AND job = ? AND outcome = 'well'
                   AND way ->> '$.way' <> 'undo' ORDER BY number DESC LIMIT 1";
        let query = sqlx::query_as(sql).bind(environment_id).bind(run).bind(i64::try_from(job).unwrap_or(i64::MAX));
        Ok(query.fetch_optional(&self.reads).await?)
    }

    /// One deployment of an environment.
    pub async fn deployment(&self, environment_id: i64, number: i64) -> Result<Option<DeploymentRow>, StoreError> {
        let sql = "SELECT * FROM deployments WHERE environment_id = ? AND number = ?";
        Ok(sqlx::query_as(sql).bind(environment_id).bind(number).fetch_optional(&self.reads).await?)
    }

    /// What was put well into an environment, the newest first.
    pub async fn well_deployments(&self, environment_id: i64, limit: i64) -> Result<Vec<DeploymentRow>, StoreError> {
        let sql = "SELECT * FROM deployments WHERE environment_id = ? AND outcome = 'well' ORDER BY number DESC LIMIT ?";
        Ok(sqlx::query_as(sql).bind(environment_id).bind(limit).fetch_all(&self.reads).await?)
    }

    /// What was put into a project's environments, by their names, since a moment and has ended, in the order in which it was
    /// let in; what touched nothing, and what was taken away, left out.
    pub async fn ended_deployments(&self, project_id: i64, since: i64) -> Result<Vec<PastRow>, StoreError> {
        // One text: rows one by one through the driver take ten times as long.
        let sql = "SELECT json_group_array(json_array(name, commit_id, committed_at, let_in_at, ended_at, json(way), outcome,
                     json(iif(back, 'true', 'false')), left_at, json(iif(trouble IS NULL, 'false', 'true'))))
                   FROM (SELECT environments.name, commit_id, committed_at, let_in_at, ended_at, way, outcome, back, left_at, trouble
                     FROM environments CROSS JOIN deployments INDEXED BY deployments_ended ON environment_id = environments.id AND ended_at >= ?2
                     WHERE project_id = ?1 AND outcome <> 'untouched' AND way ->> '$.way' <> 'close' AND closed_at IS NULL
                     ORDER BY environments.name, number)";
        let text: String = sqlx::query_scalar(sql).bind(project_id).bind(since).fetch_one(&self.reads).await?;
        serde_json::from_str(&text).map_err(|_| StoreError::Value("deployments"))
    }

    /// Who lets a job into its environment past the rules, and why.
    pub async fn emergency(&self, run_id: i64, job: usize) -> Result<Option<(String, String)>, StoreError> {
        let sql = "SELECT by, reason FROM emergencies WHERE run_id = ? AND job = ?";
        Ok(sqlx::query_as(sql).bind(run_id).bind(i64::try_from(job).unwrap_or(i64::MAX)).fetch_optional(&self.reads).await?)
    }

    /// The earlier run whose deployment an attempt puts back; none for all other attempts.
    pub async fn goes_back_to(&self, run_id: i64, job: i64, attempt: u32) -> Result<Option<i64>, StoreError> {
        let sql = "SELECT from_run FROM going_back WHERE run_id = ? AND job = ? AND attempt = ?";
        Ok(sqlx::query_scalar(sql).bind(run_id).bind(job).bind(attempt).fetch_optional(&self.reads).await?)
    }

    /// For how long something, by its digest, was well in an environment, the oldest first.
    pub async fn stays(&self, project_id: i64, environment: &str, digest: &str) -> Result<Vec<Stay>, StoreError> {
        let sql = "SELECT ended_at, left_at, trouble FROM deployed
                   JOIN deployments ON deployments.id = deployment_id JOIN environments ON environments.id = environment_id
                   WHERE digest = ? AND project_id = ? AND name = ? AND outcome = 'well' AND ended_at IS NOT NULL ORDER BY number";
        let rows: Vec<(i64, Option<i64>, Option<String>)> =
            sqlx::query_as(sql).bind(digest).bind(project_id).bind(environment).fetch_all(&self.reads).await?;
        Ok(rows.into_iter().map(|(since, until, trouble)| Stay { since, until, trouble }).collect())
    }
}

impl Tx {
    /// The environments of a project, as they are within this change.
    pub async fn environments(&mut self, project_id: i64) -> Result<Vec<EnvironmentRow>, StoreError> {
        let sql = format!("{ENVIRONMENT} WHERE project_id = ? ORDER BY name");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project_id).fetch_all(&mut *self.on).await?)
    }

    /// An environment as it is within this change; it is made where it is not there.
    pub async fn environment(&mut self, project_id: i64, name: &str) -> Result<EnvironmentRow, StoreError> {
        let new = serde_json::to_string(&Environment::default()).map_err(|_| StoreError::Value("environments.state"))?;
        let sql = "INSERT INTO environments (project_id, name, state, made_at) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING";
        sqlx::query(sql).bind(project_id).bind(name).bind(new).bind(self.now).execute(&mut *self.on).await?;
        let sql = format!("{ENVIRONMENT} WHERE project_id = ? AND name = ?");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project_id).bind(name).fetch_one(&mut *self.on).await?)
    }

    /// Keeps what the core says of an environment, and when time alone will change it.
    pub async fn set_environment(&mut self, id: i64, state: &Environment) -> Result<(), StoreError> {
        let text = serde_json::to_string(state).map_err(|_| StoreError::Value("environments.state"))?;
        let sql = "UPDATE environments SET state = ?, wakes_at = ? WHERE id = ?";
        sqlx::query(sql).bind(text).bind(state.wakes()).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// A job is let in. Told again, while that deployment goes on, it changes nothing.
    pub async fn let_in(&mut self, environment_id: i64, new: &NewDeployment) -> Result<(), StoreError> {
        let sql = "INSERT INTO deployments (environment_id, number, run_id, run, job, job_id, commit_id, reference, way, started_by,
                     artifacts, words, rules_commit, let_in_at, committed_at)
                   SELECT ?1, 1 + coalesce((SELECT max(number) FROM deployments WHERE environment_id = ?1), 0),
                     ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13,
                     coalesce((SELECT commit_time * 1000 FROM runs WHERE id = ?2 AND commit_id = ?6),
                       (SELECT max(committed_at) FROM deployments WHERE environment_id = ?1 AND commit_id = ?6))
                   WHERE NOT EXISTS (SELECT 1 FROM deployments WHERE environment_id = ?1 AND run_id = ?2 AND job = ?4 AND ended_at IS NULL)
                   RETURNING id";
        let artifacts = super::error::json(&new.artifacts)?;
        let query = sqlx::query_scalar(sql).bind(environment_id).bind(new.run_id).bind(&new.run).bind(new.job).bind(&new.job_id);
        let query = query.bind(&new.commit_id).bind(&new.reference).bind(Json(&new.way)).bind(&new.started_by).bind(&artifacts);
        let made: Option<i64> = query.bind(&new.words).bind(&new.rules_commit).bind(self.now).fetch_optional(&mut *self.on).await?;
        // What takes something away puts nothing there.
        if let Some(id) = made.filter(|_| new.way != Way::Close) {
            let sql = "UPDATE environments SET closed_at = NULL, unclosed = NULL WHERE id = ?";
            sqlx::query(sql).bind(environment_id).execute(&mut *self.on).await?;
            let sql = "INSERT INTO deployed (digest, deployment_id) SELECT value, ? FROM json_each(?)";
            sqlx::query(sql).bind(id).bind(artifacts).execute(&mut *self.on).await?;
        }
        Ok(())
    }

    /// A deployment has ended. What was put there well takes the place of what was there before; a roll-back says that
    /// something was wrong with that. Told again it changes nothing.
    /// `answer`: what its check got. Gives its number; none where it ended before.
    pub async fn deployment_ended(
        &mut self,
        environment_id: i64,
        job: (i64, usize),
        end: &End,
        answer: Option<&str>,
        at: i64,
    ) -> Result<Option<i64>, StoreError> {
        let (outcome, why, back) = match end {
            End::Well => ("well", None, false),
            End::Untouched => ("untouched", None, false),
            End::Failed { why, back } => ("failed", Some(why), *back),
            End::Lost { why } => ("lost", Some(why), false),
        };
        let sql = "UPDATE deployments SET ended_at = ?, outcome = ?, why = ?, back = ?, answer = ?
                   WHERE environment_id = ? AND run_id = ? AND job = ? AND ended_at IS NULL RETURNING number, way";
        let query = sqlx::query_as(sql).bind(at).bind(outcome).bind(why).bind(back).bind(answer).bind(environment_id).bind(job.0);
        let job = i64::try_from(job.1).unwrap_or(i64::MAX);
        let ended: Option<(i64, Json<Way>)> = query.bind(job).fetch_optional(&mut *self.on).await?;
        let told = ended.as_ref().map(|(number, _)| *number);
        let Some((number, Json(way))) = ended.filter(|_| *end == End::Well) else { return Ok(told) };
        if way == Way::Close {
            let sql = "UPDATE environments SET closed_at = ?, unclosed = NULL, unclosed_at = NULL WHERE id = ?";
            sqlx::query(sql).bind(at).bind(environment_id).execute(&mut *self.on).await?;
            let sql = "UPDATE deployments SET left_at = coalesce(left_at, ?), kept = 0 WHERE environment_id = ? AND outcome = 'well'";
            sqlx::query(sql).bind(at).bind(environment_id).execute(&mut *self.on).await?;
            return Ok(told);
        }
        let sql = "UPDATE deployments SET kept = number IN (SELECT number FROM deployments WHERE environment_id = ?1 AND outcome = 'well'
                     ORDER BY number DESC LIMIT ?2) WHERE environment_id = ?1 AND (kept OR number = ?3)";
        sqlx::query(sql).bind(environment_id).bind(KEPT).bind(number).execute(&mut *self.on).await?;
        let trouble = way.goes_back().then_some("it was rolled back");
        let sql = "UPDATE deployments SET left_at = ?1, trouble = coalesce(trouble, ?2)
                   WHERE environment_id = ?3 AND number < ?4 AND outcome = 'well' AND left_at IS NULL";
        sqlx::query(sql).bind(at).bind(trouble).bind(environment_id).bind(number).execute(&mut *self.on).await?;
        Ok(told)
    }

    /// Says why a preview could not be closed; with none that it is being closed.
    pub async fn set_unclosed(&mut self, environment_id: i64, why: Option<&str>) -> Result<(), StoreError> {
        let sql = "UPDATE environments SET unclosed = ?, unclosed_at = ? WHERE id = ?";
        sqlx::query(sql).bind(why).bind(self.now).bind(environment_id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// The proposal of a run; none for one of no proposal.
    pub async fn proposal_of_run(&mut self, run_id: i64) -> Result<Option<String>, StoreError> {
        let found: Option<Option<String>> =
            sqlx::query_scalar("SELECT proposal FROM runs WHERE id = ?").bind(run_id).fetch_optional(&mut *self.on).await?;
        Ok(found.flatten())
    }

    /// Someone lets a job into its environment past the rules.
    pub async fn set_emergency(&mut self, run_id: i64, job: usize, by: &str, reason: &str) -> Result<(), StoreError> {
        let sql = "INSERT INTO emergencies (run_id, job, by, reason, at) VALUES (?, ?, ?, ?, ?)
                   ON CONFLICT (run_id, job) DO UPDATE SET by = excluded.by, reason = excluded.reason, at = excluded.at";
        let query = sqlx::query(sql).bind(run_id).bind(i64::try_from(job).unwrap_or(i64::MAX)).bind(by).bind(reason);
        query.bind(self.now).execute(&mut *self.on).await?;
        Ok(())
    }

    /// The job was let in, or has ended: asked for again, it goes by the rules.
    pub async fn emergency_over(&mut self, job: (i64, usize)) -> Result<(), StoreError> {
        let query = sqlx::query("DELETE FROM emergencies WHERE run_id = ? AND job = ?").bind(job.0);
        query.bind(i64::try_from(job.1).unwrap_or(i64::MAX)).execute(&mut *self.on).await?;
        Ok(())
    }

    /// An attempt puts back what an earlier run put there: it may have that run's files.
    pub async fn set_going_back(&mut self, run_id: i64, job: i64, attempt: u32, from_run: i64) -> Result<(), StoreError> {
        let sql = "INSERT OR REPLACE INTO going_back (run_id, job, attempt, from_run) VALUES (?, ?, ?, ?)";
        sqlx::query(sql).bind(run_id).bind(job).bind(attempt).bind(from_run).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Someone else confirmed an emergency.
    pub async fn deployment_confirmed(&mut self, environment_id: i64, job: (i64, usize), by: &str) -> Result<(), StoreError> {
        let sql = "UPDATE deployments SET confirmed_by = ?, confirmed_at = ?
                   WHERE environment_id = ? AND run_id = ? AND job = ? AND way ->> '$.way' = 'emergency' AND confirmed_by IS NULL";
        let query = sqlx::query(sql).bind(by).bind(self.now).bind(environment_id).bind(job.0);
        query.bind(i64::try_from(job.1).unwrap_or(i64::MAX)).execute(&mut *self.on).await?;
        Ok(())
    }
}
