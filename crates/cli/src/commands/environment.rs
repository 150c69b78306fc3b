//! `environment`: what is in each, what waits to come in, all that was put there; frozen and thawed.

use super::environment_address::address;
use super::insight::{between, insight};
use super::runs::begun;
use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out::{self, table};
use clap::Subcommand;
use jiff::Timestamp;
use ordotaxis_wire::environment::{Behind, DeploymentEnd, DeploymentView, EnvironmentPage, EnvironmentView, Freeze, WayView};
use ordotaxis_wire::project::ProjectView;
use ordotaxis_wire::run::RunView;
use ordotaxis_wire::words;
use reqwest::Method;
use std::time::Duration;

#[derive(Subcommand)]
pub(crate) enum EnvironmentCommand {
    /// What is in each environment, how far that is behind, and what waits to come in
    List {
        /// All projects when absent
        project: Option<String>,
    },
    /// One environment: what is there, what waits and why
    Show {
        /// `PROJECT/ENVIRONMENT`
        environment: String,
    },
    /// All that was put there, newest first
    History {
        /// `PROJECT/ENVIRONMENT`
        environment: String,
        /// Those before this number
        #[arg(long)]
        before: Option<i64>,
    },
    /// Let nothing in but roll-backs and emergencies
    Freeze {
        /// `PROJECT/ENVIRONMENT`
        environment: String,
        /// Who waits reads it
        #[arg(long)]
        reason: String,
        /// `2h`, `3days`, or a moment such as 2026-11-29T16:00:00Z; until `thaw` when absent
        #[arg(long)]
        until: Option<String>,
    },
    /// Take a preview away now: its job with `closes` does it
    Close {
        /// `PROJECT/ENVIRONMENT`
        environment: String,
        /// Follow it
        #[arg(long)]
        watch: bool,
    },
    /// How often something new is put into each, how long commits take, how much goes wrong and for how long
    Insight {
        project: String,
        /// 7 to 730; 90 when absent
        #[arg(long)]
        days: Option<i64>,
    },
    /// The commits between two deployments: what came with the later one, and what it is without
    Between {
        /// `PROJECT/ENVIRONMENT`
        environment: String,
        /// The number of the earlier one; what was there before when absent
        #[arg(long)]
        from: Option<i64>,
        /// The number of the later one; what is there when absent
        #[arg(long)]
        to: Option<i64>,
    },
    /// Let things in again
    Thaw {
        /// `PROJECT/ENVIRONMENT`
        environment: String,
    },
}

pub(super) async fn environment(command: EnvironmentCommand, api: &Api, json: bool) -> Done {
    match command {
        EnvironmentCommand::List { project } => list(project, api, json).await,
        EnvironmentCommand::Show { environment } => {
            let page: EnvironmentPage = api.get(&address(&environment)?).await?;
            if json {
                out::json(&page);
            } else {
                show(&page.environment);
                page.deployments.iter().take(5).for_each(|one| out::print(out::dim(&format!("  {}", line(one)))));
            }
            OK
        }
        EnvironmentCommand::History { environment, before } => history(&environment, before, api, json).await,
        EnvironmentCommand::Freeze { environment, reason, until } => {
            let until = until.map(|text| ahead(&text)).transpose()?;
            let view: EnvironmentView = api.put(&format!("{}/frozen", address(&environment)?), &Freeze { reason, until }).await?;
            told(&view, json)
        }
        EnvironmentCommand::Close { environment, watch } => {
            let view: RunView = api.post(&format!("{}/close", address(&environment)?), &serde_json::json!({})).await?;
            begun(api, view, watch, json).await
        }
        EnvironmentCommand::Insight { project, days } => insight(&project, days, api, json).await,
        EnvironmentCommand::Between { environment, from, to } => between(&environment, from, to, api, json).await,
        EnvironmentCommand::Thaw { environment } => {
            let request = api.request(Method::DELETE, &format!("{}/frozen", address(&environment)?));
            told(&api.read(request).await?, json)
        }
    }
}

