//! `message list`, `message again`: what could not be told outside.

use super::{Done, OK, show, table};
use crate::api::Api;
use crate::options::MessageCommand;
use crate::out;
use ordotaxis_wire::view::MessageView;
use reqwest::Method;

pub(super) async fn message(command: MessageCommand, api: &Api, json: bool) -> Done {
    match command {
        MessageCommand::List => {
            let messages: Vec<MessageView> = api.get("messages").await?;
            if json {
                out::json(&messages);
                return OK;
            }
            let head = ["message", "kind", "about", "commit", "tries", "given up", "why"].map(str::to_owned).to_vec();
            let row = |one: &MessageView| {
                let about = one.run.clone().unwrap_or_else(|| one.project.clone());
                let commit = one.commit.get(..8).unwrap_or(&one.commit).to_owned();
                vec![
                    one.id.to_string(),
                    one.kind.clone(),
                    about,
                    commit,
                    one.tries.to_string(),
                    show::moment(one.given_up_at),
                    one.why.clone(),
                ]
            };
            let rows: Vec<Vec<String>> = std::iter::once(head).chain(messages.iter().map(row)).collect();
            table(&rows, "no message was given up");
        }
        MessageCommand::Again { id } => {
            api.send(api.request(Method::POST, &format!("messages/{id}/again"))).await?;
            out::print(format!("message {id} is sent once more"));
        }
    }
    OK
}
