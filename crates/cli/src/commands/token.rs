//! `token`: your tokens, for programs.

use super::grant::RoleChoice;
use crate::api::Api;
use crate::failure::{Done, OK};
use crate::out::{self, table};
use clap::Subcommand;
use ordotaxis_core::access::Role;
use ordotaxis_wire::token::{NewToken, TokenView};
use reqwest::Method;
use std::time::Duration;

#[derive(Subcommand)]
pub(crate) enum TokenCommand {
    /// Your tokens, the newest first
    List {
        /// Everybody's, for owners
        #[arg(long)]
        all: bool,
    },
    /// Make a token; it is printed this once
    Make {
        /// What it is for
        name: String,
        /// No more than this role anywhere
        #[arg(long, value_enum)]
        role: Option<RoleChoice>,
        /// Nothing outside of this project, and of others named so
        #[arg(long)]
        project: Vec<String>,
        /// How long it is good, a year at most
        #[arg(long, default_value = "90days", value_parser = humantime::parse_duration)]
        expires: Duration,
    },
    /// End a token
    End { id: i64 },
}

pub(super) async fn token(command: TokenCommand, api: &Api, json: bool) -> Done {
    match command {
        TokenCommand::List { all } => {
            let tokens: Vec<TokenView> = api.get(&format!("tokens?all={all}")).await?;
            if json {
                out::json(&tokens);
                return OK;
            }
            let head = ["token", "of", "for", "may", "made", "ends", "used"].map(str::to_owned).to_vec();
            let rows: Vec<Vec<String>> = std::iter::once(head).chain(tokens.iter().map(row)).collect();
            table(&rows, "there are no tokens; `ordotaxis token make NAME` makes one");
        }
        TokenCommand::Make { name, role, project, expires } => {
            let projects = (!project.is_empty()).then(|| project.into_iter().collect());
            let ends_ms = i64::try_from(expires.as_millis()).ok();
            let made: TokenView = api.post("tokens", &NewToken { name, role: role.map(Role::from), projects, ends_ms }).await?;
            if json {
                out::json(&made);
            } else {
                out::print(made.token.as_deref().unwrap_or_default());
                out::remark(format!("  printed this once; `ordotaxis token end {}` ends it", made.id));
            }
        }
        TokenCommand::End { id } => {
            api.send(api.request(Method::DELETE, &format!("tokens/{id}"))).await?;
            out::print(format!("token {id} is ended"));
        }
    }
    OK
}

fn row(token: &TokenView) -> Vec<String> {
    let role = token.role.map(|role| format!("as {}", role.word()));
    let projects = token.projects.as_ref().map(|names| format!("on {}", names.iter().cloned().collect::<Vec<_>>().join(", ")));
    let may = match (role, projects) {
        (None, None) => "all that you may".to_owned(),
        (role, projects) => [role, projects].into_iter().flatten().collect::<Vec<_>>().join(" "),
    };
    vec![
        token.id.to_string(),
        token.person.clone(),
        token.name.clone(),
        may,
        out::moment(token.made_at),
        token.ends_at.map_or_else(|| "never".to_owned(), out::moment),
        token.used_at.map_or_else(|| "never".to_owned(), out::moment),
    ]
}