/// A moment that is still to come.
fn ahead(text: &str) -> Result<Timestamp, Failure> {
    let wrong = |error: jiff::Error| {
        let what = format!("--until `{text}` is no moment: {error}");
        Failure::new(2, what, "write a length of time (`2h`), or a moment (`2026-11-02T09:00:00Z`)")
    };
    match humantime::parse_duration(text) {
        Ok(length) => Timestamp::now().checked_add(Duration::from_secs(length.as_secs())).map_err(wrong),
        Err(_) => text.parse().map_err(wrong),
    }
}

fn told(view: &EnvironmentView, json: bool) -> Done {
    if json {
        out::json(view);
    } else {
        show(view);
    }
    OK
}

async fn list(project: Option<String>, api: &Api, json: bool) -> Done {
    let projects = match project {
        Some(project) => vec![project],
        None => api.get::<Vec<ProjectView>>("projects").await?.into_iter().map(|project| project.name).collect(),
    };
    let mut all: Vec<EnvironmentView> = Vec::new();
    for project in projects {
        all.extend(api.get::<Vec<EnvironmentView>>(&format!("projects/{project}/environments")).await?);
    }
    if json {
        out::json(&all);
        return OK;
    }
    let head = ["environment", "there", "behind", "next"].map(str::to_owned).to_vec();
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(all.iter().map(row)).collect();
    table(&rows, "nothing was put anywhere yet: a job does that with `deploys`");
    OK
}

fn row(view: &EnvironmentView) -> Vec<String> {
    vec![format!("{}/{}", view.project, view.name), view.sentence.clone(), view.behind.map(behind).unwrap_or_default(), next(view)]
}

/// `3 commits, 2 days`
fn behind(behind: Behind) -> String {
    match behind.commits {
        0 => "nothing".to_owned(),
        count => {
            let more = if behind.more { "more than " } else { "" };
            let commits = if count == 1 { "commit" } else { "commits" };
            format!("{more}{count} {commits}, {}", words::age(behind.ms))
        }
    }
}

/// What goes on, waits, or keeps everything out.
fn next(view: &EnvironmentView) -> String {
    let frozen = view.frozen.as_ref().map(|frozen| format!("frozen by {}: {}", frozen.by, frozen.reason));
    let inside = view.inside.as_ref().map(|inside| format!("{} {} is being put there", inside.run, inside.job));
    let waiting = match view.waiting.as_slice() {
        [] => None,
        [one] => Some(format!("{} {} {}", one.run, one.job, one.why)),
        [one, more @ ..] => Some(format!("{} {} {}, and {} more", one.run, one.job, one.why, more.len())),
    };
    let unconfirmed = (!view.unconfirmed.is_empty()).then(|| "an emergency waits to be confirmed".to_owned());
    [frozen, inside, waiting, unconfirmed].into_iter().flatten().collect::<Vec<_>>().join("; ")
}

