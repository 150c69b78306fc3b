//! Finds out whether something is told, and whom; writes that down in one transaction.

use super::delivered::Of;
use super::found::Found;
use super::news::News;
use super::receivers::{Receiver, receivers, tell};
use super::turned::{Turned, turned};
use crate::app::App;
use crate::clock;
use crate::landing::{RulesError, rules_of};
use crate::who::Who;
use crate::work::Outcome;
use ordotaxis_core::access::Action;
use ordotaxis_core::engine::State;
use ordotaxis_core::forge::short;
use ordotaxis_core::notice::{Notice, Occasion, Part, Turns};
use ordotaxis_store::{DueWork, Project, ProposalRow, RunRow, StoreError};
use std::collections::BTreeSet;

/// Works off one piece of news.
pub(crate) async fn find_out(app: &App, due: &DueWork) -> Result<Outcome, StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(Outcome::Done(None)) };
    let Ok(news) = serde_json::from_str::<News>(&due.body) else {
        return Ok(Outcome::Hopeless("the news cannot be read".into()));
    };
    let (who, mut turned_now) = (Who::of(app, &project).await?, None);
    let finder = Finder { app, project: &project, who: &who };
    let mut found = match news {
        News::Ended { run } => {
            let (found, turns) = finder.ended(run).await?;
            turned_now = turns;
            found
        }
        News::Held { run } => finder.held(run).await?,
        News::Landing { branch, proposal, by, commit, why } => finder.landing(&branch, &proposal, &by, commit, why).await?,
        News::Lacks { branch, proposal, head, why } => finder.lacks(&branch, &proposal, &head, &why).await?,
        News::Asks { environment, run, job } => finder.of(&environment).asks(run, job).await?.into_iter().collect(),
        News::Delivered { environment, number } => finder.of(&environment).ended(number).await?.into_iter().collect(),
        News::Past { environment, called, by, reason } => finder.of(&environment).past(&called, &by, &reason).await?.into_iter().collect(),
        News::Hook { words } => vec![finder.hook(words)],
    };
    let mut told: Vec<(Notice, Vec<Receiver>)> = Vec::new();
    for Found { notice, own, needs } in found.drain(..) {
        let to = receivers(app, &project, &who, &notice, &own, needs).await?;
        told.push((notice, to));
    }
    let mut tx = app.records.tx_by_rule("notices", clock::now()).await?;
    if let Some((pipeline, turns)) = &turned_now {
        tx.set_turns(project.id, pipeline, turns).await?;
    }
    for (notice, to) in &told {
        tell(&mut tx, &project, notice, to).await?;
    }
    tx.commit().await?;
    let count: usize = told.iter().map(|(_, to)| to.len()).sum();
    Ok(Outcome::Done((count > 0).then(|| format!("{count} told"))))
}

struct Finder<'a> {
    app: &'a App,
    project: &'a Project,
    who: &'a Who,
}

