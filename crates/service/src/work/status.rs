//! Tells a forge how a commit's run is, as its profile says.

use super::Outcome;
use crate::app::App;
use crate::profile::filled;
use crate::react::Message;
use ordotaxis_store::{DueWork, Project, StoreError};
use std::collections::BTreeMap;

/// After so many tries, about three days, it is given up.
pub(super) const MOST_TRIES: u32 = 900;

#[derive(Debug, thiserror::Error)]
enum SendError {
    #[error("there is no forge profile `{0}`")]
    NoProfile(String),
    #[error("the profile's address cannot be filled in")]
    Template,
    #[error("the forge could not be reached: {0}")]
    Unreachable(#[from] reqwest::Error),
    #[error("the forge answered {status}: {text}")]
    Refused { status: u16, text: String },
}

impl SendError {
    /// Trying again cannot help: what was asked for is not there, is not allowed, or was not understood.
    fn is_final(&self) -> bool {
        match self {
            SendError::NoProfile(_) | SendError::Template => true,
            SendError::Refused { status, .. } => (400..500).contains(status) && !matches!(status, 408 | 425 | 429),
            SendError::Unreachable(_) => false,
        }
    }
}

/// Sends one status to a project's forge. A repeat sets the same status again.
pub(super) async fn send(app: &App, due: &DueWork) -> Result<Outcome, StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(Outcome::Done(None)) };
    let Ok(message) = serde_json::from_str::<Message>(&due.body) else {
        return Ok(Outcome::Hopeless("the message cannot be read".into()));
    };
    Ok(match call(app, &project, &due.lane, &message).await {
        Ok(()) => Outcome::Done(None),
        Err(error) if error.is_final() => Outcome::Hopeless(error.to_string()),
        Err(error) => Outcome::Failed { why: error.to_string(), tries: MOST_TRIES },
    })
}

/// The page of the run that is reported.
pub(super) fn link(app: &App, message: &Message) -> String {
    format!("{}/runs/{}", app.public_url, message.run)
}

/// Makes the one HTTP request that sets a status.
async fn call(app: &App, project: &Project, commit: &str, message: &Message) -> Result<(), SendError> {
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
    url.set("url", forge.url.trim_end_matches('/')).set("repository", forge.repository.as_str()).set("commit", commit);
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
