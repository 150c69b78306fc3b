//! Runs as they are begun, restored and looked at.

use super::error::json;
use super::job_row::JobRow;
use super::step::AttemptRow;
use super::{Records, StoreError, Tx};
use ordotaxis_core::engine::State;
use ordotaxis_core::plan::Plan;
use std::collections::HashMap;

/// A run that is about to be written down. With a plan it begins; without one it is a verdict at once.
#[derive(Debug, Clone)]
pub struct NewRunRow<'a> {
    pub project_id: i64,
    pub pipeline: &'a str,
    pub title: Option<&'a str>,
    pub state: State,
    pub why: Option<&'a str>,
    pub commit_id: &'a str,
    pub commit_title: &'a str,
    pub commit_author: &'a str,
    pub commit_time: i64,
    pub branch: Option<&'a str>,
    pub tag: Option<&'a str>,
    pub target: Option<&'a str>,
    /// What the forge calls the proposal.
    pub proposal: Option<&'a str>,
    /// Of the landing queue of its target.
    pub trial: Option<i64>,
    /// JSON: the commits that were merged for a proposal.
    pub merged: Option<&'a str>,
    pub event: &'a str,
    pub started_by: Option<&'a str>,
    pub plan: Option<&'a Plan>,
    /// JSON list
    pub diagnostics: Option<&'a str>,
    /// JSON: job → test file → milliseconds, for jobs with a `split`.
    pub shared: Option<&'a str>,
    /// JSON: globs → path → digest, for jobs with `reuse`.
    pub inputs: Option<&'a str>,
    /// It waits for someone to allow it.
    pub held: bool,
    /// The occasion to read once more, where this run only says that its commit could not be read.
    pub unread: Option<i64>,
    /// A newer commit was looked at first: the run that makes this one pointless, or nothing.
    pub behind: Option<&'a str>,
}

/// How a run is spoken of, and its number in the database.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RunKey {
    pub id: i64,
    pub number: i64,
}

/// A run as lists and headings show it.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct RunRow {
    pub id: i64,
    pub project: String,
    pub number: i64,
    pub pipeline: String,
    pub title: Option<String>,
    pub state: String,
    pub why: Option<String>,
    pub commit_id: String,
    pub commit_title: String,
    pub commit_author: String,
    pub branch: Option<String>,
    pub tag: Option<String>,
    pub target: Option<String>,
    /// What the forge calls the proposal.
    pub proposal: Option<String>,
    /// JSON: the commits that were merged for a proposal.
    pub merged: Option<String>,
    pub event: String,
    pub started_by: Option<String>,
    pub diagnostics: Option<String>,
    pub again_of: Option<i64>,
    pub created_at: i64,
    pub started_at: Option<i64>,
    pub ended_at: Option<i64>,
    /// How long, between start and end, it had ended already, before someone brought it back.
    pub rest_ms: i64,
    /// It waits for someone to allow it.
    pub held: bool,
    pub allowed_by: Option<String>,
    /// The occasion to read once more, where this run only says that its commit could not be read.
    pub unread: Option<i64>,
    /// The run, `PROJECT/NUMBER`, whose jobs it does once more with what that made, and the environment that it does them for.
    pub from_run: Option<String>,
    pub environment: Option<String>,
}

impl RunRow {
    /// The commit that verdicts go to: the run's own, or what a proposal offers.
    pub fn told_on(&self) -> String {
        let merged: Option<serde_json::Value> = self.merged.as_deref().and_then(|text| serde_json::from_str(text).ok());
        let head = merged.and_then(|merged| Some(merged.get("head")?.as_str()?.to_owned()));
        head.unwrap_or_else(|| self.commit_id.clone())
    }
}

const RUN: &str = "SELECT runs.*, projects.name AS project FROM runs JOIN projects ON projects.id = runs.project_id";

/// A run that has not ended, with all that the engine and the runner protocol need to go on with it.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct StoredRun {
    pub id: i64,
    pub number: i64,
    pub project_id: i64,
    pub state: String,
    pub commit_id: String,
    pub commit_time: i64,
    pub branch: Option<String>,
    pub merged: Option<String>,
    pub started_at: Option<i64>,
    pub ended_at: Option<i64>,
    pub rest_ms: i64,
    pub plan: String,
    pub again_of: Option<i64>,
    pub shared: Option<String>,
    pub inputs: Option<String>,
    /// A newer commit was looked at first: the run that makes this one pointless, or nothing.
    pub behind: Option<String>,
    /// It is a landing queue's trial, or its commit was tried by one.
    pub tried: bool,
}

