//! `group`: named lists of persons, written `@NAME`.

use crate::api::Api;
use crate::failure::{Done, OK};
use crate::out::{self, table};
use clap::Subcommand;
use ordotaxis_wire::person::{GroupView, SetGroup};
use reqwest::Method;

#[derive(Subcommand)]
pub(crate) enum GroupCommand {
    /// All groups and who is in each
    List,
    /// Make a group, or replace who is in it: these persons and no others
    Set { name: String, members: Vec<String> },
    /// Remove a group, and with it its roles
    Remove { name: String },
}

/// `@keepers` and `keepers` are the same group.
fn plain(name: &str) -> &str {
    name.trim_start_matches('@')
}

pub(super) async fn group(command: GroupCommand, api: &Api, json: bool) -> Done {
    match command {
        GroupCommand::List => {
            let groups: Vec<GroupView> = api.get("groups").await?;
            if json {
                out::json(&groups);
                return OK;
            }
            let head = ["group", "members"].map(str::to_owned).to_vec();
            let row = |group: &GroupView| vec![format!("@{}", group.name), group.members.join(" ")];
            let rows: Vec<Vec<String>> = std::iter::once(head).chain(groups.iter().map(row)).collect();
            table(&rows, "there are no groups; `ordotaxis group set NAME PERSON…` makes one");
        }
        GroupCommand::Set { name, members } => {
            let told = if members.is_empty() { "nobody".to_owned() } else { members.join(", ") };
            api.send(api.request(Method::PUT, &format!("groups/{}", plain(&name))).json(&SetGroup { members })).await?;
            out::print(format!("in @{}: {told}", plain(&name)));
        }
        GroupCommand::Remove { name } => {
            api.send(api.request(Method::DELETE, &format!("groups/{}", plain(&name)))).await?;
            out::print(format!("group @{} is removed, and with it its roles", plain(&name)));
        }
    }
    OK
}
