//! Does what a landing queue asks for, and tells it what became of that.

use super::asked::LandingWork;
use super::change::{change, queue_of};
use super::reason::{is_flaky, is_own};
use super::rules::{RulesError, Words, rules_of};
use super::tick::tick;
use crate::app::App;
use crate::clock;
use crate::forge::{CallError, Forge};
use crate::keeper::RunCommand;
use crate::occasions::{Begun, OccasionError, begin, begin_again, complete, pipeline_files};
use crate::work::Outcome;
use ordotaxis_core::access::Actor;
use ordotaxis_core::engine::State;
use ordotaxis_core::forge::Kind;
use ordotaxis_core::landing::{Effect, Event, Offered};
use ordotaxis_core::plan::{Cause, Occasion};
use ordotaxis_core::rules::{BranchRules, How};
use ordotaxis_git::{GitError, Pushed, Put, PutHow, Saying};
use ordotaxis_store::{DueWork, Project, ProposalRow, StoreError, TrialRun};
use std::collections::BTreeMap;

/// After so many tries, about three days, it is given up.
const MOST_TRIES: u32 = 900;
/// Who does it.
const RULE: &str = "landing";

/// Why it could not be done now.
#[derive(Debug, thiserror::Error)]
enum ActError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Git(#[from] GitError),
    #[error(transparent)]
    Rules(#[from] RulesError),
    #[error(transparent)]
    Occasion(#[from] OccasionError),
    #[error("{0}")]
    Forge(#[from] CallError),
    #[error("the service is ending")]
    Ending,
}

/// Does one piece of work.
pub(crate) async fn work_off(app: &App, due: &DueWork) -> Result<Outcome, StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(Outcome::Done(None)) };
    let done = match serde_json::from_str::<LandingWork>(&due.body) {
        Err(_) => return Ok(Outcome::Hopeless("the landing queue's work cannot be read".into())),
        Ok(LandingWork::Looked { branch }) => tick(app, &project, &branch).await.map_err(ActError::Store),
        Ok(LandingWork::Ended { branch, trial }) => ended(app, &project, &branch, trial).await,
        Ok(LandingWork::Effect { branch, effect }) => Act { app, project: &project, branch: &branch }.effect(effect).await,
    };
    match done {
        Ok(()) => Ok(Outcome::Done(None)),
        Err(ActError::Store(error) | ActError::Rules(RulesError::Store(error)) | ActError::Occasion(OccasionError::Store(error))) => {
            Err(error)
        }
        Err(ActError::Forge(error)) if error.is_final() => Ok(Outcome::Hopeless(error.to_string())),
        Err(error) => Ok(Outcome::Failed { why: error.to_string(), tries: MOST_TRIES, after: None }),
    }
}

/// Tells the queue.
async fn tell(app: &App, project: &Project, branch: &str, events: Vec<Event>) -> Result<(), ActError> {
    let mut tx = app.records.tx_by_rule(RULE, clock::now()).await?;
    change(&mut tx, project.id, branch, events).await?;
    Ok(tx.commit().await?)
}

/// A run of a trial has ended: with the last of them, or with the first that did not pass, the trial has its verdict.
async fn ended(app: &App, project: &Project, branch: &str, trial: u64) -> Result<(), ActError> {
    let wants = rules_of(app, project).await?.branch(branch).wants;
    let runs = app.records.trial_runs(project.id, branch, trial).await?;
    let of = |name: &String| runs.iter().find(|run| run.pipeline == *name);
    let bad = wants.iter().filter_map(of).find(|run| run.ended_at.is_some() && run.state != State::Passed.word());
    let all = wants.iter().all(|name| of(name).is_some_and(|run| run.ended_at.is_some()));
    let verdict = match (bad, all) {
        (Some(run), _) => {
            let flaky = is_flaky(app, project, run).await?;
            // What the others say changes nothing any more.
            if !flaky {
                stop_runs(app, &runs).await?;
            }
            let once_more = if flaky { "; every test that failed is known to turn by itself" } else { "" };
            let own = is_own(app, project, branch, trial, run).await?;
            Event::Failed { trial, sentence: format!("{}{once_more}", said(project, run)), flaky, own }
        }
        (None, true) => Event::Passed { trial },
        (None, false) => return Ok(()),
    };
    tell(app, project, branch, vec![verdict]).await
}

/// Stops those of some runs that still go on.
async fn stop_runs(app: &App, runs: &[TrialRun]) -> Result<(), ActError> {
    for run in runs.iter().filter(|run| run.ended_at.is_none()) {
        let by = Actor::rule(RULE);
        let stopped = app.keeper.ask(|reply| RunCommand::Stop { run: run.id, job: None, by, reply }).await;
        // One that has ended meanwhile is as good as stopped.
        let _ = stopped.map_err(|_| ActError::Ending)?;
    }
    Ok(())
}

/// `failed in tidegauge/12: 2 of 11 jobs; first test.unit …`
fn said(project: &Project, run: &TrialRun) -> String {
    // What the run says of itself begins with its state.
    let why = run.why.as_deref().map(|why| why.strip_prefix("Failed: ").unwrap_or(why));
    let why = why.map(|why| format!(": {why}")).unwrap_or_default();
    format!("{} in {}/{}{why}", run.state, project.name, run.number)
}

struct Act<'a> {
    app: &'a App,
    project: &'a Project,
    branch: &'a str,
}

