//! Work: everything that is to be done outside, kept until it is done. Of each lane only the oldest row is ever begun,
//! so that order holds whatever fails; what cannot succeed is given up with its reason, and can be tried again.

use super::{Records, StoreError, Tx};

/// Work goes that ended before ?1; what was given up, and occasions, before ?2.
pub(super) const OLD: &str = "state <> 'waiting' AND ended_at < iif(state = 'given up' OR kind = 'occasion', ?2, ?1)";

/// What is to be done. Each kind has its own body, limits and back-off; see the service's `work`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum WorkKind {
    /// Something happened: look at the commit, and begin its runs.
    Occasion,
    /// Tell a forge how a commit's run is.
    Status,
    /// Write a run's verdict into the repository's notes.
    Note,
    /// Do what a landing queue asks for, or tell it what became of that.
    Landing,
    /// Write a proposal's comment anew.
    Comment,
    /// Do what someone asked for in a comment.
    Spoken,
    /// Find out whether something is worth telling, and whom.
    News,
    /// Tell one receiver.
    Notice,
    /// Tell an environment what happened, or do what it says.
    Delivery,
    /// Say of a run's artifacts where they come from.
    Trace,
    /// Make a release, or tell the forge of one.
    Release,
    /// Send a run's trace.
    Spans,
}

impl WorkKind {
    /// Every kind, in the order in which they were added.
    pub const ALL: [WorkKind; 12] = [
        WorkKind::Occasion,
        WorkKind::Status,
        WorkKind::Note,
        WorkKind::Landing,
        WorkKind::Comment,
        WorkKind::Spoken,
        WorkKind::News,
        WorkKind::Notice,
        WorkKind::Delivery,
        WorkKind::Trace,
        WorkKind::Release,
        WorkKind::Spans,
    ];

    /// The word that is stored for it. Words never change.
    pub fn word(self) -> &'static str {
        match self {
            WorkKind::Occasion => "occasion",
            WorkKind::Status => "status",
            WorkKind::Note => "note",
            WorkKind::Landing => "landing",
            WorkKind::Comment => "comment",
            WorkKind::Spoken => "spoken",
            WorkKind::News => "news",
            WorkKind::Notice => "notice",
            WorkKind::Delivery => "delivery",
            WorkKind::Trace => "trace",
            WorkKind::Release => "release",
            WorkKind::Spans => "spans",
        }
    }

    /// Whether a row that waits for another try holds up those behind it in its lane. A commit's statuses must arrive in
    /// order; an occasion whose repository is away need not keep the next one waiting.
    fn holds_lane(self) -> bool {
        self != WorkKind::Occasion
    }
}

/// Something to be done.
#[derive(Debug, Clone)]
pub struct NewWork {
    pub kind: WorkKind,
    pub project_id: i64,
    /// Rows of one kind, project and lane are worked off in order.
    pub lane: String,
    /// Names what it is about: a second row of the project and kind with this name is not added.
    pub once: Option<String>,
    /// JSON
    pub body: String,
}

/// A row of the work queue that is to be done now.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct DueWork {
    pub id: i64,
    pub project_id: i64,
    pub lane: String,
    pub body: String,
    /// How often it was tried.
    pub tries: i64,
}

/// How much work of a kind is in a state that is no good end.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct WorkCount {
    pub kind: String,
    /// `waiting` or `given up`
    pub state: String,
    pub count: i64,
    /// When the oldest was added.
    pub oldest_at: i64,
}

/// Work that was given up, or that failed and is tried again.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct TroubledWork {
    pub id: i64,
    pub kind: String,
    pub project: String,
    pub lane: String,
    pub body: String,
    pub state: String,
    pub tries: i64,
    pub next_at: i64,
    pub ended_at: Option<i64>,
    pub said: Option<String>,
}

