//! `rules`: what admits changes into a project's branches, as its main branch says it and as the service keeps it.

use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out;
use clap::Subcommand;
use ordotaxis_wire::landing::{RulesView, SetRules};
use std::path::PathBuf;

#[derive(Subcommand)]
pub(crate) enum RulesCommand {
    /// The rules that hold
    Show { project: String },
    /// Keep rules in the service, besides those of the main branch: they only make them stricter
    Keep {
        project: String,
        /// A file written as `ordotaxis/rules.toml` is
        file: PathBuf,
    },
    /// Take away what the service keeps
    Drop { project: String },
}

pub(super) async fn rules(command: RulesCommand, api: &Api, json: bool) -> Done {
    let view: RulesView = match command {
        RulesCommand::Show { project } => api.get(&format!("projects/{project}/rules")).await?,
        RulesCommand::Keep { project, file } => {
            let text = std::fs::read_to_string(&file)
                .map_err(|error| Failure::new(2, format!("{} cannot be read: {error}", file.display()), "name a file with rules"))?;
            api.put(&format!("projects/{project}/rules"), &SetRules { text }).await?
        }
        RulesCommand::Drop { project } => api.put(&format!("projects/{project}/rules"), &SetRules { text: String::new() }).await?,
    };
    if json {
        out::json(&view);
        return OK;
    }
    match &view.file {
        Some(text) => out::print(format!("# {} on the main branch\n{}", view.path, text.trim_end())),
        None => out::print(format!("# the main branch has no {}", view.path)),
    }
    if !view.kept.is_empty() {
        out::print(format!("\n# kept by the service, besides\n{}", view.kept.trim_end()));
    }
    if let Some(trouble) = &view.trouble {
        out::remark(trouble);
    }
    OK
}
