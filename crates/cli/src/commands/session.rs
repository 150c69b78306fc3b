//! `session`: browsers that are signed in.

use crate::api::Api;
use crate::failure::{Done, OK};
use crate::out::{self, table};
use clap::Subcommand;
use ordotaxis_wire::session::SessionView;
use reqwest::Method;

#[derive(Subcommand)]
pub(crate) enum SessionCommand {
    /// Your browsers that are signed in, used last first
    List {
        /// Everybody's, for owners
        #[arg(long)]
        all: bool,
    },
    /// Sign a browser out
    End { id: i64 },
}

pub(super) async fn session(command: SessionCommand, api: &Api, json: bool) -> Done {
    match command {
        SessionCommand::List { all } => {
            let sessions: Vec<SessionView> = api.get(&format!("sessions?all={all}")).await?;
            if json {
                out::json(&sessions);
                return OK;
            }
            let head = ["session", "of", "from", "begun", "used", "ends", "browser"].map(str::to_owned).to_vec();
            let row = |session: &SessionView| {
                let times = [session.made_at, session.used_at, session.ends_at].map(out::moment);
                let from = session.address.clone().unwrap_or_default();
                let own = [session.id.to_string(), session.person.clone(), from];
                own.into_iter().chain(times).chain([session.agent.clone()]).collect()
            };
            let rows: Vec<Vec<String>> = std::iter::once(head).chain(sessions.iter().map(row)).collect();
            table(&rows, "no browser is signed in");
        }
        SessionCommand::End { id } => {
            api.send(api.request(Method::DELETE, &format!("sessions/{id}"))).await?;
            out::print(format!("session {id} is ended"));
        }
    }
    OK
}