impl Records {
    /// What should be begun now of a kind: of each lane the oldest, of each project the first `each`.
    pub async fn due_work(&self, kind: WorkKind, now: i64, each: i64) -> Result<Vec<DueWork>, StoreError> {
        let first = if kind.holds_lane() { "" } else { "AND next_at <= ?2" };
        let sql = format!(
            "SELECT id, project_id, lane, body, tries FROM
               (SELECT *, row_number() OVER (PARTITION BY project_id ORDER BY id) AS place FROM work WHERE id IN
                 (SELECT min(id) FROM work WHERE state = 'waiting' AND kind = ?1 {first} GROUP BY kind, project_id, lane)
               AND next_at <= ?2)
             WHERE place <= ?3 ORDER BY id"
        );
        Ok(sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(kind.word()).bind(now).bind(each).fetch_all(&self.reads).await?)
    }

    /// One row of work, done or not.
    pub async fn work(&self, id: i64) -> Result<Option<DueWork>, StoreError> {
        let sql = "SELECT id, project_id, lane, body, tries FROM work WHERE id = ?";
        Ok(sqlx::query_as(sql).bind(id).fetch_optional(&self.reads).await?)
    }

    /// Whether a newer status of the same commit and pipeline waits behind this one.
    pub async fn newer_status(&self, kind: WorkKind, of: &DueWork, pipeline: &str) -> Result<bool, StoreError> {
        let sql = "SELECT EXISTS (SELECT 1 FROM work WHERE kind = ? AND project_id = ? AND lane = ? AND id > ? AND state = 'waiting'
                     AND body ->> '$.pipeline' = ?)";
        let query = sqlx::query_scalar(sql).bind(kind.word()).bind(of.project_id).bind(&of.lane).bind(of.id).bind(pipeline);
        Ok(query.fetch_one(&self.reads).await?)
    }

    /// Whether more of the same kind and lane waits behind this.
    pub async fn waits_behind(&self, kind: WorkKind, of: &DueWork) -> Result<bool, StoreError> {
        let sql = "SELECT EXISTS (SELECT 1 FROM work WHERE kind = ? AND project_id = ? AND lane = ? AND id > ? AND state = 'waiting')";
        Ok(sqlx::query_scalar(sql).bind(kind.word()).bind(of.project_id).bind(&of.lane).bind(of.id).fetch_one(&self.reads).await?)
    }

    /// When the next row comes due that is not due yet.
    pub async fn next_work_at(&self, now: i64) -> Result<Option<i64>, StoreError> {
        let sql = "SELECT min(next_at) FROM work WHERE state = 'waiting' AND next_at > ?";
        Ok(sqlx::query_scalar(sql).bind(now).fetch_one(&self.reads).await?)
    }

    /// How many messages to the outside have not been accepted yet. Notices that are gathered into one message wait on purpose.
    pub async fn unsent_messages(&self, now: i64) -> Result<i64, StoreError> {
        let sql = "SELECT count(*) FROM work WHERE state = 'waiting' AND kind <> 'occasion'
                   AND NOT (kind = 'notice' AND EXISTS (SELECT 1 FROM work AS first WHERE first.kind = 'notice' AND first.state = 'waiting'
                     AND first.project_id = work.project_id AND first.lane = work.lane AND first.tries = 0 AND first.next_at > ?))";
        Ok(sqlx::query_scalar(sql).bind(now).fetch_one(&self.reads).await?)
    }

    /// How much work waits or was given up, by kind.
    pub async fn work_counts(&self) -> Result<Vec<WorkCount>, StoreError> {
        let sql = "SELECT kind, state, count(*) AS count, min(added_at) AS oldest_at FROM work WHERE state IN ('waiting', 'given up')
                   GROUP BY kind, state";
        Ok(sqlx::query_as(sql).fetch_all(&self.reads).await?)
    }

    /// Work that was given up, the newest first, then what failed and is tried again; at most 200 rows.
    pub async fn troubled_work(&self) -> Result<Vec<TroubledWork>, StoreError> {
        let sql = "SELECT work.id, kind, projects.name AS project, lane, body, state, tries, work.next_at, ended_at, said FROM work
                   JOIN projects ON projects.id = project_id
                   WHERE state = 'given up' OR (state = 'waiting' AND tries > 0) ORDER BY state, work.id DESC LIMIT 200";
        Ok(sqlx::query_as(sql).fetch_all(&self.reads).await?)
    }

    /// The result of every occasion, oldest first; none where it was not worked off yet.
    pub async fn said(&self) -> Result<Vec<Option<String>>, StoreError> {
        let sql = "SELECT iif(state = 'waiting', NULL, said) FROM work WHERE kind = 'occasion' ORDER BY id";
        Ok(sqlx::query_scalar(sql).fetch_all(&self.reads).await?)
    }

    /// What keeps projects from being read: for each the error of the oldest occasion that waits for another try.
    pub async fn troubles(&self) -> Result<Vec<(i64, String)>, StoreError> {
        let sql = "SELECT project_id, coalesce(said, '') FROM work WHERE id IN
                     (SELECT min(id) FROM work WHERE state = 'waiting' AND kind = 'occasion' AND tries > 0 GROUP BY project_id)";
        Ok(sqlx::query_as(sql).fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// Adds work, and gives its number. None, and nothing is added, when its `once` is known already; what was given up under
    /// that name is tried again.
    pub async fn add_work(&mut self, new: &NewWork) -> Result<Option<i64>, StoreError> {
        let sql = "INSERT INTO work (kind, project_id, lane, once, body, added_at, next_at) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?6)
                   ON CONFLICT (project_id, kind, once) WHERE once IS NOT NULL
                   DO UPDATE SET state = 'waiting', ended_at = NULL, tries = 0, next_at = excluded.next_at WHERE state = 'given up'
                   RETURNING id";
        let query = sqlx::query_scalar(sql).bind(new.kind.word()).bind(new.project_id).bind(&new.lane).bind(&new.once).bind(&new.body);
        let added: Option<i64> = query.bind(self.now).fetch_optional(&mut *self.on).await?;
        self.has_work |= added.is_some();
        Ok(added)
    }

    /// Marks a row as done, with what it led to.
    pub async fn work_done(&mut self, id: i64, said: Option<&str>) -> Result<(), StoreError> {
        let sql = "UPDATE work SET state = 'done', ended_at = ?, said = ? WHERE id = ?";
        sqlx::query(sql).bind(self.now).bind(said).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// It failed and is tried again at `next_at`.
    pub async fn work_failed(&mut self, id: i64, said: &str, next_at: i64) -> Result<(), StoreError> {
        let sql = "UPDATE work SET tries = tries + 1, next_at = ?, said = ? WHERE id = ?";
        sqlx::query(sql).bind(next_at).bind(said).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// It is done later, and was not tried now.
    pub async fn work_rests(&mut self, id: i64, next_at: i64) -> Result<(), StoreError> {
        sqlx::query("UPDATE work SET next_at = ? WHERE id = ?").bind(next_at).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// It is not tried again by itself, and what comes after it goes on.
    pub async fn work_given_up(&mut self, id: i64, said: &str) -> Result<(), StoreError> {
        let sql = "UPDATE work SET state = 'given up', tries = tries + 1, ended_at = ?, said = ? WHERE id = ?";
        sqlx::query(sql).bind(self.now).bind(said).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// Tries work that was given up, or waits for another try, once more now. Gives its project and kind; none when
    /// there is no such work.
    pub async fn work_again(&mut self, id: i64) -> Result<Option<(String, String)>, StoreError> {
        let sql = "UPDATE work SET state = 'waiting', ended_at = NULL, tries = 0, next_at = ?
                   WHERE id = ? AND (state = 'given up' OR (state = 'waiting' AND tries > 0))
                   RETURNING (SELECT name FROM projects WHERE id = project_id), kind";
        let found = sqlx::query_as(sql).bind(self.now).bind(id).fetch_optional(&mut *self.on).await?;
        self.has_work |= found.is_some();
        Ok(found)
    }

    /// Drops what ended before a moment. What was given up stays longer, until `given_up_before`; occasions stay with it,
    /// since a webhook that comes once more is known by them.
    pub async fn drop_work(&mut self, before: i64, given_up_before: i64) -> Result<u64, StoreError> {
        let sql = format!("DELETE FROM work WHERE {OLD}");
        Ok(sqlx::query(sqlx::AssertSqlSafe(sql)).bind(before).bind(given_up_before).execute(&mut *self.on).await?.rows_affected())
    }
}
