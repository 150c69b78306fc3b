//! Sends what the outbox holds: commit statuses to forges, verdicts as git notes. For each commit in order, again
//! until accepted, with growing pauses; a restart goes on where the last one stopped.

use crate::app::App;
use crate::clock;
use crate::lanes::Lanes;
use crate::profile::filled;
use ordotaxis_store::{DueMessage, Message, Project, StoreError};
use std::collections::BTreeMap;
use std::time::Duration;

/// The longest pause between two tries.
const LONGEST_PAUSE: Duration = Duration::from_secs(300);

#[derive(Debug, thiserror::Error)]
enum SendError {
    #[error("the message cannot be read")]
    Form,
    #[error("there is no forge profile `{0}`")]
    NoProfile(String),
    #[error("the profile's address cannot be filled in")]
    Template,
    #[error("the forge could not be reached: {0}")]
    Unreachable(#[from] reqwest::Error),
    #[error("the forge answered {status}: {text}")]
    Refused { status: u16, text: String },
    #[error("the repository does not have commit {0}")]
    NoCommit(String),
    #[error(transparent)]
    Git(#[from] ordotaxis_git::GitError),
}

/// After so many tries, about three days, it is given up.
const MOST_TRIES: i64 = 900;
/// How many messages of one project are sent at the same time: a slow forge holds up nobody else's.
const AT_ONCE: usize = 4;
impl SendError {
    /// Trying again cannot help: what was asked for is not there, is not allowed, or was not understood.
    fn is_final(&self) -> bool {
        match self {
            SendError::Form | SendError::NoProfile(_) | SendError::Template | SendError::NoCommit(_) => true,
            SendError::Refused { status, .. } => (400..500).contains(status) && !matches!(status, 408 | 425 | 429),
            SendError::Unreachable(_) | SendError::Git(_) => false,
        }
    }
}

/// Works until told to stop. Messages are on their way side by side: of each commit and kind one, of each project a few.
pub(crate) async fn work(app: App) {
    let mut lanes = Lanes::new(AT_ONCE);
    loop {
        let now = clock::now();
        let pause = match app.records.due_messages(now, 2 * AT_ONCE as i64).await {
            Ok(due) => {
                for message in due {
                    let (id, project, app) = (message.id, message.project_id, app.clone());
                    lanes.take(id, project, || async move { send_one(&app, message).await });
                }
                next_pause(&app, now).await
            }
            Err(error) => {
                tracing::error!(%error, "the outbox could not be read");
                Duration::from_secs(1)
            }
        };
        tokio::select! {
            () = app.stop.cancelled() => return,
            () = app.keeper.outbox.notified() => {}
            () = lanes.changed() => {}
            () = tokio::time::sleep(pause) => {}
        }
    }
}

async fn next_pause(app: &App, now: i64) -> Duration {
    let next = app.records.next_message_at(now).await.ok().flatten();
    let wait = next.map_or(60_000, |at| (at - clock::now()).clamp(1, 60_000));
    Duration::from_millis(wait.unsigned_abs())
}

async fn send_one(app: &App, due: DueMessage) -> Result<(), StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(()) };
    match send(app, &project, &due).await {
        Ok(()) => app.records.message_sent(due.id, clock::now()).await,
        Err(error) if error.is_final() || due.tries + 1 >= MOST_TRIES => {
            tracing::warn!(%error, message = due.id, "a message is given up; `ordotaxis message again` sends it once more");
            app.records.message_given_up(due.id, &error.to_string(), clock::now()).await
        }
        Err(error) => {
            let doubled = app.settings.retry_pause.saturating_mul(1 << due.tries.clamp(0, 16));
            let pause = doubled.min(LONGEST_PAUSE).mul_f64(0.8 + 0.4 * rand::random::<f64>());
            tracing::warn!(%error, message = due.id, "a message was not accepted; it is sent again");
            let next = clock::now() + i64::try_from(pause.as_millis()).unwrap_or(60_000);
            app.records.message_again(due.id, &error.to_string(), next).await
        }
    }
}

async fn send(app: &App, project: &Project, due: &DueMessage) -> Result<(), SendError> {
    let message: Message = serde_json::from_str(&due.body).map_err(|_| SendError::Form)?;
    match due.kind.as_str() {
        "note" => send_note(app, project, due, &message).await,
        _ => send_status(app, project, due, &message).await,
    }
}

async fn send_note(app: &App, project: &Project, due: &DueMessage, message: &Message) -> Result<(), SendError> {
    let mirror = app.mirror(project);
    if !mirror.need(&due.commit_id, message.branch.as_deref()).await? {
        return Err(SendError::NoCommit(due.commit_id.clone()));
    }
    let time = |ms: Option<i64>| ms.map(|ms| ordotaxis_wire::moment(ms).to_string());
    let line = serde_json::json!({
        "run": message.run,
        "pipeline": message.pipeline,
        "state": message.state,
        "sentence": message.sentence,
        "started_at": time(message.started_at),
        "ended_at": time(message.ended_at),
        "url": link(app, message),
    });
    mirror.write_note(&due.commit_id, &message.run, &line.to_string()).await?;
    Ok(())
}

fn link(app: &App, message: &Message) -> String {
    format!("{}/runs/{}", app.public_url, message.run)
}

async fn send_status(app: &App, project: &Project, due: &DueMessage, message: &Message) -> Result<(), SendError> {
    let Some(forge) = &project.forge else { return Ok(()) };
    let profile = app.profiles.get(&forge.profile).ok_or_else(|| SendError::NoProfile(forge.profile.clone()))?;
    let Some(request) = &profile.status else { return Ok(()) };
    let values: BTreeMap<&str, String> = BTreeMap::from([
        ("context", format!("ordotaxis/{}", message.pipeline)),
        ("sentence", message.sentence.clone()),
        ("link", link(app, message)),
        ("token", app.forge_token(project).unwrap_or_default()),
    ]);
    let mut url = uritemplate::UriTemplate::new(&request.url);
    url.set("url", forge.url.trim_end_matches('/')).set("repository", forge.repository.as_str()).set("commit", due.commit_id.as_str());
    let method = reqwest::Method::from_bytes(request.method.as_bytes()).map_err(|_| SendError::Template)?;
    let mut call = app.http.request(method, url.build()).json(&request.body(message.state, &values));
    for (name, value) in &request.headers {
        call = call.header(name, filled(value, &values));
    }
    let answer = call.send().await?;
    let status = answer.status();
    if status.is_success() {
        return Ok(());
    }
    let text = answer.text().await.unwrap_or_default().chars().take(200).collect();
    Err(SendError::Refused { status: status.as_u16(), text })
}
