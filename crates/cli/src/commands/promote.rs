//! `promote`, `roll-back`: runs made from an earlier run, with what that made.

use super::environment_address::address;
use super::runs::begun;
use crate::api::Api;
use crate::failure::{Done, Failure};
use crate::reference::run_ref;
use ordotaxis_wire::environment::{AskPromotion, AskRollBack};
use ordotaxis_wire::run::RunView;

/// `promote`
#[derive(clap::Args)]
pub(crate) struct PromoteOptions {
    project: String,
    /// The environment
    #[arg(long)]
    to: String,
    /// `PROJECT/NUMBER`; the newest that is well in all environments that the rules name when absent
    #[arg(long)]
    run: Option<String>,
    /// Follow it
    #[arg(long)]
    watch: bool,
}

/// `roll-back`
#[derive(clap::Args)]
pub(crate) struct RollBackOptions {
    /// `PROJECT/ENVIRONMENT`
    environment: String,
    /// A deployment by its number in the environment's history; the one before the present when absent
    #[arg(long)]
    to: Option<i64>,
    /// Follow it
    #[arg(long)]
    watch: bool,
}

pub(super) async fn promote(options: PromoteOptions, api: &Api, json: bool) -> Done {
    let run = match &options.run {
        Some(text) => {
            let named = run_ref(text)?;
            let wrong = || Failure::new(2, format!("`{text}` is no run of {}", options.project), "write PROJECT/NUMBER");
            Some(named.number.filter(|_| named.project == options.project).ok_or_else(wrong)?)
        }
        None => None,
    };
    let address = address(&format!("{}/{}", options.project, options.to))?;
    let view: RunView = api.post(&format!("{address}/promotion"), &AskPromotion { run }).await?;
    begun(api, view, options.watch, json).await
}

pub(super) async fn roll_back(options: RollBackOptions, api: &Api, json: bool) -> Done {
    let address = address(&options.environment)?;
    let view: RunView = api.post(&format!("{address}/roll-back"), &AskRollBack { to: options.to }).await?;
    begun(api, view, options.watch, json).await
}
