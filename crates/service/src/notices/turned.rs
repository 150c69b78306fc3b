//! A run of the main branch has ended: whether its pipeline broke by it, or is mended; and whose commits are between.

use crate::about::{failing, sentences};
use crate::app::App;
use crate::who::Who;
use ordotaxis_core::engine::State;
use ordotaxis_core::forge::Failure;
use ordotaxis_core::language::counted;
use ordotaxis_core::notice::{Change, Judged, Notice, Occasion, Part, Turn, Turns};
use ordotaxis_git::Between;
use ordotaxis_store::{Project, RunRow, StoreError};
use std::collections::BTreeSet;

/// So many commits are named at most.
const COMMITS: usize = 30;
const SHOWN: usize = 50;

/// What a run's end turned: how the pipeline is now, and the notice with the persons whom it concerns.
pub(super) struct Turned {
    pub(super) turns: Turns,
    pub(super) notice: Option<(Notice, BTreeSet<i64>)>,
}

/// Looks at a run of the main branch that has ended. None: people were told all that it says.
pub(super) async fn turned(app: &App, project: &Project, who: &Who, row: &RunRow) -> Result<Option<Turned>, StoreError> {
    let state = State::from_word(&row.state).unwrap_or(State::Failed);
    let failing = if state == State::Failed { failing(app, row, app.plan_of(row.id).await?.as_deref()).await? } else { Default::default() };
    let before = app.records.turns(project.id, &row.pipeline).await?;
    let mut turns = before.clone();
    let names = failing.all.iter().map(|(name, _)| name.clone()).collect();
    let judged = Judged { run: row.number, again: row.again_of.is_some(), commit: row.commit_id.clone(), state, failing: names };
    let turn = turns.judge(judged);
    if turns == before {
        return Ok(None);
    }
    let Some(turn) = turn else { return Ok(Some(Turned { turns, notice: None })) };
    let sentence = sentences(app, std::slice::from_ref(row)).await?.remove(0);
    let about = About { app, project, row, sentence };
    let (mut notice, good) = match turn {
        Turn::Broke { new, good, since } => {
            let new: Vec<&Failure> = failing.all.iter().filter(|(name, _)| new.contains(name)).map(|(_, failure)| failure).collect();
            (about.broke(&new, since), good)
        }
        Turn::Fixed { since, good, .. } => (about.fixed(since), good),
    };
    let between = commits(app, project, good.as_deref(), row).await;
    let own = between.iter().filter_map(|one| who.by_author(&one.author, &one.mail)).map(|person| person.id).collect();
    notice.commits = between.into_iter().map(|one| Change { id: one.id, title: one.title, author: one.author }).collect();
    Ok(Some(Turned { turns, notice: Some((notice, own)) }))
}

/// What came since it last passed; where it never did, or that commit is gone, the run's own commit. Telling does not fail
/// because a repository is away.
async fn commits(app: &App, project: &Project, good: Option<&str>, row: &RunRow) -> Vec<Between> {
    let mirror = app.mirror(project);
    let most = if good.is_some() { COMMITS } else { 1 };
    match mirror.between(good, &row.commit_id, most).await {
        Ok(found) if !found.is_empty() => found,
        Ok(_) | Err(_) => mirror.between(None, &row.commit_id, 1).await.unwrap_or_default(),
    }
}

struct About<'a> {
    app: &'a App,
    project: &'a Project,
    row: &'a RunRow,
    sentence: String,
}

impl About<'_> {
    /// `main`, or `main, pipeline soak,`
    fn what(&self) -> String {
        let branch = &self.project.main_branch;
        if self.row.pipeline == "main" { branch.clone() } else { format!("{branch}, pipeline {},", self.row.pipeline) }
    }

    fn notice(&self, occasion: Occasion, sentence: String, parts: Vec<Part>, thread: i64) -> Notice {
        Notice {
            project: self.project.name.clone(),
            occasion,
            sentence,
            parts,
            link: format!("{}/runs/{}/{}", self.app.public_url, self.project.name, self.row.number),
            thread: format!("{}/{thread}", self.project.name),
            run: Some(format!("{}/{}", self.project.name, self.row.number)),
            proposal: None,
            commit: Some(self.row.commit_id.clone()),
            commits: Vec::new(),
        }
    }

    fn broke(&self, new: &[&Failure], since: Option<i64>) -> Notice {
        let lines = new.iter().take(SHOWN).map(|one| line(one)).collect();
        let parts = vec![Part { title: "New failures".into(), lines }];
        let sentence = match since {
            None => format!("{} is broken: {}", self.what(), self.sentence),
            Some(since) => {
                let more = if new.len() == 1 { "1 more fails".to_owned() } else { format!("{} more fail", new.len()) };
                format!("{} is still broken since {}/{since}, and {more}", self.what(), self.project.name)
            }
        };
        self.notice(Occasion::Broke, sentence, parts, since.unwrap_or(self.row.number))
    }

    fn fixed(&self, since: i64) -> Notice {
        let runs = u64::try_from(self.row.number - since).unwrap_or_default();
        let runs = counted(usize::try_from(runs).unwrap_or(usize::MAX), "run");
        let parts = vec![Part { title: "It was broken".into(), lines: vec![format!("since {}/{since}, {runs} ago", self.project.name)] }];
        self.notice(Occasion::Fixed, format!("{} is fixed: {}", self.what(), self.sentence), parts, since)
    }
}

fn line(failure: &Failure) -> String {
    let test = failure.test.as_ref().map(|test| format!(" {test}")).unwrap_or_default();
    let message = failure.message.as_ref().map(|message| format!(": {message}")).unwrap_or_default();
    let place = failure.place.as_ref().map(|place| format!(" at {place}")).unwrap_or_default();
    format!("{}{test}{message}{place}", failure.job)
}
