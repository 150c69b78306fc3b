//! Proposals as their forges tell of them, and who approved or refused them.

use super::{Records, StoreError, Tx};
use ordotaxis_core::forge::{ANSWERS, Answered, Offer};

/// A change that is offered.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct ProposalRow {
    pub id: i64,
    pub project_id: i64,
    /// What the forge calls it.
    pub number: String,
    pub title: String,
    pub target: String,
    pub source: Option<String>,
    /// The newest commit of what is offered.
    pub head: String,
    /// As the forge calls them.
    pub author: Option<String>,
    pub outside: bool,
    pub draft: bool,
    pub link: Option<String>,
    /// `open`, `closed` or `landed`.
    pub state: String,
    pub offered_at: i64,
    pub changed_at: i64,
    pub ended_at: Option<i64>,
    pub landed_as: Option<String>,
    /// What the forge calls the one comment that is rewritten.
    pub comment: Option<String>,
    /// What it says, and the commit that it speaks of.
    pub comment_text: Option<String>,
    pub comment_head: Option<String>,
    /// JSON list: the last commands in comments, answered.
    pub answers: String,
}

impl ProposalRow {
    /// The last commands in comments, oldest first.
    pub fn answered(&self) -> Vec<Answered> {
        serde_json::from_str(&self.answers).unwrap_or_default()
    }
}

/// Where a word on a proposal was given.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Given {
    /// At its forge, as a hook or a list tells.
    Forge,
    /// By a command or a comment.
    Here,
}

/// What a forge last told of someone's word on a proposal.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct ForgeWord {
    pub who: String,
    /// None: taken back.
    pub approves: Option<bool>,
    pub commit_id: String,
}

/// Someone's last word on a proposal.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct ReviewRow {
    pub proposal_id: i64,
    /// As the forge calls them.
    pub who: String,
    pub approves: bool,
    pub commit_id: String,
    pub at: i64,
}

const FORGE_WORDS: &str = "SELECT who, approves, commit_id FROM reviews WHERE proposal_id = ? AND NOT here ORDER BY who";

impl Records {
    /// A project's proposals, newest first: all, or those that are open.
    pub async fn proposals(&self, project_id: i64, open: bool, limit: i64) -> Result<Vec<ProposalRow>, StoreError> {
        let sql = "SELECT * FROM proposals WHERE project_id = ?1 AND (NOT ?2 OR state = 'open') ORDER BY id DESC LIMIT ?3";
        Ok(sqlx::query_as(sql).bind(project_id).bind(open).bind(limit).fetch_all(&self.reads).await?)
    }

    /// One proposal, by what its forge calls it.
    pub async fn proposal(&self, project_id: i64, number: &str) -> Result<Option<ProposalRow>, StoreError> {
        let sql = "SELECT * FROM proposals WHERE project_id = ? AND number = ?";
        Ok(sqlx::query_as(sql).bind(project_id).bind(number).fetch_optional(&self.reads).await?)
    }

    /// What the forge calls the proposal that a run is for; none for any other run.
    pub async fn proposal_of(&self, run: i64) -> Result<Option<String>, StoreError> {
        let sql = "SELECT proposal FROM runs WHERE id = ?";
        Ok(sqlx::query_scalar::<_, Option<String>>(sql).bind(run).fetch_optional(&self.reads).await?.flatten())
    }

    /// Words on the proposals of a project that are open.
    pub async fn reviews(&self, project_id: i64) -> Result<Vec<ReviewRow>, StoreError> {
        let sql = "SELECT * FROM (SELECT reviews.*, row_number() OVER (PARTITION BY proposal_id, who ORDER BY at DESC, here DESC) AS nth
                     FROM reviews JOIN proposals ON proposals.id = proposal_id WHERE project_id = ? AND state = 'open')
                   WHERE nth = 1 AND approves IS NOT NULL ORDER BY proposal_id, at, who";
        Ok(sqlx::query_as(sql).bind(project_id).fetch_all(&self.reads).await?)
    }

    /// What a proposal's forge told of everybody's word, by who it is from.
    pub async fn forge_words(&self, proposal_id: i64) -> Result<Vec<ForgeWord>, StoreError> {
        Ok(sqlx::query_as(FORGE_WORDS).bind(proposal_id).fetch_all(&self.reads).await?)
    }
}

