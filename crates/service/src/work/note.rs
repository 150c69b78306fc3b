//! Writes a run's verdict, or what someone remarked on it, into the repository's notes.

use super::Outcome;
use super::link::link;
use super::status::MOST_TRIES;
use crate::app::App;
use crate::react::{Message, Remark};
use ordotaxis_store::{DueWork, StoreError};
use serde_json::{Value, json};

/// Writes a run's note and pushes it. A repeat replaces the note with the same.
pub(super) async fn write(app: &App, due: &DueWork) -> Result<Outcome, StoreError> {
    let Some(project) = app.records.project_by_id(due.project_id).await? else { return Ok(Outcome::Done(None)) };
    let Some((branch, marks, line)) = line(app, &due.body) else {
        return Ok(Outcome::Hopeless("the note cannot be read".into()));
    };
    let mirror = app.mirror(&project);
    let failed = |error: ordotaxis_git::GitError| Ok(Outcome::Failed { why: error.to_string(), tries: MOST_TRIES, after: None });
    match mirror.need(&due.lane, branch.as_deref()).await {
        Ok(true) => {}
        Ok(false) => return Ok(Outcome::Hopeless(format!("the repository does not have commit {}", due.lane))),
        Err(error) => return failed(error),
    }
    match mirror.write_note(&due.lane, &marks, &line.to_string()).await {
        Ok(()) => Ok(Outcome::Done(None)),
        Err(error) => failed(error),
    }
}

/// The branch that has the commit, where it is known; what marks the line that it replaces; and the line. Another service may
/// have a run of the same name: its line has another address.
fn line(app: &App, body: &str) -> Option<(Option<String>, Vec<String>, Value)> {
    let mark = |key: &str, value: &str| format!("\"{key}\":{}", json!(value));
    if let Ok(remark) = serde_json::from_str::<Remark>(body) {
        let of = format!("{} {}", remark.run, remark.by);
        let line = json!({ "run": of, "by": remark.by, "note": remark.note });
        return Some((None, vec![mark("run", &of)], line));
    }
    let message: Message = serde_json::from_str(body).ok()?;
    let time = |ms: Option<i64>| ms.map(|ms| ordotaxis_wire::moment(ms).to_string());
    let line = json!({
        "run": message.run,
        "pipeline": message.pipeline,
        "state": message.state,
        "sentence": message.sentence,
        "started_at": time(message.started_at),
        "ended_at": time(message.ended_at),
        "url": link(app, &message),
    });
    let marks = vec![mark("run", &message.run), mark("url", &link(app, &message))];
    Some((message.branch, marks, line))
}