const STORED: &str = "SELECT id, number, project_id, state, commit_id, commit_time, branch, merged, started_at, ended_at,
  rest_ms, plan, again_of, shared, inputs, behind,
  EXISTS (SELECT 1 FROM runs AS trial WHERE trial.project_id = runs.project_id AND trial.trial IS NOT NULL
    AND trial.pipeline = runs.pipeline AND trial.commit_id = runs.commit_id) AS tried FROM runs";

/// A run that was set aside: what the report to its commit needs.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct SetAside {
    pub project_id: i64,
    pub project: String,
    pub number: i64,
    pub pipeline: String,
    pub branch: Option<String>,
    pub started_at: Option<i64>,
    pub told_on: String,
}

/// All rows of a run as one list; each row is a list in the order of [`JobRow`]'s fields.
const JOBS: &str = "SELECT json_group_array(json_array(run_id, number, state, why, attempt, retries, not_before, runner, since,
                      started_at, ended_at, stop_asked, overtaken_by, started_by, inputs, json(iif(fresh, 'true', 'false')), facts,
                      numbers, reused_from, json(iif(unwanted, 'true', 'false')), work, not_reused, holds, back))
                    FROM (SELECT * FROM jobs WHERE run_id = ? ORDER BY number)";

/// The same of [`AttemptRow`].
const ATTEMPTS: &str = "SELECT json_group_array(json_array(run_id, job, number, runner, session, slot, state, why, exit_code, started_at,
                          queued_at, ended_at, phases, caches, job_id))
                        FROM (SELECT * FROM attempts WHERE run_id = ? ORDER BY job, number)";

impl Records {
    /// Whether an attempt is this runner's and has ended.
    pub async fn ended_attempt(&self, run_id: i64, job: i64, number: u32, runner: &str) -> Result<bool, StoreError> {
        let sql =
            "SELECT EXISTS (SELECT 1 FROM attempts WHERE run_id = ? AND job = ? AND number = ? AND runner = ? AND ended_at IS NOT NULL)";
        Ok(sqlx::query_scalar(sql).bind(run_id).bind(job).bind(number).bind(runner).fetch_one(&self.reads).await?)
    }

