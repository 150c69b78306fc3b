//! `secret`: set, list, remove. A value comes from standard input, never from an argument that others could read.

use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out;
use crate::out::table;
use crate::reach::ReachOptions;
use clap::Subcommand;
use ordotaxis_wire::secret::SecretView;
use ordotaxis_wire::secret::{NewSecret, ReachAsk};
use reqwest::Method;
use std::io::{IsTerminal, Read};

#[derive(Subcommand)]
pub(crate) enum SecretCommand {
    /// Set a secret; its value is read from standard input
    Set {
        project: String,
        name: String,
        /// For jobs that deploy to this environment, in place of the project's value
        #[arg(long)]
        environment: Option<String>,
        #[command(flatten)]
        reach: ReachOptions,
    },
    /// The names of a project's secrets
    List { project: String },
    /// Remove a secret
    Remove {
        project: String,
        name: String,
        /// The value for this environment alone
        #[arg(long)]
        environment: Option<String>,
    },
}

pub(super) async fn secret(command: SecretCommand, api: &Api, json: bool) -> Done {
    match command {
        SecretCommand::Set { project, name, environment, reach } => {
            let ask = NewSecret { value: value()?, reach: reach.into() };
            let request = api.request(Method::PUT, &format!("projects/{project}/secrets/{name}")).query(&of(environment.as_ref()));
            api.send(request.json(&ask)).await?;
            let who = environment.map(|name| format!(" and deploy to {name}")).unwrap_or_default();
            out::print(format!("secret {name} of {project} is set; jobs that name it{who} get it from now on"));
            OK
        }
        SecretCommand::List { project } => {
            let secrets: Vec<SecretView> = api.get(&format!("projects/{project}/secrets")).await?;
            if json {
                out::json(&secrets);
                return OK;
            }
            let head = ["secret", "for", "goes to", "set by", "set"].map(str::to_owned).to_vec();
            let row = |secret: &SecretView| {
                let environment = secret.environment.clone().unwrap_or_default();
                vec![secret.name.clone(), environment, reach_words(&secret.reach), secret.set_by.clone(), out::moment(secret.set_at)]
            };
            let rows: Vec<Vec<String>> = std::iter::once(head).chain(secrets.iter().map(row)).collect();
            table(&rows, &format!("{project} has no secrets; `ordotaxis secret set {project} NAME` sets one"));
            OK
        }
        SecretCommand::Remove { project, name, environment } => {
            let request = api.request(Method::DELETE, &format!("projects/{project}/secrets/{name}"));
            api.send(request.query(&of(environment.as_ref()))).await?;
            out::print(format!("secret {name} of {project} is removed"));
            OK
        }
    }
}

fn of(environment: Option<&String>) -> Vec<(&'static str, &String)> {
    environment.map(|name| ("environment", name)).into_iter().collect()
}

/// Where a secret goes, in words.
pub(super) fn reach_words(reach: &ReachAsk) -> String {
    let some = |what: &str, globs: &Option<Vec<String>>| globs.as_ref().map(|globs| format!("{what} {}", globs.join(", ")));
    let refs = [some("branches", &reach.branches), some("tags", &reach.tags)].into_iter().flatten().collect::<Vec<_>>();
    let refs = if refs.is_empty() { "main branch and tags".to_owned() } else { refs.join("; ") };
    [Some(refs), some("pipelines", &reach.pipelines)].into_iter().flatten().collect::<Vec<_>>().join("; ")
}

/// Everything on standard input, without the one line end that `echo` adds.
pub(super) fn value() -> Result<String, Failure> {
    let mut input = std::io::stdin();
    if input.is_terminal() {
        out::remark("the value, then Ctrl-D:");
    }
    let mut text = String::new();
    let read = input.read_to_string(&mut text);
    read.map_err(|error| Failure::new(2, format!("standard input could not be read as text: {error}"), "pipe the value into the command"))?;
    let one_line = text.matches('\n').count() == 1;
    Ok(if one_line { text.trim_end_matches(['\n', '\r']).to_owned() } else { text })
}