impl Tx {
    /// Writes down what a forge tells of a proposal. A number that is not there yet is one newly offered; one that was closed
    /// and is offered again is open again. What has landed stays landed.
    pub async fn set_proposal(&mut self, project_id: i64, number: &str, offer: &Offer) -> Result<(), StoreError> {
        let sql = "INSERT INTO proposals (project_id, number, title, target, source, head, author, outside, draft, link, state, offered_at, changed_at)
                   VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, 'open', ?11, ?11)
                   ON CONFLICT (project_id, number) DO UPDATE SET title = coalesce(nullif(?3, ''), title), target = ?4,
                     source = coalesce(?5, source), head = ?6, author = coalesce(author, ?7), outside = outside OR ?8, draft = ?9,
                     link = coalesce(?10, link), state = 'open', ended_at = NULL, changed_at = iif(head = ?6, changed_at, ?11)
                   WHERE state <> 'landed'";
        sqlx::query(sql)
            .bind(project_id)
            .bind(number)
            .bind(offer.title.as_deref().unwrap_or_default())
            .bind(&offer.target)
            .bind(&offer.source)
            .bind(&offer.commit)
            .bind(&offer.by)
            .bind(offer.outside)
            .bind(offer.draft)
            .bind(&offer.link)
            .bind(self.now)
            .execute(&mut *self.on)
            .await?;
        Ok(())
    }

    /// The open proposals that offer a branch.
    pub async fn proposals_from(&mut self, project_id: i64, source: &str) -> Result<Vec<ProposalRow>, StoreError> {
        let sql = "SELECT * FROM proposals WHERE project_id = ? AND source = ? AND state = 'open' ORDER BY id";
        Ok(sqlx::query_as(sql).bind(project_id).bind(source).fetch_all(&mut *self.on).await?)
    }

    /// The number of the next proposal, where they are counted here.
    pub async fn next_proposal(&mut self, project_id: i64) -> Result<i64, StoreError> {
        let sql = "SELECT coalesce(max(CAST(number AS INTEGER)), 0) + 1 FROM proposals WHERE project_id = ?";
        Ok(sqlx::query_scalar(sql).bind(project_id).fetch_one(&mut *self.on).await?)
    }

    /// It was closed or has landed. False when it is not known, or was so before.
    pub async fn end_proposal(&mut self, project_id: i64, number: &str, state: &str, as_commit: Option<&str>) -> Result<bool, StoreError> {
        let sql = "UPDATE proposals SET state = ?3, ended_at = ?4, landed_as = coalesce(?5, landed_as)
                   WHERE project_id = ?1 AND number = ?2 AND state <> ?3 AND state <> 'landed'";
        let query = sqlx::query(sql).bind(project_id).bind(number).bind(state).bind(self.now).bind(as_commit);
        Ok(query.execute(&mut *self.on).await?.rows_affected() > 0)
    }

    /// Someone's word on a proposal; none takes it back. It is for the commit that it names, or for the newest.
    pub async fn set_review(
        &mut self,
        project_id: i64,
        number: &str,
        who: (&str, Given),
        approves: Option<bool>,
        commit: Option<&str>,
    ) -> Result<(), StoreError> {
        let sql = "INSERT INTO reviews (proposal_id, who, here, approves, commit_id, at)
                   SELECT id, ?3, ?4, ?5, coalesce(?6, head), ?7 FROM proposals WHERE project_id = ?1 AND number = ?2
                   ON CONFLICT DO UPDATE SET approves = ?5, commit_id = excluded.commit_id, at = ?7";
        let query = sqlx::query(sql).bind(project_id).bind(number).bind(who.0).bind(who.1 == Given::Here);
        query.bind(approves).bind(commit).bind(self.now).execute(&mut *self.on).await?;
        Ok(())
    }

    /// What is known of a proposal now, and what its forge told of everybody's word.
    pub async fn proposal_now(&mut self, id: i64) -> Result<Option<(ProposalRow, Vec<ForgeWord>)>, StoreError> {
        let row = sqlx::query_as("SELECT * FROM proposals WHERE id = ?").bind(id).fetch_optional(&mut *self.on).await?;
        let Some(row) = row else { return Ok(None) };
        Ok(Some((row, sqlx::query_as(FORGE_WORDS).bind(id).fetch_all(&mut *self.on).await?)))
    }

    /// A proposal whose record says `from` offers `to`: what told otherwise was older. False where it says something else by now.
    pub async fn set_proposal_head(&mut self, project_id: i64, number: &str, from: &str, to: &str) -> Result<bool, StoreError> {
        let sql = "UPDATE proposals SET head = ?4, changed_at = ?5 WHERE project_id = ?1 AND number = ?2 AND head = ?3 AND state = 'open'";
        let query = sqlx::query(sql).bind(project_id).bind(number).bind(from).bind(to).bind(self.now);
        Ok(query.execute(&mut *self.on).await?.rows_affected() > 0)
    }

    /// The comment was written: what the forge calls it (none where it does not say), what it says, and the commit that it
    /// speaks of.
    pub async fn set_proposal_comment(&mut self, id: i64, comment: Option<&str>, text: &str, head: &str) -> Result<(), StoreError> {
        let sql = "UPDATE proposals SET comment = ?, comment_text = ?, comment_head = ? WHERE id = ?";
        sqlx::query(sql).bind(comment).bind(text).bind(head).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }

    /// A command in a comment was answered, or is answered otherwise; the last few answers are kept.
    pub async fn set_answer(&mut self, id: i64, answered: &Answered) -> Result<(), StoreError> {
        let text: String = sqlx::query_scalar("SELECT answers FROM proposals WHERE id = ?").bind(id).fetch_one(&mut *self.on).await?;
        let mut answers: Vec<Answered> = serde_json::from_str(&text).unwrap_or_default();
        match answers.iter_mut().find(|known| known.call == answered.call && !known.call.is_empty()) {
            Some(known) => known.clone_from(answered),
            None => answers.push(answered.clone()),
        }
        let kept = answers.len().saturating_sub(ANSWERS);
        let text = super::error::json(&answers[kept..])?;
        sqlx::query("UPDATE proposals SET answers = ? WHERE id = ?").bind(text).bind(id).execute(&mut *self.on).await?;
        Ok(())
    }
}