    /// Every run that has not ended, oldest first.
    pub async fn open_runs(&self) -> Result<Vec<StoredRun>, StoreError> {
        let sql = format!("{STORED} WHERE ended_at IS NULL AND plan IS NOT NULL AND NOT held ORDER BY id");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).fetch_all(&self.reads).await?)
    }

    /// A run whether it has ended or not, with all that is needed to go on with it. None where it was never planned.
    pub async fn stored_run(&self, id: i64) -> Result<Option<StoredRun>, StoreError> {
        let sql = format!("{STORED} WHERE id = ? AND plan IS NOT NULL");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(id).fetch_optional(&self.reads).await?)
    }

    /// Runs of a project that wait for someone to allow them, with their plans.
    pub async fn held_runs(&self, project_id: i64) -> Result<Vec<StoredRun>, StoreError> {
        let sql = format!("{STORED} WHERE project_id = ? AND held AND ended_at IS NULL AND plan IS NOT NULL");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project_id).fetch_all(&self.reads).await?)
    }

    /// Projects that have runs which wait for someone to allow them.
    pub async fn holding_projects(&self) -> Result<Vec<i64>, StoreError> {
        let sql = "SELECT DISTINCT project_id FROM runs WHERE held AND ended_at IS NULL AND plan IS NOT NULL";
        Ok(sqlx::query_scalar(sql).fetch_all(&self.reads).await?)
    }

    /// The numbers of all runs of a project.
    pub async fn runs_of(&self, project_id: i64) -> Result<Vec<i64>, StoreError> {
        Ok(sqlx::query_scalar("SELECT id FROM runs WHERE project_id = ?").bind(project_id).fetch_all(&self.reads).await?)
    }

    /// A run by project and number; none when there is no such run.
    pub async fn run(&self, project: &str, number: i64) -> Result<Option<RunRow>, StoreError> {
        let sql = format!("{RUN} WHERE projects.name = ? AND runs.number = ?");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project).bind(number).fetch_optional(&self.reads).await?)
    }

    /// The newest run of a project, or of one pipeline of it.
    pub async fn newest_run(&self, project: &str, pipeline: Option<&str>) -> Result<Option<RunRow>, StoreError> {
        let sql = format!("{RUN} WHERE projects.name = ?1 AND (?2 IS NULL OR runs.pipeline = ?2) ORDER BY runs.id DESC LIMIT 1");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project).bind(pipeline).fetch_optional(&self.reads).await?)
    }

    /// Runs with an id below `before`, newest first: of one project and one pipeline where these are named, and none of projects
    /// that are `hidden`.
    pub async fn runs(
        &self,
        project: Option<&str>,
        pipeline: Option<&str>,
        hidden: &[i64],
        before: i64,
        limit: i64,
    ) -> Result<Vec<RunRow>, StoreError> {
        let hidden = serde_json::to_string(hidden).map_err(|_| StoreError::Value("project ids"))?;
        let sql = format!(
            "{RUN} WHERE (?1 IS NULL OR projects.name = ?1) AND (?5 IS NULL OR runs.pipeline = ?5) AND runs.id < ?2
             AND runs.project_id NOT IN (SELECT value FROM json_each(?4)) ORDER BY runs.id DESC LIMIT ?3"
        );
        let query = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project).bind(before).bind(limit).bind(hidden).bind(pipeline);
        Ok(query.fetch_all(&self.reads).await?)
    }

    /// Runs of these proposals of a project, newest first.
    pub async fn runs_of_proposals(&self, project_id: i64, numbers: &[&str], limit: i64) -> Result<Vec<RunRow>, StoreError> {
        let sql =
            format!("{RUN} WHERE runs.project_id = ? AND runs.proposal IN (SELECT value FROM json_each(?)) ORDER BY runs.id DESC LIMIT ?");
        let query = sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(project_id).bind(json(numbers)?).bind(limit);
        Ok(query.fetch_all(&self.reads).await?)
    }

    /// The newest run before another of a pipeline's pushes to a branch that has a plan.
    pub async fn planned_before(&self, project_id: i64, pipeline: &str, branch: &str, before: i64) -> Result<Option<i64>, StoreError> {
        let sql = "SELECT id FROM runs WHERE project_id = ? AND pipeline = ? AND branch = ? AND id < ? AND plan IS NOT NULL AND event <> 'proposal'
                   ORDER BY id DESC LIMIT 1";
        let query = sqlx::query_scalar(sql).bind(project_id).bind(pipeline).bind(branch).bind(before);
        Ok(query.fetch_optional(&self.reads).await?)
    }

    /// The runs of a pipeline's pushes to a branch before another that have a plan and have ended, newest first: (id, number).
    pub async fn ended_before(
        &self,
        project_id: i64,
        pipeline: &str,
        branch: &str,
        before: i64,
        limit: i64,
    ) -> Result<Vec<(i64, i64)>, StoreError> {
        let sql = "SELECT id, number FROM runs WHERE project_id = ? AND pipeline = ? AND branch = ? AND id < ?
                     AND plan IS NOT NULL AND ended_at IS NOT NULL AND event <> 'proposal' ORDER BY id DESC LIMIT ?";
        let query = sqlx::query_as(sql).bind(project_id).bind(pipeline).bind(branch).bind(before).bind(limit);
        Ok(query.fetch_all(&self.reads).await?)
    }

    /// The plan of a run as JSON; none when its file had mistakes.
    pub async fn run_plan(&self, id: i64) -> Result<Option<Plan>, StoreError> {
        let text: Option<String> = sqlx::query_scalar("SELECT plan FROM runs WHERE id = ?").bind(id).fetch_one(&self.reads).await?;
        text.map(|text| serde_json::from_str(&text).map_err(|_| StoreError::Value("runs.plan"))).transpose()
    }

    /// The jobs of a run, in the order of its plan. One row of JSON: a run may have many thousands, and each row that the
    /// driver hands over by itself costs several times its text.
    pub async fn jobs(&self, run_id: i64) -> Result<Vec<JobRow>, StoreError> {
        let list: String = sqlx::query_scalar(JOBS).bind(run_id).fetch_one(&self.reads).await?;
        serde_json::from_str(&list).map_err(|_| StoreError::Value("jobs"))
    }

    /// One job of a run: the number of its newest attempt, and its state.
    pub async fn job_state(&self, run_id: i64, number: i64) -> Result<Option<(u32, String)>, StoreError> {
        let sql = "SELECT attempt, state FROM jobs WHERE run_id = ? AND number = ?";
        Ok(sqlx::query_as(sql).bind(run_id).bind(number).fetch_optional(&self.reads).await?)
    }

    /// All attempts of a run, the oldest of each job first; read as [`Records::jobs`] are.
    pub async fn attempts(&self, run_id: i64) -> Result<Vec<AttemptRow>, StoreError> {
        let list: String = sqlx::query_scalar(ATTEMPTS).bind(run_id).fetch_one(&self.reads).await?;
        serde_json::from_str(&list).map_err(|_| StoreError::Value("attempts"))
    }

    /// How many jobs of each run are in which state, for runs given by id.
    pub async fn state_counts(&self, runs: &[i64]) -> Result<Vec<(i64, String, i64)>, StoreError> {
        let list = serde_json::to_string(runs).map_err(|_| StoreError::Value("run ids"))?;
        let sql = "SELECT run_id, state, count(*) FROM jobs WHERE run_id IN (SELECT value FROM json_each(?)) GROUP BY run_id, state";
        Ok(sqlx::query_as(sql).bind(list).fetch_all(&self.reads).await?)
    }

    /// For each of these runs the job that failed first, or was lost; runs without one are left out.
    pub async fn first_failed(&self, runs: &[i64]) -> Result<HashMap<i64, JobRow>, StoreError> {
        let sql = "SELECT jobs.* FROM json_each(?) AS wanted JOIN jobs ON jobs.run_id = wanted.value AND jobs.number = (
                     SELECT number FROM jobs AS one WHERE one.run_id = wanted.value AND one.state IN ('failed', 'lost')
                     ORDER BY one.ended_at, one.number LIMIT 1)";
        let rows: Vec<JobRow> = sqlx::query_as(sql).bind(json(runs)?).fetch_all(&self.reads).await?;
        Ok(rows.into_iter().map(|row| (row.run_id, row)).collect())
    }

    /// For each of these runs the durations, in milliseconds, of the last passed runs of its pipeline before it that did
    /// something: what took all over from another says nothing.
    pub async fn passed_durations(&self, runs: &[i64]) -> Result<HashMap<i64, Vec<i64>>, StoreError> {
        let sql = "SELECT runs.id, past.ended_at - past.started_at - past.rest_ms FROM runs JOIN runs AS past ON past.id IN (
                     SELECT id FROM runs AS one WHERE one.project_id = runs.project_id AND one.pipeline = runs.pipeline
                     AND one.state = 'passed' AND one.id < runs.id AND one.started_at IS NOT NULL
                     AND (NOT EXISTS (SELECT 1 FROM jobs WHERE jobs.run_id = one.id AND jobs.state = 'reused')
                       OR EXISTS (SELECT 1 FROM jobs WHERE jobs.run_id = one.id AND jobs.state = 'passed'))
                     ORDER BY one.id DESC LIMIT 15)
                   WHERE runs.id IN (SELECT value FROM json_each(?))";
        let rows: Vec<(i64, i64)> = sqlx::query_as(sql).bind(json(runs)?).fetch_all(&self.reads).await?;
        let mut durations: HashMap<i64, Vec<i64>> = HashMap::new();
        rows.into_iter().for_each(|(run, ms)| durations.entry(run).or_default().push(ms));
        Ok(durations)
    }

    /// These runs, in the order in which they began. Those that do not exist are left out.
    pub async fn runs_by_id(&self, ids: &[i64]) -> Result<Vec<RunRow>, StoreError> {
        let sql = format!("{RUN} WHERE runs.id IN (SELECT value FROM json_each(?)) ORDER BY runs.id");
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(json(ids)?).fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// Writes a run down with its jobs and gives it its number. None when the same commit and pipeline have a run already
    /// and nobody asked for another by hand.
    pub async fn begin_run(&mut self, run: &NewRunRow<'_>) -> Result<Option<RunKey>, StoreError> {
        let now = self.now;
        if run.unread.is_some() && self.is_known_unread(run).await? {
            return Ok(None);
        }
        let number: i64 =
            sqlx::query_scalar("SELECT next_number FROM projects WHERE id = ?").bind(run.project_id).fetch_one(&mut *self.on).await?;
        let plan = run.plan.map(serde_json::to_string).transpose().map_err(|_| StoreError::Value("runs.plan"))?;
        let ended = run.state.is_end().then_some(now);
        let sql = "INSERT INTO runs (id, project_id, number, pipeline, title, state, why, commit_id, commit_title, commit_author, commit_time,
                     branch, tag, target, merged, event, started_by, plan, diagnostics, created_at, started_at, ended_at, shared, inputs, held,
                     unread, behind, proposal, trial)
                   VALUES ((SELECT last + 1 FROM ids WHERE of = 'runs'),
                     ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING RETURNING id";
        let id: Option<i64> = sqlx::query_scalar(sql)
            .bind(run.project_id)
            .bind(number)
            .bind(run.pipeline)
            .bind(run.title)
            .bind(run.state.word())
            .bind(run.why)
            .bind(run.commit_id)
            .bind(run.commit_title)
            .bind(run.commit_author)
            .bind(run.commit_time)
            .bind(run.branch)
            .bind(run.tag)
            .bind(run.target)
            .bind(run.merged)
            .bind(run.event)
            .bind(run.started_by)
            .bind(plan)
            .bind(run.diagnostics)
            .bind(now)
            .bind(ended)
            .bind(ended)
            .bind(run.shared)
            .bind(run.inputs)
            .bind(run.held)
            .bind(run.unread)
            .bind(run.behind)
            .bind(run.proposal)
            .bind(run.trial)
            .fetch_optional(&mut *self.on)
            .await?;
        let Some(id) = id else { return Ok(None) };
        sqlx::query("UPDATE projects SET next_number = next_number + 1 WHERE id = ?").bind(run.project_id).execute(&mut *self.on).await?;
        if let Some(plan) = run.plan {
            let fresh = ordotaxis_core::engine::Run::new(std::sync::Arc::new(plan.clone()), now);
            super::step::write_jobs(&mut self.on, fresh.jobs().iter().enumerate().map(|(number, job)| JobRow::new(id, number, job)))
                .await?;
        }
        Ok(Some(RunKey { id, number }))
    }

    /// Whether a run says already of just this that it could not be read. A verdict counts with its reason; that nobody could
    /// look is the same whatever stood in the way. Who starts something by hand gets an answer of their own.
    async fn is_known_unread(&mut self, run: &NewRunRow<'_>) -> Result<bool, StoreError> {
        let sql = "SELECT EXISTS (SELECT 1 FROM runs WHERE project_id = ?1 AND pipeline = ?2 AND branch IS ?3 AND commit_id = ?4
                     AND event = ?5 AND event IN ('push', 'proposal', 'tag') AND tag IS ?6 AND target IS ?7 AND proposal IS ?8
                     AND unread IS NOT NULL AND state = ?9 AND (state = 'lost' OR why IS ?10))";
        let query = sqlx::query_scalar(sql).bind(run.project_id).bind(run.pipeline).bind(run.branch).bind(run.commit_id);
        let query = query.bind(run.event).bind(run.tag).bind(run.target).bind(run.proposal).bind(run.state.word()).bind(run.why);
        Ok(query.fetch_one(&mut *self.on).await?)
    }

    /// Copies a run's row with a new number and no past: the same commit and plan once more. Gives its key.
    pub async fn begin_again(&mut self, of: i64, by: &str, fresh: bool) -> Result<Option<RunKey>, StoreError> {
        let now = self.now;
        let sql = "INSERT INTO runs (id, project_id, number, pipeline, title, state, why, commit_id, commit_title, commit_author, commit_time,
                     branch, tag, target, merged, event, started_by, plan, diagnostics, created_at, again_of, shared, inputs, proposal, trial)
                   SELECT (SELECT last + 1 FROM ids WHERE of = 'runs'), project_id, (SELECT next_number FROM projects WHERE id = project_id), pipeline, title, 'waiting', NULL, commit_id,
                     commit_title, commit_author, commit_time, branch, tag, target, merged, event, ?, plan, diagnostics, ?, number, shared, inputs, proposal, trial
                   FROM runs WHERE id = ? AND plan IS NOT NULL RETURNING id, number, project_id, plan";
        let row: Option<(i64, i64, i64, String)> = sqlx::query_as(sql).bind(by).bind(now).bind(of).fetch_optional(&mut *self.on).await?;
        let Some((id, number, project_id, plan)) = row else { return Ok(None) };
        sqlx::query("UPDATE projects SET next_number = next_number + 1 WHERE id = ?").bind(project_id).execute(&mut *self.on).await?;
        let plan: Plan = serde_json::from_str(&plan).map_err(|_| StoreError::Value("runs.plan"))?;
        let run = ordotaxis_core::engine::Run::new(std::sync::Arc::new(plan), now);
        let rows = run.jobs().iter().enumerate().map(|(number, job)| JobRow { fresh, ..JobRow::new(id, number, job) });
        super::step::write_jobs(&mut self.on, rows).await?;
        Ok(Some(RunKey { id, number }))
    }

    /// Makes a run that was just begun one that does some jobs of an earlier one: `carried` are its jobs that ended well there
    /// and are not done again, with what they gave.
    pub async fn carry_over(&mut self, run: i64, from: (i64, &str), environment: &str, carried: &[i64]) -> Result<(), StoreError> {
        let (now, list) = (self.now, json(carried)?);
        let (before, name) = from;
        let sql = "UPDATE runs SET from_run = ?, environment = ? WHERE id = ?";
        sqlx::query(sql).bind(name).bind(environment).bind(run).execute(&mut *self.on).await?;
        let sql = "UPDATE jobs SET state = 'reused', reused_from = ?, since = ?, ended_at = ?, facts = old.facts, numbers = old.numbers
                   FROM jobs AS old WHERE old.run_id = ? AND old.number = jobs.number AND jobs.run_id = ?
                     AND jobs.number IN (SELECT value FROM json_each(?))";
        let query = sqlx::query(sql).bind(name).bind(now).bind(now).bind(before).bind(run);
        query.bind(&list).execute(&mut *self.on).await?;
        let sql = "INSERT INTO artifacts (run_id, job, name, digest, bytes, files, tree, raw_bytes, content, kept_until, pinned_by)
                   SELECT ?, job, name, digest, 0, files, tree, raw_bytes, content, kept_until, pinned_by FROM artifacts
                   WHERE run_id = ? AND job IN (SELECT value FROM json_each(?))";
        sqlx::query(sql).bind(run).bind(before).bind(list).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Lets a run go on that waits for someone to allow it. False when it does not wait for that (any more).
    pub async fn allow_run(&mut self, id: i64, by: &str) -> Result<bool, StoreError> {
        let sql = "UPDATE runs SET held = 0, allowed_by = ? WHERE id = ? AND held AND ended_at IS NULL";
        Ok(sqlx::query(sql).bind(by).bind(id).execute(&mut *self.on).await?.rows_affected() > 0)
    }

    /// Ends a run that waits for someone to allow it, with all its jobs. False when it does not wait for that.
    pub async fn end_held_run(&mut self, id: i64, state: State, why: &str) -> Result<bool, StoreError> {
        let now = self.now;
        let sql = "UPDATE runs SET held = 0, state = ?, why = ?, started_at = ?, ended_at = ? WHERE id = ? AND held AND ended_at IS NULL";
        let done = sqlx::query(sql).bind(state.word()).bind(why).bind(now).bind(now).bind(id).execute(&mut *self.on).await?;
        if done.rows_affected() == 0 {
            return Ok(false);
        }
        let sql = "UPDATE jobs SET state = ?, why = ?, ended_at = ? WHERE run_id = ? AND ended_at IS NULL";
        sqlx::query(sql).bind(state.word()).bind(why).bind(now).bind(id).execute(&mut *self.on).await?;
        Ok(true)
    }

    /// Ends a run of which something kept cannot be read, with all its jobs. Its plan is put aside, so that nothing
    /// tries to read it again. None when there is no such run.
    pub async fn set_aside(&mut self, id: i64, why: &str) -> Result<Option<SetAside>, StoreError> {
        let now = self.now;
        let sql = "UPDATE runs SET state = 'failed', why = ?, ended_at = ?, held = 0, unreadable = plan, plan = NULL WHERE id = ?
                   RETURNING project_id, (SELECT name FROM projects WHERE id = project_id) AS project, number, pipeline, branch, started_at,
                     coalesce(json_extract(iif(json_valid(merged), merged, NULL), '$.head'), commit_id) AS told_on";
        let aside: Option<SetAside> = sqlx::query_as(sql).bind(why).bind(now).bind(id).fetch_optional(&mut *self.on).await?;
        if aside.is_none() {
            return Ok(None);
        }
        for sql in [
            "UPDATE jobs SET state = 'stopped', why = ?, ended_at = ? WHERE run_id = ? AND ended_at IS NULL",
            "UPDATE attempts SET state = 'stopped', why = ?, ended_at = ? WHERE run_id = ? AND ended_at IS NULL",
        ] {
            sqlx::query(sql).bind(why).bind(now).bind(id).execute(&mut *self.on).await?;
        }
        Ok(aside)
    }
}
