//! Runs of a proposal's newest commit once more.

use super::comment::newest_runs;
use crate::app::App;
use crate::keeper::{AgainRefused, RunCommand};
use crate::occasions::begin_again;
use ordotaxis_core::access::Actor;
use ordotaxis_core::engine::State;
use ordotaxis_core::language::counted;
use ordotaxis_store::{Project, ProposalRow, RunRow, StoreError};

/// The newest run of each pipeline once more: all of it, or what failed in it. Gives what to answer.
pub(super) async fn again(
    app: &App,
    actor: &Actor,
    project: &Project,
    row: &ProposalRow,
    failed: bool,
) -> Result<Result<String, String>, StoreError> {
    let runs = newest_runs(app, project, row).await?;
    if runs.is_empty() {
        return Ok(Err("its newest commit has no run yet".into()));
    }
    let (mut begun, mut not) = (Vec::new(), Vec::new());
    for run in &runs {
        let name = format!("{}/{}", run.project, run.number);
        if State::from_word(&run.state).is_some_and(|state| !state.is_end()) {
            not.push(format!("{name} has not ended"));
            continue;
        }
        match if failed { failed_once_more(app, actor, run, &name).await? } else { once_more(app, actor, project, run, &name).await? } {
            Ok(name) => begun.push(name),
            Err(why) => not.push(why),
        }
    }
    Ok(match begun.len() {
        0 => Err(not.join("; ")),
        count => Ok(format!("{} begun: {}", counted(count, "run"), begun.join(", "))),
    })
}

async fn once_more(app: &App, actor: &Actor, project: &Project, run: &RunRow, name: &str) -> Result<Result<String, String>, StoreError> {
    let key = begin_again(app, actor, project, run, false).await?;
    Ok(key
        .map(|key| format!("{}/{}", run.project, key.number))
        .ok_or_else(|| format!("{name} could not be planned: push a corrected file")))
}

async fn failed_once_more(app: &App, actor: &Actor, run: &RunRow, name: &str) -> Result<Result<String, String>, StoreError> {
    let by = actor.clone();
    let asked = app.keeper.ask(|reply| RunCommand::Again { run: run.id, jobs: Vec::new(), by, fresh: false, reply }).await;
    Ok(match asked {
        Ok(Ok(())) => Ok(name.to_owned()),
        Ok(Err(AgainRefused::NothingFailed)) => Err(format!("nothing of {name} failed")),
        Ok(Err(_)) => Err(format!("{name} cannot be done again now")),
        Err(_) => Err("the service is ending; ask again".into()),
    })
}
