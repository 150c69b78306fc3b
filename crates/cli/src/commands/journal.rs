//! `journal`: who did what, and whether the journal is whole.

use crate::api::Api;
use crate::failure::{Done, Failure, OK, failed};
use crate::out::{self, table};
use clap::Subcommand;
use jiff::Timestamp;
use ordotaxis_wire::journal::{JournalVerified, JournalView, VerifyJournal};
use reqwest::Method;
use std::time::Duration;

#[derive(clap::Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct JournalOptions {
    /// Only what was done to this project
    project: Option<String>,
    /// Only what this person, runner, job or rule did
    #[arg(long, value_name = "NAME")]
    by: Option<String>,
    /// An action, `secret.set`, or all that begin so: `secret`
    #[arg(long)]
    action: Option<String>,
    /// Only what happened since: a length of time before now (`2d`), or a moment (RFC 3339)
    #[arg(long)]
    since: Option<String>,
    /// How many rows at most
    #[arg(long, default_value_t = 50)]
    count: usize,
    #[command(subcommand)]
    command: Option<JournalCommand>,
}

#[derive(Subcommand)]
enum JournalCommand {
    /// Look whether a row was changed, taken out or put in between
    Verify {
        /// A row's number and its digest, as this command printed them earlier
        #[arg(long, value_name = "ROW:DIGEST")]
        against: Option<String>,
    },
    /// Print the whole journal as lines of JSON, the newest first, to be kept elsewhere
    Export,
}

pub(super) async fn journal(options: JournalOptions, api: &Api, json: bool) -> Done {
    match options.command {
        Some(JournalCommand::Verify { against }) => verify(api, against, json).await,
        Some(JournalCommand::Export) => export(api).await,
        None => list(options, api, json).await,
    }
}

fn moment(text: &str) -> Result<Timestamp, Failure> {
    if let Ok(ago) = humantime::parse_duration(text) {
        return Timestamp::now().checked_sub(Duration::from_secs(ago.as_secs())).map_err(|error| not_a_moment(text, &error));
    }
    text.parse().map_err(|error: jiff::Error| not_a_moment(text, &error))
}

fn not_a_moment(text: &str, error: &jiff::Error) -> Failure {
    Failure::new(
        2,
        format!("--since `{text}` is no moment: {error}"),
        "write a length of time (`2d`), or a moment (`2026-11-02T09:00:00Z`)",
    )
}

async fn list(options: JournalOptions, api: &Api, json: bool) -> Done {
    let mut query: Vec<(&str, String)> = Vec::new();
    query.extend(options.by.map(|by| ("by", by)));
    query.extend(options.action.map(|action| ("action", action)));
    query.extend(options.since.as_deref().map(moment).transpose()?.map(|since| ("since", since.to_string())));
    let path = options.project.map_or("journal".to_owned(), |project| format!("projects/{project}/journal"));
    let mut rows: Vec<JournalView> = Vec::new();
    while rows.len() < options.count {
        let mut asked = query.clone();
        asked.extend(rows.last().map(|last| ("cursor", last.id.to_string())));
        let page: Vec<JournalView> = api.read(api.request(Method::GET, &path).query(&asked)).await?;
        if page.is_empty() {
            break;
        }
        rows.extend(page);
    }
    rows.truncate(options.count);
    if json {
        out::json(&rows);
        return OK;
    }
    let head = ["row", "when", "who", "way", "did", "project", "to what", "how"].map(str::to_owned).to_vec();
    let lines: Vec<Vec<String>> = std::iter::once(head).chain(rows.iter().map(row)).collect();
    table(&lines, "nothing that fits is in the journal");
    OK
}

fn row(row: &JournalView) -> Vec<String> {
    let who = if row.kind == "service" { format!("rule {}", row.who) } else { row.who.clone() };
    let who = if who.is_empty() { "nobody".to_owned() } else { who };
    let project = row.project.clone().unwrap_or_default();
    vec![row.id.to_string(), out::moment(row.at), who, row.way.clone(), row.action.clone(), project, row.object.clone(), row.change.clone()]
}

async fn verify(api: &Api, against: Option<String>, json: bool) -> Done {
    let found: JournalVerified = api.post("journal/verify", &VerifyJournal { against }).await?;
    if json {
        out::json(&found);
    } else if found.whole {
        out::print(format!("the journal is whole: {} rows", found.rows));
        if let Some(digest) = &found.digest {
            out::print(format!("  keep this elsewhere: {}:{digest}", found.rows));
            out::remark("  `ordotaxis journal verify --against ROW:DIGEST` proves later that nothing before it was changed");
        }
    } else {
        out::print(format!("the journal is NOT whole: {}", found.why.as_deref().unwrap_or_default()));
    }
    if found.whole { OK } else { Ok(failed()) }
}

async fn export(api: &Api) -> Done {
    out::pour(api.send(api.request(Method::GET, "journal/export")).await?).await
}
