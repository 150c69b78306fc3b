//! `release …`: what was made known, its notes and what it rests on.

use super::artifacts::fetch_with_statement;
use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out;
use crate::written;
use clap::Subcommand;
use ordotaxis_wire::release::{AssetView, EditRelease, ReleasePage, ReleaseState, ReleaseView, ReleasesView, WithdrawRelease};
use ordotaxis_wire::words;
use reqwest::Method;
use std::io::Read;
use std::path::{Path, PathBuf};

#[derive(Subcommand)]
pub(crate) enum ReleaseCommand {
    /// A project's releases, the newest version first, and what could not be released
    List { project: String },
    /// One release: its notes, what is fetched of it, where it is
    Show {
        /// `PROJECT/VERSION`
        release: String,
        /// What it rests on, as one JSON document
        #[arg(long)]
        evidence: bool,
        /// How notes and title were before, the newest first
        #[arg(long, conflicts_with = "evidence")]
        edits: bool,
    },
    /// Change title or notes; what they were is kept
    Edit {
        /// `PROJECT/VERSION`
        release: String,
        #[arg(long)]
        title: Option<String>,
        /// A file with the new notes, as Markdown; `-` for standard input
        #[arg(long)]
        notes: Option<PathBuf>,
    },
    /// Publish a draft, or what was withdrawn
    Publish {
        /// `PROJECT/VERSION`
        release: String,
    },
    /// Say that nobody should use it any more
    Withdraw {
        /// `PROJECT/VERSION`
        release: String,
        /// Everybody reads it
        #[arg(long)]
        reason: String,
    },
    /// Fetch all that belongs to it, each artifact into a folder, with its signed statement
    Download {
        /// `PROJECT/VERSION`
        release: String,
        #[arg(long, default_value = ".")]
        to: PathBuf,
    },
}

pub(super) async fn release(command: ReleaseCommand, api: &Api, json: bool) -> Done {
    match command {
        ReleaseCommand::List { project } => list(&project, api, json).await,
        ReleaseCommand::Show { release, evidence: true, .. } => {
            let answer = api.send(api.request(Method::GET, &format!("{}/evidence", address(&release)?))).await?;
            let bytes = answer.bytes().await.map_err(|_| Failure::new(3, "the evidence broke off", "ask for it again"))?;
            written::bytes(&bytes);
            OK
        }
        ReleaseCommand::Show { release, edits, .. } => tell(&api.get(&address(&release)?).await?, edits, json),
        ReleaseCommand::Edit { release, title, notes } => {
            let ask = EditRelease { title, notes: notes.as_deref().map(text).transpose()? };
            tell(&api.put(&address(&release)?, &ask).await?, false, json)
        }
        ReleaseCommand::Publish { release } => {
            tell(&api.post(&format!("{}/publish", address(&release)?), &serde_json::json!({})).await?, false, json)
        }
        ReleaseCommand::Withdraw { release, reason } => {
            tell(&api.post(&format!("{}/withdraw", address(&release)?), &WithdrawRelease { reason }).await?, false, json)
        }
        ReleaseCommand::Download { release, to } => download(&release, &to, api).await,
    }
}

fn address(release: &str) -> Result<String, Failure> {
    let wrong = || Failure::new(2, format!("`{release}` names no release"), "write PROJECT/VERSION");
    let (project, version) = release.split_once('/').ok_or_else(wrong)?;
    let plain = |part: &str| !part.is_empty() && !part.contains(|c: char| c.is_whitespace() || "?#/&%".contains(c));
    if plain(project) && plain(version) { Ok(format!("projects/{project}/releases/{version}")) } else { Err(wrong()) }
}

fn text(path: &Path) -> Result<String, Failure> {
    let failed = |error: std::io::Error| {
        Failure::new(2, format!("{} cannot be read: {error}", path.display()), "name a file, or - for standard input")
    };
    let mut text = String::new();
    if path == Path::new("-") {
        std::io::stdin().read_to_string(&mut text).map_err(failed)?;
        return Ok(text);
    }
    std::fs::read_to_string(path).map_err(failed)
}

