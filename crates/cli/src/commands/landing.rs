//! `land`, `landing`: proposals that land one after another, each tested on top of those ahead of it.

use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out::{self, table};
use clap::Subcommand;
use ordotaxis_wire::landing::{LandAsk, LandingBranch, LandingEntry, LandingStep, LandingView};
use ordotaxis_wire::project::ProjectView;

/// `land`
#[derive(clap::Args)]
pub(crate) struct LandOptions {
    /// `PROJECT/NUMBER`
    proposal: String,
}

/// `landing`
#[derive(clap::Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct LandingOptions {
    /// All projects when absent
    project: Option<String>,
    #[command(subcommand)]
    command: Option<LandingCommand>,
}

#[derive(Subcommand)]
enum LandingCommand {
    /// Take a proposal out of the queue
    Leave {
        /// `PROJECT/NUMBER`
        proposal: String,
        #[arg(long)]
        why: Option<String>,
    },
    /// Put a proposal before those that nobody put first
    First { proposal: String },
    /// Let a proposal keep its place and not be tried
    Hold {
        proposal: String,
        #[arg(long)]
        why: Option<String>,
    },
    /// Try a proposal again that was held
    Release { proposal: String },
}

pub(super) async fn land(options: LandOptions, api: &Api, json: bool) -> Done {
    ask(&options.proposal, LandingStep::Land, None, api, json).await
}

pub(super) async fn landing(options: LandingOptions, api: &Api, json: bool) -> Done {
    match options.command {
        Some(LandingCommand::Leave { proposal, why }) => ask(&proposal, LandingStep::Leave, why, api, json).await,
        Some(LandingCommand::First { proposal }) => ask(&proposal, LandingStep::First, None, api, json).await,
        Some(LandingCommand::Hold { proposal, why }) => ask(&proposal, LandingStep::Hold, why, api, json).await,
        Some(LandingCommand::Release { proposal }) => ask(&proposal, LandingStep::Release, None, api, json).await,
        None => list(options.project, api, json).await,
    }
}

async fn ask(proposal: &str, what: LandingStep, why: Option<String>, api: &Api, json: bool) -> Done {
    let split = proposal.split_once('/').filter(|(_, number)| !number.is_empty());
    let wrong = || Failure::new(2, format!("`{proposal}` is no proposal"), "write PROJECT/NUMBER, such as tidegauge/7");
    let (project, number) = split.ok_or_else(wrong)?;
    let view: LandingView = api.post(&format!("projects/{project}/proposals/{number}/landing"), &LandAsk { what, why }).await?;
    if json {
        out::json(&view);
        return OK;
    }
    let entry = view.branches.iter().flat_map(|branch| &branch.entries).find(|entry| entry.proposal == number);
    match entry {
        Some(entry) => out::print(format!("{project}/{number} stands at place {} and {}", entry.place, entry.sentence)),
        None => match view.ended.iter().find(|end| end.proposal == number).and_then(|end| end.why.as_ref()) {
            Some(why) => out::print(format!("{project}/{number} left the queue: {why}")),
            None => out::print(format!("{project}/{number} is not in the queue")),
        },
    }
    OK
}

async fn list(project: Option<String>, api: &Api, json: bool) -> Done {
    let projects = match project {
        Some(project) => vec![project],
        None => api.get::<Vec<ProjectView>>("projects").await?.into_iter().map(|project| project.name).collect(),
    };
    let mut all: Vec<(String, LandingView)> = Vec::new();
    for project in projects {
        let view = api.get(&format!("projects/{project}/landing")).await?;
        all.push((project, view));
    }
    if json {
        out::json(&all.iter().map(|(project, view)| serde_json::json!({ "project": project, "landing": view })).collect::<Vec<_>>());
        return OK;
    }
    let head = ["place", "proposal", "title", "for", "asked by", "asked", "likely", "it"].map(str::to_owned).to_vec();
    let mut rows = vec![head];
    for (project, view) in &all {
        if let Some(trouble) = &view.trouble {
            out::remark(format!("{project}: {trouble}"));
        }
        for branch in &view.branches {
            if let Some(shut) = branch.shut.as_ref().filter(|_| !branch.entries.is_empty()) {
                out::remark(format!("{project} {}: {shut}", branch.branch));
            }
            rows.extend(branch.entries.iter().map(|entry| row(project, branch, entry)));
        }
    }
    table(&rows, "nothing waits to land");
    let ended = all.iter().flat_map(|(project, view)| view.ended.iter().take(10).map(move |end| (project, end)));
    for (project, end) in ended {
        let what = match (&end.commit, &end.why) {
            (Some(commit), _) => format!("landed as {}", commit.get(..10).unwrap_or(commit)),
            (None, why) => format!("left: {}", why.as_deref().unwrap_or_default()),
        };
        out::print(out::dim(&format!("{}  {project}/{} {what}", out::moment(end.at), end.proposal)));
    }
    OK
}

fn row(project: &str, branch: &LandingBranch, entry: &LandingEntry) -> Vec<String> {
    let runs: Vec<&str> = entry.runs.iter().map(|run| run.run.as_str()).collect();
    let by = if runs.is_empty() { String::new() } else { format!(", in {}", runs.join(", ")) };
    vec![
        entry.place.to_string(),
        format!("{project}/{}", entry.proposal),
        entry.title.clone(),
        branch.branch.clone(),
        entry.by.clone(),
        out::moment(entry.asked_at),
        entry.expected_at.map(out::moment).unwrap_or_default(),
        format!("{}{by}", entry.sentence),
    ]
}
