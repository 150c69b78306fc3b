//! `person`: who may sign in, and how they are known elsewhere.

use crate::api::Api;
use crate::failure::{Done, OK};
use crate::out::{self, table};
use clap::Subcommand;
use ordotaxis_core::access::Role;
use ordotaxis_wire::person::{Identity, NewPerson, PersonView, SetPerson};
use ordotaxis_wire::session::SignInLink;
use reqwest::Method;

#[derive(Subcommand)]
pub(crate) enum PersonCommand {
    /// Everybody, with groups and the role on the service
    List,
    /// Add a person; `person link NAME` then prints a link that signs them in
    Add {
        name: String,
        #[arg(long)]
        mail: Option<String>,
    },
    /// Change a person's mail address; without --mail it is taken away
    Set {
        name: String,
        #[arg(long)]
        mail: Option<String>,
    },
    /// Remove a person: tokens and sessions end at once
    Remove { name: String },
    /// Print a link that signs this person in, once
    Link { name: String },
    /// Say how a person is known elsewhere: at a provider that people sign in with, or at a forge
    Known {
        name: String,
        /// The provider's or the forge's address
        #[arg(long)]
        issuer: String,
        /// The subject there; at a forge, the login
        #[arg(long)]
        subject: String,
        /// Take it away
        #[arg(long)]
        undo: bool,
    },
}

pub(super) async fn person(command: PersonCommand, api: &Api, json: bool) -> Done {
    match command {
        PersonCommand::List => list(api, json).await,
        PersonCommand::Add { name, mail } => {
            let person: PersonView = api.post("persons", &NewPerson { name, mail }).await?;
            if json {
                out::json(&person);
            } else {
                out::print(format!("{} is added", person.name));
                out::remark(format!("  sign them in: ordotaxis person link {}", person.name));
            }
            OK
        }
        PersonCommand::Set { name, mail } => {
            api.send(api.request(Method::PUT, &format!("persons/{name}")).json(&SetPerson { mail: mail.clone() })).await?;
            out::print(mail.map_or(format!("{name} has no mail address any more"), |mail| format!("mail for {name} goes to {mail}")));
            OK
        }
        PersonCommand::Remove { name } => {
            api.send(api.request(Method::DELETE, &format!("persons/{name}"))).await?;
            out::print(format!("{name} is removed; what they did stays in the journal"));
            OK
        }
        PersonCommand::Link { name } => {
            let link: SignInLink = api.post(&format!("persons/{name}/sign-in-links"), &serde_json::json!({})).await?;
            if json {
                out::json(&link);
            } else {
                out::print(&link.url);
                out::remark(format!("  good once, for ten minutes; give it to {name} alone"));
            }
            OK
        }
        PersonCommand::Known { name, issuer, subject, undo } => {
            let method = if undo { Method::DELETE } else { Method::PUT };
            let told = if undo { "is not known any more" } else { "is known" };
            let said = format!("{name} {told} as {subject} of {issuer}");
            api.send(api.request(method, &format!("persons/{name}/identities")).json(&Identity { issuer, subject })).await?;
            out::print(said);
            OK
        }
    }
}

async fn list(api: &Api, json: bool) -> Done {
    let persons: Vec<PersonView> = api.get("persons").await?;
    if json {
        out::json(&persons);
        return OK;
    }
    let head = ["person", "role", "groups", "mail", "known as"].map(str::to_owned).to_vec();
    let row = |person: &PersonView| {
        let groups = person.groups.iter().map(|group| format!("@{group}")).collect::<Vec<_>>().join(" ");
        let known = person.identities.iter().map(|one| format!("{} of {}", one.subject, one.issuer)).collect::<Vec<_>>().join(", ");
        let role = person.role.map_or("-", Role::word).to_owned();
        vec![person.name.clone(), role, groups, person.mail.clone().unwrap_or_default(), known]
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(persons.iter().map(row)).collect();
    table(&rows, "there is nobody");
    OK
}
