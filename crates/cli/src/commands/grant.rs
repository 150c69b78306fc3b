//! `grant`: who holds which role on what.

use crate::api::Api;
use crate::failure::{Done, OK};
use crate::out::{self, table};
use clap::{Subcommand, ValueEnum};
use ordotaxis_core::access::Role;
use ordotaxis_wire::person::{GrantView, SetGrant};
use reqwest::Method;

#[derive(Subcommand)]
pub(crate) enum GrantCommand {
    /// Every role that was given
    List {
        /// Only those that count on this project
        #[arg(long)]
        project: Option<String>,
    },
    /// Give a role to a person, or to a group (`@NAME`), in place of the one held there
    Set {
        who: String,
        #[arg(value_enum)]
        role: RoleChoice,
        /// On this project; on the whole service when absent
        #[arg(long)]
        project: Option<String>,
    },
    /// Take a role away
    Remove {
        who: String,
        #[arg(long)]
        project: Option<String>,
    },
}

#[derive(Clone, Copy, ValueEnum)]
pub(crate) enum RoleChoice {
    /// Sees runs, logs, artifacts, plans
    Reader,
    /// Starts and stops
    Operator,
    /// Changes secrets, connections, kept pipelines, caches, settings
    Editor,
    /// Everything
    Owner,
}

impl From<RoleChoice> for Role {
    fn from(choice: RoleChoice) -> Role {
        match choice {
            RoleChoice::Reader => Role::Reader,
            RoleChoice::Operator => Role::Operator,
            RoleChoice::Editor => Role::Editor,
            RoleChoice::Owner => Role::Owner,
        }
    }
}

fn on(project: Option<&str>) -> String {
    project.unwrap_or("the service").to_owned()
}

pub(super) async fn grant(command: GrantCommand, api: &Api, json: bool) -> Done {
    match command {
        GrantCommand::List { project } => {
            let mut grants: Vec<GrantView> = api.get("grants").await?;
            grants.retain(|grant| project.is_none() || grant.project.is_none() || grant.project == project);
            if json {
                out::json(&grants);
                return OK;
            }
            let head = ["who", "role", "on", "given by", "given"].map(str::to_owned).to_vec();
            let row = |grant: &GrantView| {
                let given = out::moment(grant.given_at);
                vec![grant.who.clone(), grant.role.word().into(), on(grant.project.as_deref()), grant.given_by.clone(), given]
            };
            let rows: Vec<Vec<String>> = std::iter::once(head).chain(grants.iter().map(row)).collect();
            table(&rows, "no roles were given");
        }
        GrantCommand::Set { who, role, project } => {
            let ask = SetGrant { who, project, role: role.into() };
            api.send(api.request(Method::PUT, "grants").json(&ask)).await?;
            out::print(format!("{} is {} of {}", ask.who, ask.role.word(), on(ask.project.as_deref())));
        }
        GrantCommand::Remove { who, project } => {
            let mut query = vec![("who", who.clone())];
            query.extend(project.clone().map(|project| ("project", project)));
            api.send(api.request(Method::DELETE, "grants").query(&query)).await?;
            out::print(format!("{who} holds no role of its own on {} any more", on(project.as_deref())));
        }
    }
    OK
}
