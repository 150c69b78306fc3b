//! `pipeline list | show | keep | history | drop`: files that the service keeps for a project.

use super::check;
use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out;
use crate::out::table;
use crate::written;
use clap::Subcommand;
use ordotaxis_wire::pipeline::NewStored;
use ordotaxis_wire::pipeline::{PipelineView, VersionView};
use std::path::PathBuf;

#[derive(Subcommand)]
pub(crate) enum PipelineCommand {
    /// The pipelines of a project, and where each is kept
    List { project: String },
    /// Print a pipeline's file
    Show { project: String, pipeline: String },
    /// Keep a file in the service, as a new version
    Keep {
        project: String,
        pipeline: String,
        #[arg(long)]
        file: PathBuf,
        /// What the change is for
        #[arg(long)]
        message: String,
    },
    /// Every version that was kept
    History {
        project: String,
        pipeline: String,
        /// Print this version's text
        #[arg(long)]
        version: Option<i64>,
    },
    /// Take a kept pipeline out: the repository's file counts again
    Drop {
        project: String,
        pipeline: String,
        #[arg(long, default_value = "taken out")]
        message: String,
    },
}

pub(super) async fn pipeline(command: PipelineCommand, api: &Api, json: bool) -> Done {
    match command {
        PipelineCommand::List { project } => list(api, &project, json).await,
        PipelineCommand::Show { project, pipeline } => {
            let found = all(api, &project).await?.into_iter().find(|found| found.name == pipeline);
            let none = || {
                Failure::new(2, format!("{project} has no pipeline {pipeline}"), format!("`ordotaxis pipeline list {project}` lists them"))
            };
            let found = found.ok_or_else(none)?;
            if json {
                out::json(&found)
            } else {
                written::bytes(found.text.as_bytes());
            }
            OK
        }
        PipelineCommand::Keep { project, pipeline, file, message } => {
            keep(api, &project, &pipeline, check::read(&file)?, message, json).await
        }
        PipelineCommand::Drop { project, pipeline, message } => {
            if versions(api, &project, &pipeline).await?.is_empty() {
                return Err(Failure::new(
                    2,
                    format!("nothing is kept for {project}'s pipeline {pipeline}"),
                    "the repository's file counts",
                ));
            }
            keep(api, &project, &pipeline, String::new(), message, json).await
        }
        PipelineCommand::History { project, pipeline, version } => history(api, &project, &pipeline, version, json).await,
    }
}

async fn all(api: &Api, project: &str) -> Result<Vec<PipelineView>, Failure> {
    api.get(&format!("projects/{project}/pipelines")).await
}

async fn list(api: &Api, project: &str, json: bool) -> Done {
    let all = all(api, project).await?;
    if json {
        out::json(&all);
        return OK;
    }
    let head = ["pipeline", "kept", "lines"].map(str::to_owned).to_vec();
    let place = |found: &PipelineView| match found.version {
        Some(version) => format!("by the service, version {version}"),
        None => format!("in the repository, {}", found.path),
    };
    let row = |found: &PipelineView| vec![found.name.clone(), place(found), found.text.lines().count().to_string()];
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(all.iter().map(row)).collect();
    table(&rows, "the project has no pipeline; push an ordotaxis.toml, or `ordotaxis pipeline keep`");
    OK
}

/// Every version, newest first; none when nothing was ever kept.
async fn versions(api: &Api, project: &str, pipeline: &str) -> Result<Vec<VersionView>, Failure> {
    let found = api.get(&format!("projects/{project}/stored/{pipeline}")).await;
    match found {
        // Nothing kept is no failure for those who keep the first version; a project that does not exist is an error.
        Err(failure) if failure.says("nothing is kept here") => Ok(Vec::new()),
        other => other,
    }
}

async fn keep(api: &Api, project: &str, pipeline: &str, text: String, message: String, json: bool) -> Done {
    let on = versions(api, project, pipeline).await?.first().map_or(0, |newest| newest.version);
    let gone = text.is_empty();
    let kept: VersionView = api.put(&format!("projects/{project}/stored/{pipeline}"), &NewStored { text, message, on }).await?;
    if json {
        out::json(&kept);
    } else if gone {
        out::print(format!("{project}: pipeline {pipeline} is taken out; the repository's file counts again"));
    } else {
        out::print(format!("{project}: pipeline {pipeline} is kept, version {}", kept.version));
        out::remark(format!("  start it: ordotaxis start {project} --pipeline {pipeline}"));
    }
    OK
}

async fn history(api: &Api, project: &str, pipeline: &str, version: Option<i64>, json: bool) -> Done {
    let all = versions(api, project, pipeline).await?;
    if let Some(version) = version {
        let none = || {
            Failure::new(2, format!("there is no version {version}"), format!("the newest is {}", all.first().map_or(0, |one| one.version)))
        };
        let found = all.iter().find(|one| one.version == version).ok_or_else(none)?;
        if json {
            out::json(found)
        } else {
            written::bytes(found.text.as_bytes());
        }
        return OK;
    }
    if json {
        out::json(&all);
        return OK;
    }
    let head = ["version", "kept", "by", "what for"].map(str::to_owned).to_vec();
    let what = |one: &VersionView| if one.text.is_empty() { format!("{} (taken out)", one.message) } else { one.message.clone() };
    let row = |one: &VersionView| vec![one.version.to_string(), out::moment(one.at), one.by.clone(), what(one)];
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(all.iter().map(row)).collect();
    table(&rows, "nothing was ever kept for it");
    OK
}
