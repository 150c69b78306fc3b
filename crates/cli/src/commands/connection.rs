//! `connection`: set, list, remove. A password comes from standard input, never from an argument that others could read.

use super::{Done, OK, secret, show, table};
use crate::api::Api;
use crate::options::ConnectionCommand;
use crate::out;
use ordotaxis_wire::ask::NewConnection;
use ordotaxis_wire::view::ConnectionView;
use reqwest::Method;

pub(super) async fn connection(command: ConnectionCommand, api: &Api, json: bool) -> Done {
    match command {
        ConnectionCommand::Set { project, name, user, reach } => {
            let ask = NewConnection { user, password: secret::value()?, reach: reach.into() };
            api.send(api.request(Method::PUT, &format!("projects/{project}/connections/{name}")).json(&ask)).await?;
            out::print(format!("connection {name} of {project} is set; jobs that publish with it are lent it from now on"));
            OK
        }
        ConnectionCommand::List { project } => {
            let rows: Vec<ConnectionView> = api.get(&format!("projects/{project}/connections")).await?;
            if json {
                out::json(&rows);
                return OK;
            }
            let head = ["connection", "user", "set by", "set"].map(str::to_owned).to_vec();
            let row = |row: &ConnectionView| vec![row.name.clone(), row.user.clone(), row.set_by.clone(), show::moment(row.set_at)];
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