async fn list(project: &str, api: &Api, json: bool) -> Done {
    let view: ReleasesView = api.get(&format!("projects/{project}/releases")).await?;
    if json {
        out::json(&view);
        return OK;
    }
    let head = ["version", "title", "", "commit", "by", "made", "in"].map(str::to_owned).to_vec();
    let row = |one: &ReleaseView| {
        let commit = one.commit.get(..8).unwrap_or(&one.commit).to_owned();
        vec![
            one.version.clone(),
            one.title.clone(),
            one.state.word().to_owned(),
            commit,
            one.run.clone(),
            out::moment(one.made_at),
            one.environments.join(", "),
        ]
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(view.releases.iter().map(row)).collect();
    out::table(&rows, "it has no releases: a job with `releases` makes one when it has passed");
    for one in &view.unmade {
        out::print(format!("not released: {} {}, {}: {}", one.run, one.job, out::moment(one.at), one.why));
    }
    OK
}

fn tell(page: &ReleasePage, edits: bool, json: bool) -> Done {
    if json {
        out::json(page);
        return OK;
    }
    if edits {
        for one in &page.edits {
            out::print(format!("{}  {}  {}", one.number, out::moment(one.at), one.by.as_deref().unwrap_or("as it was made")));
            out::print(out::bold(&one.title));
            out::print(&one.notes);
        }
        return OK;
    }
    let one = &page.release;
    let state = match (one.state, &one.reason) {
        (ReleaseState::Withdrawn, Some(reason)) => format!("withdrawn by {}: {reason}", one.withdrawn_by.as_deref().unwrap_or("a rule")),
        (state, _) => state.word().to_owned(),
    };
    out::print(format!("{}  {}  {state}", out::bold(&format!("{}/{}", one.project, one.version)), one.title));
    out::print(format!("  commit {} as tag {}, made by {} {}, {}", one.commit, one.tag, one.run, one.job, out::moment(one.made_at)));
    one.tag_names.iter().for_each(|other| out::print(format!("  the tag names {other} now: what was released stays what it was")));
    one.told.iter().for_each(|told| out::print(format!("  {told}")));
    let place =
        if one.environments.is_empty() { "in no environment now".to_owned() } else { format!("in {}", one.environments.join(", ")) };
    out::print(format!("  {place}"));
    one.assets.iter().for_each(|asset| out::print(format!("  {}", line(asset))));
    out::print(out::dim(&format!("  rests on {} (--evidence)", page.evidence_digest)));
    if !one.notes.is_empty() {
        out::print("");
        out::print(&one.notes);
    }
    OK
}

fn line(asset: &AssetView) -> String {
    let digest = asset.digest.get(..19).unwrap_or(&asset.digest);
    format!("{}/{}  {}  {}", asset.job, asset.name, words::bytes(asset.bytes), out::dim(digest))
}

async fn download(release: &str, to: &Path, api: &Api) -> Done {
    let page: ReleasePage = api.get(&address(release)?).await?;
    let one = &page.release;
    if one.state == ReleaseState::Withdrawn {
        out::remark(format!("{release} was withdrawn: {}", one.reason.as_deref().unwrap_or_default()));
    }
    let several = |asset: &AssetView| one.assets.iter().filter(|other| other.name == asset.name).count() > 1;
    for asset in &one.assets {
        let name =
            if several(asset) { format!("{}-{}", asset.job.replace(['[', ']', ',', '='], "_"), asset.name) } else { asset.name.clone() };
        let into = to.join(name);
        let called = format!("{}/{}", asset.job, asset.name);
        fetch_with_statement(api, (asset.url.trim_start_matches("/api/v1/"), &called), &into).await?;
        out::print(format!("{called} is in {}", into.display()));
    }
    if one.assets.is_empty() {
        out::remark(format!("{release} has nothing to fetch: its job names no `assets`"));
    }
    OK
}
