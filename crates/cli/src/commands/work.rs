//! `work list`, `work again`: what could not be done outside.

use crate::api::Api;
use crate::failure::{Done, OK};
use crate::out::{self, table};
use clap::Subcommand;
use ordotaxis_wire::work::WorkView;
use reqwest::Method;

#[derive(Subcommand)]
pub(crate) enum WorkCommand {
    /// What was given up, and what failed and is tried again, with the reason
    List,
    /// Try one once more, now
    Again { id: i64 },
}

pub(super) async fn work(command: WorkCommand, api: &Api, json: bool) -> Done {
    match command {
        WorkCommand::List => {
            let work: Vec<WorkView> = api.get("work").await?;
            if json {
                out::json(&work);
                return OK;
            }
            let head = ["work", "kind", "about", "commit", "tries", "state", "why"].map(str::to_owned).to_vec();
            let rows: Vec<Vec<String>> = std::iter::once(head).chain(work.iter().map(row)).collect();
            table(&rows, "nothing was given up, and nothing waits for another try");
        }
        WorkCommand::Again { id } => {
            api.send(api.request(Method::POST, &format!("work/{id}/again"))).await?;
            out::print(format!("work {id} is tried once more"));
        }
    }
    OK
}

fn row(one: &WorkView) -> Vec<String> {
    let commit = one.commit.as_deref().unwrap_or_default();
    let state = match (one.next_at, one.given_up_at) {
        (Some(next), _) => format!("tried again {}", out::moment(next)),
        (None, Some(at)) => format!("given up {}", out::moment(at)),
        (None, None) => one.state.clone(),
    };
    vec![
        one.id.to_string(),
        one.kind.clone(),
        one.run.clone().unwrap_or_else(|| one.project.clone()),
        commit.get(..8).unwrap_or(commit).to_owned(),
        one.tries.to_string(),
        state,
        one.why.clone(),
    ]
}