impl Act<'_> {
    async fn effect(&self, effect: Effect) -> Result<(), ActError> {
        match effect {
            Effect::Make { trial, on, group } => self.make(trial, on, &group).await,
            Effect::Try { trial, commit, again } => self.run(trial, &commit, again).await,
            Effect::Drop { trial } => self.stop(trial).await,
            Effect::Land { trial, from, commit, group } => self.land(trial, &from, &commit, &group).await,
            Effect::HasLanded { offered, commit } => self.tell_forge(&offered, &commit).await,
            Effect::HasLeft { .. } => Ok(()),
        }
    }

    async fn tell(&self, event: Event) -> Result<(), ActError> {
        tell(self.app, self.project, self.branch, vec![event]).await
    }

    async fn rules(&self) -> Result<BranchRules, ActError> {
        Ok(rules_of(self.app, self.project).await?.branch(self.branch))
    }

    async fn row(&self, offered: &Offered) -> Result<Option<ProposalRow>, ActError> {
        Ok(self.app.records.proposal(self.project.id, &offered.proposal).await?)
    }

    /// Whether the trial is still wanted: what was asked for long ago need not be done.
    async fn wanted(&self, trial: u64) -> Result<bool, ActError> {
        let queue = queue_of(&self.app.records, self.project.id, self.branch).await?;
        Ok(queue.is_some_and(|queue| queue.trials().iter().any(|known| known.number == trial)))
    }

    async fn make(&self, trial: u64, on: String, group: &[Offered]) -> Result<(), ActError> {
        if !self.wanted(trial).await? {
            return Ok(());
        }
        let (mirror, how) = (self.app.mirror(self.project), self.rules().await?.how);
        if !mirror.has(&on).await? {
            mirror.fetch_all().await?;
        }
        let mut tip = on;
        for offered in group {
            let row = self.row(offered).await?;
            if !mirror.need(&offered.head, row.as_ref().and_then(|row| row.source.as_deref())).await? {
                let why = format!("the repository does not have its commit {} any more", offered.head);
                return self.tell(Event::Leave { proposal: offered.proposal.clone(), why }).await;
            }
            let author = row.as_ref().and_then(|row| row.author.as_deref()).map(plain).filter(|author| !author.is_empty());
            let saying = Saying { message: message(offered, row.as_ref()), author, time: clock::now() / 1000 };
            match mirror.put_on(&tip, &offered.head, put_how(how), &saying).await? {
                Put::Made(commit) => tip = commit,
                Put::Contained => return self.tell(Event::Contained { trial, proposal: offered.proposal.clone() }).await,
                Put::Conflict(files) => return self.tell(Event::Conflict { trial, proposal: offered.proposal.clone(), files }).await,
            }
        }
        self.tell(Event::Made { trial, commit: tip }).await
    }

    /// Begins the runs of a trial's commit: of every pipeline that the rules want.
    async fn run(&self, trial: u64, commit: &str, again: bool) -> Result<(), ActError> {
        let queue = queue_of(&self.app.records, self.project.id, self.branch).await?;
        let known = queue.as_ref().and_then(|queue| queue.trials().iter().find(|known| known.number == trial));
        let Some(known) = known.cloned() else { return Ok(()) };
        let actor = Actor::rule(RULE);
        if again {
            return self.run_again(trial, &actor).await;
        }
        let mut outside = false;
        for offered in &known.group {
            outside |= self.row(offered).await?.is_none_or(|row| row.outside);
        }
        let by = queue.as_ref().and_then(|queue| queue.entry(&known.group.first()?.proposal)).map(|entry| entry.by.clone());
        let cause = Cause::Landing { target: self.branch.to_owned(), trial, outside, base: known.on.clone() };
        let occasion = Occasion { commit: Some(commit.to_owned()), by, ..Occasion::new(cause) };
        let mirror = self.app.mirror(self.project);
        let complete = complete(&mirror, self.project, &occasion).await?;
        let files = pipeline_files(self.app, self.project, &mirror, commit).await?;
        for wanted in self.rules().await?.wants {
            let Some(file) = files.iter().find(|file| file.name == wanted) else {
                let sentence = format!("the combined result has no pipeline `{wanted}`, which [branch.{}] wants", self.branch);
                return self.tell(Event::Failed { trial, sentence, flaky: false, own: false }).await;
            };
            match begin(self.app, &actor, self.project, &complete, file).await? {
                // Its run ended before, when this was done and not written down.
                Begun::Known => ended(self.app, self.project, self.branch, trial).await?,
                Begun::Run(_) | Begun::Unwanted => {}
            }
        }
        // One that could not be planned has ended already.
        ended(self.app, self.project, self.branch, trial).await
    }

    async fn run_again(&self, trial: u64, actor: &Actor) -> Result<(), ActError> {
        for run in self.app.records.trial_runs(self.project.id, self.branch, trial).await? {
            if run.ended_at.is_some()
                && run.state != State::Passed.word()
                && let Some(row) = self.app.records.run(&self.project.name, run.number).await?
            {
                begin_again(self.app, actor, self.project, &row, false).await?;
            }
        }
        Ok(())
    }

    async fn stop(&self, trial: u64) -> Result<(), ActError> {
        stop_runs(self.app, &self.app.records.trial_runs(self.project.id, self.branch, trial).await?).await
    }

    /// Pushes exactly what was tested, if it still may land.
    async fn land(&self, trial: u64, from: &str, commit: &str, group: &[Offered]) -> Result<(), ActError> {
        let (rules, words) = (self.rules().await?, Words::of(self.app, self.project).await?);
        for offered in group {
            let row = self.row(offered).await?;
            let why = match &row {
                Some(row) if row.state == "open" && row.head == offered.head => words.lacking(row, &rules),
                Some(row) if row.state == "landed" => None,
                _ => Some("it is not offered as it was tested".to_owned()),
            };
            if let Some(why) = why {
                let proposal = offered.proposal.clone();
                let not = Event::NotLanded { trial, head: None, sure: true, why: why.clone() };
                return tell(self.app, self.project, self.branch, vec![not, Event::Lacks { proposal, why: Some(why) }]).await;
            }
        }
        let pushed = self.app.mirror(self.project).push_from(self.branch, from, commit).await?;
        let not = |head: Option<String>, why: String| Event::NotLanded { trial, head, sure: true, why };
        let events = match pushed {
            Pushed::Done => vec![Event::Landed { trial }],
            Pushed::Holds(head) => vec![Event::Landed { trial }, Event::Moved { head }],
            Pushed::Moved(head) => vec![not(Some(head), "the branch moved meanwhile".into())],
            Pushed::Refused(said) => vec![not(None, format!("the repository does not take it: {said}"))],
            Pushed::Gone => {
                let gone = |offered: &Offered| Event::Leave {
                    proposal: offered.proposal.clone(),
                    why: format!("there is no branch {} any more", self.branch),
                };
                let mut events = vec![not(None, "its branch is gone".into())];
                events.extend(group.iter().map(gone));
                events
            }
        };
        tell(self.app, self.project, self.branch, events).await
    }

    /// The forge is told, where its profile says how: not every forge sees by itself that a proposal has landed.
    async fn tell_forge(&self, offered: &Offered, commit: &str) -> Result<(), ActError> {
        let Some(forge) = Forge::of(self.app, self.project) else { return Ok(()) };
        let forge = forge?;
        if !forge.can(Kind::Land) {
            return Ok(());
        }
        let values = BTreeMap::from([
            ("proposal", offered.proposal.clone()),
            ("commit", commit.to_owned()),
            ("target", self.branch.to_owned()),
            ("sentence", format!("landed in {} as {commit}", self.branch)),
        ]);
        Ok(forge.ask(Kind::Land, values).await.map(drop)?)
    }
}

fn put_how(how: How) -> PutHow {
    match how {
        How::Merge => PutHow::Merge,
        How::Squash => PutHow::Squash,
        How::Rebase => PutHow::Rebase,
    }
}

/// The commit's message: `Replay spring tides, too (proposal 7)`.
fn message(offered: &Offered, row: Option<&ProposalRow>) -> String {
    let title = row.map(|row| plain(row.title.lines().next().unwrap_or_default())).filter(|title| !title.is_empty());
    match title {
        Some(title) => format!("{title} (proposal {})\n", offered.proposal),
        None => format!("Proposal {}\n", offered.proposal),
    }
}

/// What a forge says of a proposal, fit for a commit: git takes no NUL, and a name is one line.
fn plain(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(200).collect::<String>().trim().to_owned()
}