/// One environment, over several lines.
pub(super) fn show(view: &EnvironmentView) {
    out::print(format!("{}  {}", out::bold(&format!("{}/{}", view.project, view.name)), view.sentence));
    view.url.iter().for_each(|url| out::print(out::dim(&format!("  {url}"))));
    view.behind.iter().for_each(|one| out::print(out::dim(&format!("  behind main: {}", behind(*one)))));
    view.trouble.iter().for_each(|why| out::print(format!("  {why}")));
    view.closed_at.iter().for_each(|at| out::print(format!("  closed {}", out::moment(*at))));
    view.unclosed.iter().for_each(|why| out::print(format!("  it could not be closed: {why}")));
    if let Some(frozen) = &view.frozen {
        let until = frozen.until.map(|at| format!(" until {}", out::moment(at))).unwrap_or_default();
        out::print(format!("  frozen{until} by {}: {}", frozen.by, frozen.reason));
    }
    if let Some(inside) = &view.inside {
        out::print(format!("  {} {} is being put there since {}", inside.run, inside.job, out::moment(inside.since)));
    }
    for one in &view.waiting {
        out::print(format!("  {} {} {}", one.run, one.job, one.why));
        for word in &one.words {
            let reason = word.reason.as_ref().map(|reason| format!(": {reason}")).unwrap_or_default();
            out::print(out::dim(&format!("    {} {}{reason}", word.by, if word.agrees { "approves" } else { "refuses" })));
        }
        if one.asks_you {
            out::print(out::dim(&format!("    ordotaxis approve {} {}", one.run, one.job)));
        }
    }
    for one in &view.unconfirmed {
        out::print(format!("  {} put {} {} there past the rules, unconfirmed: {}", one.by, one.run, one.job, one.reason));
    }
}

async fn history(environment: &str, before: Option<i64>, api: &Api, json: bool) -> Done {
    let request = api.request(Method::GET, &address(environment)?);
    let page: EnvironmentPage =
        api.read(request.query(&before.map(|before| [("before", before)]).into_iter().flatten().collect::<Vec<_>>())).await?;
    if json {
        out::json(&page);
        return OK;
    }
    let head = ["", "from", "commit", "of", "by", "approved by", "let in", "outcome"].map(str::to_owned).to_vec();
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(page.deployments.iter().map(deployment)).collect();
    table(&rows, "nothing was put there yet");
    if let Some(last) = page.deployments.last().filter(|_| page.more) {
        out::remark(format!("there are older ones: --before {}", last.number));
    }
    OK
}

fn deployment(one: &DeploymentView) -> Vec<String> {
    vec![
        one.number.to_string(),
        format!("{} {}", one.run, one.job),
        one.commit.get(..8).unwrap_or(&one.commit).to_owned(),
        one.reference.clone(),
        one.by.clone().unwrap_or_default(),
        one.approved_by.join(", "),
        out::moment(one.let_in_at),
        outcome(one),
    ]
}

fn line(one: &DeploymentView) -> String {
    let commit = one.commit.get(..8).unwrap_or(&one.commit);
    format!(
        "{:>3}  {}  {commit} of {}, by {} {}: {}",
        one.number,
        out::moment(one.let_in_at),
        one.reference,
        one.run,
        one.job,
        outcome(one)
    )
}

/// How it ended, with all that is out of the ordinary.
fn outcome(one: &DeploymentView) -> String {
    let end = match one.outcome {
        None => "goes on".to_owned(),
        Some(DeploymentEnd::Well) if one.left_at.is_none() => "well, and there".to_owned(),
        Some(DeploymentEnd::Well) => "well".to_owned(),
        Some(DeploymentEnd::Untouched) => "ended before it touched anything".to_owned(),
        Some(DeploymentEnd::Failed) if one.back => "failed; what was there is there again".to_owned(),
        Some(DeploymentEnd::Failed) => "failed".to_owned(),
        Some(DeploymentEnd::Lost) => "nobody knows".to_owned(),
    };
    let why = one.why.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
    let trouble = one.trouble.as_ref().map(|trouble| format!("; {trouble}")).unwrap_or_default();
    let way = match one.way {
        WayView::Forward => String::new(),
        WayView::RollBack => "a roll-back, ".to_owned(),
        WayView::Close => "taken away, ".to_owned(),
        WayView::Undo => format!("what was there before ({}), ", one.reason.as_deref().unwrap_or_default()),
        WayView::Emergency => {
            let confirmed = one.confirmed_by.as_ref().map_or("not confirmed".to_owned(), |by| format!("confirmed by {by}"));
            format!("an emergency ({}), {confirmed}, ", one.reason.as_deref().unwrap_or_default())
        }
    };
    format!("{way}{end}{why}{trouble}")
}
