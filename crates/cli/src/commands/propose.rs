//! `propose`, `withdraw`, `review`: proposals of projects whose repository has no forge, and one's word on any.

use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out;
use ordotaxis_wire::proposal::{GiveReview, NewProposal, ProposalView};
use reqwest::Method;

/// `propose`
#[derive(clap::Args)]
pub(crate) struct ProposeOptions {
    project: String,
    /// The branch that is offered
    branch: String,
    /// The branch that it is for; the main branch when absent
    #[arg(long)]
    to: Option<String>,
    /// What it is about; the title of its newest commit when absent
    #[arg(long)]
    title: Option<String>,
    /// It is not ready yet
    #[arg(long)]
    draft: bool,
}

/// `withdraw`
#[derive(clap::Args)]
pub(crate) struct WithdrawOptions {
    /// `PROJECT/NUMBER`
    proposal: String,
}

/// `review`
#[derive(clap::Args)]
#[command(group = clap::ArgGroup::new("word").required(true))]
pub(crate) struct ReviewOptions {
    /// `PROJECT/NUMBER`
    proposal: String,
    /// Agree with it
    #[arg(long, group = "word")]
    approve: bool,
    /// Keep it from landing
    #[arg(long, group = "word")]
    refuse: bool,
    /// Take your word back
    #[arg(long, group = "word")]
    back: bool,
    /// The commit that you have looked at: its first digits, at least seven
    #[arg(long)]
    commit: String,
}

/// The two parts of `PROJECT/NUMBER`.
fn parts(proposal: &str) -> Result<(&str, &str), Failure> {
    let wrong = || Failure::new(2, format!("`{proposal}` is no proposal"), "write PROJECT/NUMBER, such as gauge/7");
    proposal.split_once('/').filter(|(project, number)| !project.is_empty() && !number.is_empty()).ok_or_else(wrong)
}

pub(super) async fn propose(options: ProposeOptions, api: &Api, json: bool) -> Done {
    let ask = NewProposal { source: options.branch, target: options.to, title: options.title, draft: options.draft };
    let made: ProposalView = api.post(&format!("projects/{}/proposals", options.project), &ask).await?;
    if json {
        out::json(&made);
    } else {
        out::print(format!("{}/{} offers {} for {}: {}", made.project, made.number, ask.source, made.target, made.title));
    }
    OK
}

pub(super) async fn withdraw(options: WithdrawOptions, api: &Api) -> Done {
    let (project, number) = parts(&options.proposal)?;
    api.send(api.request(Method::DELETE, &format!("projects/{project}/proposals/{number}"))).await?;
    out::print(format!("{} is withdrawn", options.proposal));
    OK
}

pub(super) async fn review(options: ReviewOptions, api: &Api, json: bool) -> Done {
    let (project, number) = parts(&options.proposal)?;
    let approves = (!options.back).then_some(options.approve);
    let ask = GiveReview { approves, commit: options.commit };
    let view: ProposalView = api.put(&format!("projects/{project}/proposals/{number}/review"), &ask).await?;
    if json {
        out::json(&view);
    } else {
        let words = if view.landing.is_empty() { view.state.clone() } else { view.landing.join("; ") };
        out::print(format!("{}: {words}", options.proposal));
    }
    OK
}