impl<'a> Finder<'a> {
    fn of(&self, name: &'a str) -> Of<'a> {
        Of { app: self.app, project: self.project, name }
    }

    async fn run(&self, run: i64) -> Result<Option<RunRow>, StoreError> {
        Ok(self.app.records.runs_by_id(&[run]).await?.pop())
    }

    /// A run has ended: of the main branch's, whether it broke or is fixed; of any, what it lost or waits for.
    async fn ended(&self, run: i64) -> Result<(Vec<Found>, Option<(String, Turns)>), StoreError> {
        let Some(row) = self.run(run).await? else { return Ok((Vec::new(), None)) };
        let (mut found, mut turns) = (Vec::new(), None);
        found.extend(self.runner(&row).await?);
        found.extend(self.by_hand(&row).await?);
        let is_main = row.branch.as_deref() == Some(&self.project.main_branch) && row.proposal.is_none();
        if is_main && let Some(Turned { turns: now, notice }) = turned(self.app, self.project, self.who, &row).await? {
            turns = Some((row.pipeline.clone(), now));
            found.extend(notice.map(|(notice, own)| Found { notice, own, needs: Action::SeeProject }));
        }
        Ok((found, turns))
    }

    /// Attempts that ended because their runner went away.
    async fn runner(&self, row: &RunRow) -> Result<Option<Found>, StoreError> {
        let lost = self.app.records.attempts(row.id).await?.into_iter().filter(|attempt| attempt.state == State::Lost.word());
        let plan = self.app.plan_of(row.id).await?;
        let job = |number: i64| plan.as_ref()?.jobs.get(usize::try_from(number).ok()?).map(|job| job.id.to_string());
        let lines: Vec<String> =
            lost.map(|one| format!("{}, attempt {}, at {}", job(one.job).unwrap_or_default(), one.number, one.runner)).collect();
        let Some(first) = lines.first() else { return Ok(None) };
        let sentence = format!("a runner went away in the middle of {}/{}: {first}", row.project, row.number);
        let parts = vec![Part { title: "What it had".into(), lines: lines.clone() }];
        Ok(Some(self.of_run(Occasion::Runner, sentence, parts, row, BTreeSet::new(), Action::SeeProject)))
    }

    /// Jobs of a run that has ended wait for someone to start them.
    async fn by_hand(&self, row: &RunRow) -> Result<Option<Found>, StoreError> {
        let waiting: Vec<i64> = self
            .app
            .records
            .jobs(row.id)
            .await?
            .iter()
            .filter(|job| job.state == State::Gated.word() && job.holds.is_none())
            .map(|job| job.number)
            .collect();
        if waiting.is_empty() || row.state != State::Passed.word() {
            return Ok(None);
        }
        let plan = self.app.plan_of(row.id).await?;
        let jobs = plan.iter().flat_map(|plan| &plan.jobs).enumerate();
        let jobs = jobs.filter(|(at, _)| i64::try_from(*at).is_ok_and(|at| waiting.contains(&at)));
        let lines: Vec<String> = jobs.map(|(_, job)| format!("ordotaxis start {}/{} --job {}", row.project, row.number, job.id)).collect();
        let own = row.started_by.as_deref().and_then(|by| self.who.by_login(by).or_else(|| self.who.by_name(by)));
        let own = own.map(|person| person.id).into_iter().collect();
        let sentence = format!("{}/{} waits for someone to start a job of it", row.project, row.number);
        let parts = vec![Part { title: "Jobs that start by hand".into(), lines }];
        Ok(Some(self.of_run(Occasion::Waits, sentence, parts, row, own, Action::StartJob)))
    }

    async fn held(&self, run: i64) -> Result<Vec<Found>, StoreError> {
        let Some(row) = self.run(run).await?.filter(|row| row.held) else { return Ok(Vec::new()) };
        let sentence = format!("{}/{} comes from outside, and waits for someone to allow it", row.project, row.number);
        let lines =
            vec![format!("{} by {}", row.commit_title, row.commit_author), format!("ordotaxis allow {}/{}", row.project, row.number)];
        let parts = vec![Part { title: "Look at it first".into(), lines }];
        Ok(vec![self.of_run(Occasion::Waits, sentence, parts, &row, BTreeSet::new(), Action::AllowRun)])
    }

    fn of_run(&self, occasion: Occasion, sentence: String, parts: Vec<Part>, row: &RunRow, own: BTreeSet<i64>, needs: Action) -> Found {
        let name = format!("{}/{}", row.project, row.number);
        let notice = Notice {
            project: self.project.name.clone(),
            occasion,
            sentence,
            parts,
            link: format!("{}/runs/{name}", self.app.public_url),
            thread: name.clone(),
            run: Some(name),
            proposal: row.proposal.clone(),
            commit: Some(row.commit_id.clone()),
            commits: Vec::new(),
        };
        Found { notice, own, needs }
    }

    async fn landing(
        &self,
        branch: &str,
        proposal: &str,
        by: &str,
        commit: Option<String>,
        why: Option<String>,
    ) -> Result<Vec<Found>, StoreError> {
        let Some(row) = self.app.records.proposal(self.project.id, proposal).await? else { return Ok(Vec::new()) };
        let mut own = self.authors(&row);
        own.extend(self.who.by_name(by).map(|person| person.id));
        let (occasion, end) = match &why {
            None => (Occasion::Landed, format!("has landed in {branch}")),
            Some(why) => (Occasion::Left, format!("left the queue of {branch}: {why}")),
        };
        let notice = Notice { commit, ..self.of_proposal(occasion, &row, &end, Vec::new()) };
        Ok(vec![Found { notice, own, needs: Action::SeeProject }])
    }

    /// Whoever may give what is missing is asked for it; not who offers it.
    async fn lacks(&self, branch: &str, proposal: &str, head: &str, why: &str) -> Result<Vec<Found>, StoreError> {
        let row = self.app.records.proposal(self.project.id, proposal).await?;
        let Some(row) = row.filter(|row| row.state == "open" && row.head == head && !row.draft) else { return Ok(Vec::new()) };
        let rules = match rules_of(self.app, self.project).await {
            Ok(rules) => rules.branch(branch),
            Err(RulesError::Store(error)) => return Err(error),
            Err(_) => return Ok(Vec::new()),
        };
        let mut own: BTreeSet<i64> = rules.approvals.iter().flat_map(|wanted| self.who.among(&wanted.by)).collect();
        for author in self.authors(&row) {
            own.remove(&author);
        }
        let reviews = self.app.records.reviews(self.project.id).await?;
        let given = reviews.iter().filter(|review| review.proposal_id == row.id && review.commit_id == row.head);
        for person in given.filter_map(|review| self.who.by_login(&review.who)) {
            own.remove(&person.id);
        }
        let lines = vec![format!("in a comment on it: ordotaxis: approve {}", short(&row.head))];
        let parts = vec![Part { title: "To approve its newest commit".into(), lines }];
        let notice = self.of_proposal(Occasion::Waits, &row, &format!("waits to land in {branch}: {why}"), parts);
        Ok(vec![Found { notice, own, needs: Action::SeeProject }])
    }

    fn authors(&self, row: &ProposalRow) -> BTreeSet<i64> {
        row.author.as_deref().and_then(|login| self.who.by_login(login)).map(|person| person.id).into_iter().collect()
    }

    fn of_proposal(&self, occasion: Occasion, row: &ProposalRow, end: &str, parts: Vec<Part>) -> Notice {
        let title = if row.title.is_empty() { String::new() } else { format!(" “{}”", row.title) };
        Notice {
            project: self.project.name.clone(),
            occasion,
            sentence: format!("proposal {}{title} {end}", row.number),
            parts,
            link: format!("{}/projects/{}/proposals/{}", self.app.public_url, self.project.name, row.number),
            thread: format!("{} proposal {}", self.project.name, row.number),
            run: None,
            proposal: Some(row.number.clone()),
            commit: Some(row.head.clone()),
            commits: Vec::new(),
        }
    }

    fn hook(&self, words: String) -> Found {
        let notice = Notice {
            project: self.project.name.clone(),
            occasion: Occasion::Hook,
            sentence: words,
            parts: Vec::new(),
            link: format!("{}/projects/{}/deliveries", self.app.public_url, self.project.name),
            thread: format!("{} hooks", self.project.name),
            run: None,
            proposal: None,
            commit: None,
            commits: Vec::new(),
        };
        Found { notice, own: BTreeSet::new(), needs: Action::SeeDeliveries }
    }
}
