//! Works off occasions: fetch, read the pipelines at the commit, plan, write the run down. A mistake in the file is a
//! verdict too: a run that failed, with the diagnostics.

use crate::app::App;
use crate::clock;
use crate::keeper::{Command, RunInfo};
use crate::sentence::{Summary, sentence};
use ordotaxis_core::engine::State;
use ordotaxis_core::language::{Code, Diagnostic};
use ordotaxis_core::plan::{Event, Occasion, Plan, plan, start_rules, starts};
use ordotaxis_git::{CommitInfo, GitError, Mirror};
use ordotaxis_store::{DueOccasion, Message, NewRunRow, Project, RunKey, StoreError};
use ordotaxis_wire::plan::{DiagnosticView, diagnostic_views};
use std::sync::Arc;
use std::time::Duration;

pub(crate) const ROOT_FILE: &str = "ordotaxis.toml";
const FOLDER: &str = "ordotaxis";

#[derive(Debug, thiserror::Error)]
pub(crate) enum OccasionError {
    #[error(transparent)]
    Git(#[from] GitError),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("the repository does not have commit {0}")]
    NoCommit(String),
}

/// Works until told to stop. A project's occasions are worked off in the order they came; projects side by side.
pub(crate) async fn work(app: App) {
    loop {
        let pause = match app.records.due_occasions(clock::now()).await {
            Ok(due) if due.is_empty() => next_pause(&app).await,
            Ok(due) => {
                work_off(&app, due).await;
                continue;
            }
            Err(error) => {
                tracing::error!(%error, "occasions could not be read");
                Duration::from_secs(1)
            }
        };
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = app.occasions.notified() => {}
            () = tokio::time::sleep(pause) => {}
        }
    }
}

async fn next_pause(app: &App) -> Duration {
    let next = app.records.next_occasion_at().await.ok().flatten();
    let wait = next.map_or(60_000, |at| (at - clock::now()).clamp(1, 60_000));
    Duration::from_millis(wait.unsigned_abs())
}

async fn work_off(app: &App, due: Vec<DueOccasion>) {
    let mut projects: std::collections::BTreeMap<i64, Vec<DueOccasion>> = std::collections::BTreeMap::new();
    for occasion in due {
        projects.entry(occasion.project_id).or_default().push(occasion);
    }
    let mut tasks = tokio::task::JoinSet::new();
    for occasions in projects.into_values() {
        let app = app.clone();
        tasks.spawn(async move {
            for occasion in occasions {
                if let Err(error) = work_off_one(&app, &occasion).await {
                    tracing::error!(%error, occasion = occasion.id, "an occasion could not be worked off");
                }
            }
        });
    }
    while tasks.join_next().await.is_some() {}
}

async fn work_off_one(app: &App, due: &DueOccasion) -> Result<(), StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(()) };
    let Ok(occasion) = serde_json::from_str::<Occasion>(&due.body) else {
        return app.records.occasion_done(due.id, "it could not be read", clock::now()).await;
    };
    match begin_all(app, &project, &occasion).await {
        Ok(said) => app.records.occasion_done(due.id, &said, clock::now()).await,
        Err(OccasionError::Store(error)) => Err(error),
        Err(error) if due.tries + 1 < i64::from(app.settings.fetch_tries) => {
            let pause = app.settings.retry_pause.as_millis() << due.tries.clamp(0, 10);
            let next = clock::now() + i64::try_from(pause).unwrap_or(60_000);
            app.records.occasion_again(due.id, &error.to_string(), next).await
        }
        Err(error) => {
            let why = format!("{error} (tried {} times)", due.tries + 1);
            unreadable(app, &project, &occasion, &why).await?;
            app.records.occasion_done(due.id, &why, clock::now()).await
        }
    }
}

