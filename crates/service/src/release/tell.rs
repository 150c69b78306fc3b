//! The forge is told of a release, where its profile says how.

use crate::app::App;
use crate::clock;
use crate::forge::Forge;
use crate::work::Outcome;
use ordotaxis_core::forge::Kind;
use ordotaxis_store::{Project, StoreError};
use std::collections::BTreeMap;

/// After so many tries, about three days, it is given up.
const MOST_TRIES: u32 = 900;

/// Tells of it as it is now: also that its notes are others, or that it was withdrawn.
pub(super) async fn tell(app: &App, project: &Project, version: &str) -> Result<Outcome, StoreError> {
    let Some(row) = app.records.release(project.id, version).await?.filter(|row| row.state != "draft") else {
        return Ok(Outcome::Done(None));
    };
    let forge = match Forge::of(app, project) {
        None => return Ok(Outcome::Done(None)),
        Some(Ok(forge)) if !forge.can(Kind::Release) => return Ok(Outcome::Done(None)),
        Some(Ok(forge)) => forge,
        Some(Err(error)) => return said(app, row.id, Err(error.to_string())).await,
    };
    let text = match &row.reason {
        Some(reason) if row.state == "withdrawn" => format!("**Withdrawn**: {reason}\n\n{}", row.notes),
        _ => row.notes.clone(),
    };
    let values = BTreeMap::from([
        ("version", row.version.clone()),
        ("tag", row.tag.clone()),
        ("commit", row.commit_id.clone()),
        ("title", row.title.clone()),
        ("state", row.state.clone()),
        ("text", text),
        ("link", format!("{}/projects/{}/releases/{}", app.public_url, project.name, row.version)),
    ]);
    match forge.ask(Kind::Release, values).await {
        Ok(_) => said(app, row.id, Ok(())).await,
        Err(error) if error.is_final() => said(app, row.id, Err(error.to_string())).await,
        Err(error) => Ok(Outcome::Failed { after: error.after(), why: error.to_string(), tries: MOST_TRIES }),
    }
}

async fn said(app: &App, release: i64, told: Result<(), String>) -> Result<Outcome, StoreError> {
    let words = match &told {
        Ok(()) => "the forge knows of it".to_owned(),
        Err(why) => format!("the forge was not told: {why}"),
    };
    let mut tx = app.records.tx_by_rule("release", clock::now()).await?;
    tx.set_release_told(release, &words).await?;
    tx.commit().await?;
    Ok(match told {
        Ok(()) => Outcome::Done(None),
        Err(why) => Outcome::Hopeless(why),
    })
}
