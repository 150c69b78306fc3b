//! `hook list`, `show`, `again`, `secret`: what forges sent, how it was read, and what came of it.

use crate::api::Api;
use crate::failure::{Done, OK};
use crate::out::{self, table};
use clap::{Subcommand, ValueEnum};
use ordotaxis_core::engine::State;
use ordotaxis_wire::delivery::DeliveryView;
use ordotaxis_wire::project::HookSecretView;
use ordotaxis_wire::words::bytes;
use serde_json::json;

#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum DeliveryState {
    Taken,
    /// Of a kind that starts nothing
    Nothing,
    /// Something was missing in it
    Unread,
    /// Not signed as the profile says
    Refused,
}

#[derive(Subcommand)]
pub(crate) enum HookCommand {
    /// Deliveries of a project's forge, newest first; they are kept for a week
    List {
        project: String,
        /// Only those that ended so
        #[arg(long, value_enum)]
        state: Option<DeliveryState>,
    },
    /// One delivery: its headers without secrets, its body, how it was read, what came of it
    Show { project: String, id: i64 },
    /// Read a delivery once more, as the profile is now, and do what it says
    Again { project: String, id: i64 },
    /// Make a new secret for the project's forge to sign with; the one before is of no use any more
    Secret { project: String },
}

pub(super) async fn hook(command: HookCommand, api: &Api, as_json: bool) -> Done {
    match command {
        HookCommand::List { project, state } => {
            let state = state.and_then(|state| state.to_possible_value()).map(|state| format!("?state={}", state.get_name()));
            let list: Vec<DeliveryView> = api.get(&format!("projects/{project}/deliveries{}", state.unwrap_or_default())).await?;
            if as_json {
                out::json(&list);
                return OK;
            }
            let head = ["delivery", "came", "state", "what it said", "what came of it"].map(str::to_owned).to_vec();
            let rows: Vec<Vec<String>> = std::iter::once(head).chain(list.iter().map(row)).collect();
            table(&rows, &format!("nothing came from a forge of {project}; `ordotaxis project show {project}` says where its webhooks go"));
        }
        HookCommand::Show { project, id } => {
            let delivery: DeliveryView = api.get(&format!("projects/{project}/deliveries/{id}")).await?;
            show(&delivery, as_json);
        }
        HookCommand::Again { project, id } => {
            let delivery: DeliveryView = api.post(&format!("projects/{project}/deliveries/{id}/again"), &json!({})).await?;
            show(&delivery, as_json);
        }
        HookCommand::Secret { project } => {
            let made: HookSecretView = api.post(&format!("projects/{project}/hook-secret"), &json!({})).await?;
            if as_json {
                out::json(&made);
                return OK;
            }
            out::print(format!("webhook to      {}", made.hook_url));
            out::print(format!("signed with     {}", made.hook_secret));
            out::remark("set it at the forge; it is not shown again, and the one before is of no use any more");
        }
    }
    OK
}

/// A delivery's state, coloured as what it means.
fn state(delivery: &DeliveryView) -> String {
    let like = match delivery.state.as_str() {
        "taken" => State::Passed,
        "nothing" => State::Skipped,
        _ => State::Failed,
    };
    out::as_state(like, &format!("{} {}", out::symbol(like), delivery.state))
}

/// What came of it, in one line.
fn outcome(delivery: &DeliveryView) -> String {
    let said = delivery.outcomes.iter().map(|outcome| match (&outcome.said, outcome.state.as_str()) {
        (Some(said), "given up") => format!("given up: {said}"),
        (Some(said), _) => said.clone(),
        (None, state) => state.to_owned(),
    });
    let said: Vec<String> = said.collect();
    if said.is_empty() { delivery.why.clone().unwrap_or_default() } else { said.join("; ") }
}

fn row(delivery: &DeliveryView) -> Vec<String> {
    let times = if delivery.times > 1 { format!(" (came {} times)", delivery.times) } else { String::new() };
    vec![
        delivery.id.to_string(),
        out::moment(delivery.at),
        state(delivery),
        format!("{}{times}", delivery.events.join("; ")),
        outcome(delivery),
    ]
}

fn show(delivery: &DeliveryView, as_json: bool) {
    if as_json {
        return out::json(delivery);
    }
    let from = delivery.address.as_ref().map(|address| format!(" from {address}")).unwrap_or_default();
    out::print(format!("{}  delivery {}, {}{from}", state(delivery), delivery.id, out::moment(delivery.at)));
    for event in &delivery.events {
        out::print(format!("  read         {event}"));
    }
    if let Some(why) = &delivery.why {
        out::print(format!("  why          {why}"));
    }
    for outcome in &delivery.outcomes {
        let said = outcome.said.as_deref().unwrap_or("nothing yet");
        out::print(format!("  led to       work {}, {}: {said}", outcome.work, outcome.state));
    }
    for (name, value) in &delivery.headers {
        out::print(out::dim(&format!("  {name}: {value}")));
    }
    out::print(out::dim(&format!("  body, {}:", bytes(u64::try_from(delivery.size).unwrap_or(0)))));
    let body = delivery.body.as_deref().unwrap_or_default();
    // JSON is easier to read over several lines.
    let parsed: Option<serde_json::Value> = serde_json::from_str(body).ok();
    let text = parsed.and_then(|value| serde_json::to_string_pretty(&value).ok()).unwrap_or_else(|| body.to_owned());
    text.lines().for_each(|line| out::print(plain(line)));
}

/// A body is hostile: nothing in it may steer the terminal.
fn plain(line: &str) -> String {
    line.chars().map(|c| if c.is_control() && c != '\t' { '\u{fffd}' } else { c }).collect()
}