/// Begins every pipeline of the commit that this occasion starts. Says in words what came of it.
async fn begin_all(app: &App, project: &Project, occasion: &Occasion) -> Result<String, OccasionError> {
    let mirror = app.mirrors.get(&project.name, &project.git_url);
    if !mirror.need(&occasion.commit, occasion.branch.as_deref()).await? {
        return Err(OccasionError::NoCommit(occasion.commit.clone()));
    }
    let commit = mirror.commit(&occasion.commit).await?;
    let files = pipeline_files(&mirror, &occasion.commit).await?;
    if files.is_empty() {
        let run = begin_broken(app, project, occasion, &commit, "main", vec![no_file()]).await?;
        return Ok(format!("no pipeline file; {}", run.map_or("known already".into(), |run| format!("run {}", run.number))));
    }
    let mut said = Vec::new();
    for (name, path) in files {
        if let Some(run) = begin(app, project, occasion, &mirror, &commit, (&name, &path)).await? {
            said.push(format!("run {}", run.number));
        }
    }
    Ok(if said.is_empty() { "nothing to start".into() } else { said.join(", ") })
}

/// The commit's pipelines: (name, path).
pub(crate) async fn pipeline_files(mirror: &Mirror, commit: &str) -> Result<Vec<(String, String)>, GitError> {
    let mut found = Vec::new();
    let root = mirror.files(commit, "").await?;
    if root.iter().any(|path| path == ROOT_FILE) {
        found.push(("main".to_owned(), ROOT_FILE.to_owned()));
    }
    if root.iter().any(|path| path == FOLDER) {
        for path in mirror.files(commit, FOLDER).await? {
            if let Some(name) = path.strip_prefix("ordotaxis/").and_then(|name| name.strip_suffix(".toml")) {
                found.push((name.to_owned(), path.clone()));
            }
        }
    }
    Ok(found)
}

fn no_file() -> DiagnosticView {
    let diagnostic = Diagnostic::error(Code::MissingFile, 0..0, "the commit has no pipeline file")
        .hint("add `ordotaxis.toml` in the root, or a file in the folder `ordotaxis`");
    diagnostic_views(ROOT_FILE, "", &[diagnostic]).remove(0)
}

/// Begins one pipeline, if its start rules want that; with mistakes in its file, the run is a failed one at once.
pub(crate) async fn begin(
    app: &App,
    project: &Project,
    occasion: &Occasion,
    mirror: &Mirror,
    commit: &CommitInfo,
    (name, path): (&str, &str),
) -> Result<Option<RunKey>, OccasionError> {
    let bytes = mirror.read(&commit.id, path).await.unwrap_or_default();
    let text = String::from_utf8_lossy(&bytes);
    match plan(&text, name, occasion) {
        Err(diagnostics) => {
            let views = diagnostic_views(path, &text, &diagnostics);
            begin_broken(app, project, occasion, commit, name, views).await
        }
        Ok(planned) => {
            let wanted = start_rules(&text).is_some_and(|rules| starts(&rules, occasion));
            if wanted { begin_planned(app, project, occasion, commit, planned).await } else { Ok(None) }
        }
    }
}

async fn begin_planned(
    app: &App,
    project: &Project,
    occasion: &Occasion,
    commit: &CommitInfo,
    planned: Plan,
) -> Result<Option<RunKey>, OccasionError> {
    let title = planned.title.clone();
    let row = NewRunRow { title: title.as_deref(), plan: Some(&planned), ..blank(project, occasion, commit, &planned.pipeline) };
    let jobs = i64::try_from(planned.jobs.len()).unwrap_or(i64::MAX);
    let summary = Summary { jobs, ..Summary::default() };
    let words = sentence(State::Waiting, &summary, None, None);
    let message = |number| vec![("status", message(project, occasion, &planned.pipeline, number, State::Waiting, &words, None))];
    let Some(key) = app.records.begin_run(&row, clock::now(), message).await? else { return Ok(None) };
    app.keeper.outbox.notify_one();
    let info = RunInfo {
        id: key.id,
        number: key.number,
        project_id: project.id,
        project: project.name.clone(),
        git_url: project.git_url.clone(),
        commit: commit.id.clone(),
        commit_time: commit.time,
        branch: occasion.branch.clone(),
    };
    // A keeper that is away is about to stop; the run is on disk and begins at the next start.
    let _ = app.keeper.tell(Command::Begin { info, plan: Arc::new(planned) }).await;
    Ok(Some(key))
}

