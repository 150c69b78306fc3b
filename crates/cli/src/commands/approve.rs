//! `approve`, `refuse`, `needs`: people's words on what jobs would put into environments, and all that waits for one's own.

use super::environment::show;
use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out::{self, table};
use crate::reference::run_ref;
use ordotaxis_wire::environment::{EnvironmentView, NeedView, Speak};

/// `approve`, `refuse`
#[derive(clap::Args)]
pub(crate) struct SpeakOptions {
    /// `PROJECT/NUMBER`
    run: String,
    /// Which job; needed where several of the run wait
    job: Option<String>,
    #[arg(long)]
    reason: Option<String>,
}

pub(super) async fn speak(options: SpeakOptions, agrees: bool, api: &Api, json: bool) -> Done {
    let run = run_ref(&options.run)?;
    let unnamed = || Failure::new(2, format!("`{}` names no run", options.run), "a word is for one run: write PROJECT/NUMBER");
    let number = run.number.ok_or_else(unnamed)?;
    let ask = Speak { job: options.job, agrees, reason: options.reason };
    let views: Vec<EnvironmentView> = api.post(&format!("runs/{}/{number}/approval", run.project), &ask).await?;
    if json {
        out::json(&views);
        return OK;
    }
    out::print(format!("{} {}/{number}", if agrees { "approved:" } else { "refused:" }, run.project));
    let name = format!("{}/{number}", run.project);
    let concerns = |view: &&EnvironmentView| {
        view.waiting.iter().any(|one| one.run == name) || view.inside.as_ref().is_some_and(|inside| inside.run == name)
    };
    views.iter().filter(concerns).for_each(show);
    OK
}

pub(super) async fn needs(api: &Api, json: bool) -> Done {
    let needs: Vec<NeedView> = api.get("needs").await?;
    if json {
        out::json(&needs);
        return OK;
    }
    let head = ["since", "what", "do"].map(str::to_owned).to_vec();
    let row = |need: &NeedView| vec![out::moment(need.since), need.sentence.clone(), need.command.clone()];
    table(&std::iter::once(head).chain(needs.iter().map(row)).collect::<Vec<_>>(), "nothing waits for you");
    OK
}
