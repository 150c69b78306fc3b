//! `connection`: set, list, remove. A password comes from standard input, never from an argument that others could read.

use super::secret;
use crate::api::Api;
use crate::failure::{Done, OK};
use crate::out;
use crate::out::table;
use crate::reach::ReachOptions;
use clap::Subcommand;
use ordotaxis_wire::secret::ConnectionView;
use ordotaxis_wire::secret::NewConnection;
use reqwest::Method;

#[derive(Subcommand)]
pub(crate) enum ConnectionCommand {
    /// Set a connection; its password is read from standard input
    Set {
        project: String,
        name: String,
        #[arg(long)]
        user: String,
        /// Where it leads, for jobs whose steps publish by themselves
        #[arg(long)]
        address: Option<String>,
        #[command(flatten)]
        reach: ReachOptions,
    },
    /// The names of a project's connections
    List { project: String },
    /// Remove a connection
    Remove { project: String, name: String },
}

pub(super) async fn connection(command: ConnectionCommand, api: &Api, json: bool) -> Done {
    match command {
        ConnectionCommand::Set { project, name, user, address, reach } => {
            let ask = NewConnection { user, address, password: secret::value()?, reach: reach.into() };
            api.send(api.request(Method::PUT, &format!("projects/{project}/connections/{name}")).json(&ask)).await?;
            out::print(format!("connection {name} of {project} is set; jobs that name it get it from now on"));
            OK
        }
        ConnectionCommand::List { project } => {
            let rows: Vec<ConnectionView> = api.get(&format!("projects/{project}/connections")).await?;
            if json {
                out::json(&rows);
                return OK;
            }
            let head = ["connection", "user", "address", "set by", "set"].map(str::to_owned).to_vec();
            let row = |row: &ConnectionView| {
                vec![
                    row.name.clone(),
                    row.user.clone(),
                    row.address.clone().unwrap_or_default(),
                    row.set_by.clone(),
                    out::moment(row.set_at),
                ]
            };
            let rows: Vec<Vec<String>> = std::iter::once(head).chain(rows.iter().map(row)).collect();
            table(&rows, &format!("{project} has no connections; `ordotaxis connection set {project} NAME --user USER` sets one"));
            OK
        }
        ConnectionCommand::Remove { project, name } => {
            api.send(api.request(Method::DELETE, &format!("projects/{project}/connections/{name}"))).await?;
            out::print(format!("connection {name} of {project} is removed"));
            OK
        }
    }
}