/// A run that could not be planned: failed, with the diagnostics as its reason.
async fn begin_broken(
    app: &App,
    project: &Project,
    occasion: &Occasion,
    commit: &CommitInfo,
    name: &str,
    diagnostics: Vec<DiagnosticView>,
) -> Result<Option<RunKey>, OccasionError> {
    let why = mistakes(&diagnostics);
    begin_failed(app, project, occasion, commit, name, &why, &diagnostics).await
}

async fn begin_failed(
    app: &App,
    project: &Project,
    occasion: &Occasion,
    commit: &CommitInfo,
    name: &str,
    why: &str,
    diagnostics: &[DiagnosticView],
) -> Result<Option<RunKey>, OccasionError> {
    let json = serde_json::to_string(diagnostics).unwrap_or_default();
    let row = NewRunRow { state: State::Failed, why: Some(why), diagnostics: Some(&json), ..blank(project, occasion, commit, name) };
    let now = clock::now();
    let words = sentence(State::Failed, &Summary::default(), None, Some(why));
    let messages =
        |number| ["status", "note"].map(|kind| (kind, message(project, occasion, name, number, State::Failed, &words, Some(now)))).to_vec();
    let key = app.records.begin_run(&row, now, messages).await?;
    app.keeper.outbox.notify_one();
    Ok(key)
}

/// The repository could not be read: told as a failed run, so that it is seen where runs are looked for.
async fn unreadable(app: &App, project: &Project, occasion: &Occasion, why: &str) -> Result<(), StoreError> {
    let commit = CommitInfo { id: occasion.commit.clone(), title: "(the commit could not be read)".into(), author: String::new(), time: 0 };
    match begin_failed(app, project, occasion, &commit, "main", why, &[]).await {
        Err(OccasionError::Store(error)) => Err(error),
        _ => Ok(()),
    }
}

fn mistakes(diagnostics: &[DiagnosticView]) -> String {
    let Some(first) = diagnostics.first() else { return "the pipeline file cannot be run".into() };
    let place = if first.code == Code::MissingFile.word() { String::new() } else { format!("{}:{}: ", first.file, first.line) };
    match diagnostics.len() {
        1 => format!("{place}{}", first.message),
        more => format!("{place}{} (and {} more)", first.message, more - 1),
    }
}

fn blank<'a>(project: &Project, occasion: &'a Occasion, commit: &'a CommitInfo, pipeline: &'a str) -> NewRunRow<'a> {
    NewRunRow {
        project_id: project.id,
        pipeline,
        title: None,
        state: State::Waiting,
        why: None,
        commit_id: &commit.id,
        commit_title: &commit.title,
        commit_author: &commit.author,
        commit_time: commit.time,
        branch: occasion.branch.as_deref(),
        event: match occasion.event {
            Event::Push => "push",
            Event::ByHand => "by_hand",
        },
        started_by: occasion.by.as_deref(),
        plan: None,
        diagnostics: None,
    }
}

fn message(
    project: &Project,
    occasion: &Occasion,
    pipeline: &str,
    number: i64,
    state: State,
    sentence: &str,
    ended: Option<i64>,
) -> String {
    let message = Message {
        run: format!("{}/{number}", project.name),
        pipeline: pipeline.to_owned(),
        state,
        sentence: sentence.to_owned(),
        branch: occasion.branch.clone(),
        started_at: ended,
        ended_at: ended,
    };
    serde_json::to_string(&message).unwrap_or_default()
}
