//! `proposals`: what is offered, how its runs went, who approved it.

use crate::api::Api;
use crate::failure::{Done, OK};
use crate::out::{self, table};
use ordotaxis_wire::project::ProjectView;
use ordotaxis_wire::proposal::{ProposalView, VerdictView};

/// `proposals`
#[derive(clap::Args)]
pub(crate) struct ProposalsOptions {
    /// All projects when absent; `PROJECT/NUMBER` shows one
    project: Option<String>,
    /// Those that were closed or have landed, too
    #[arg(long)]
    all: bool,
}

pub(super) async fn proposals(options: ProposalsOptions, api: &Api, as_json: bool) -> Done {
    if let Some((project, number)) = options.project.as_deref().and_then(|name| name.split_once('/')) {
        let one: ProposalView = api.get(&format!("projects/{project}/proposals/{number}")).await?;
        if as_json {
            out::json(&one);
        } else {
            show(&one);
        }
        return OK;
    }
    let projects = match options.project {
        Some(project) => vec![project],
        None => api.get::<Vec<ProjectView>>("projects").await?.into_iter().map(|project| project.name).collect(),
    };
    let mut list: Vec<ProposalView> = Vec::new();
    for project in projects {
        list.extend(api.get::<Vec<ProposalView>>(&format!("projects/{project}/proposals?all={}", options.all)).await?);
    }
    if as_json {
        out::json(&list);
        return OK;
    }
    let head = ["proposal", "state", "title", "for", "by", "approved by", "verdict", "changed"].map(str::to_owned).to_vec();
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(list.iter().map(row)).collect();
    table(&rows, if options.all { "nothing was ever offered" } else { "nothing is offered now; --all shows what was" });
    OK
}

fn approved_by(one: &ProposalView) -> String {
    one.reviews.iter().filter(|review| review.approves && review.current).map(|review| review.by.clone()).collect::<Vec<_>>().join(", ")
}

fn verdict(one: &VerdictView) -> String {
    format!("{} {}", out::state(one.state).trim_end(), one.pipeline)
}

fn row(one: &ProposalView) -> Vec<String> {
    let state = if one.draft && one.state == "open" { "draft".to_owned() } else { one.state.clone() };
    let outside = if one.outside { ", from outside" } else { "" };
    vec![
        format!("{}/{}", one.project, one.number),
        format!("{state}{outside}"),
        one.title.clone(),
        one.target.clone(),
        one.author.clone().unwrap_or_default(),
        approved_by(one),
        one.verdicts.iter().map(verdict).collect::<Vec<_>>().join(", "),
        out::moment(one.changed_at),
    ]
}

fn show(one: &ProposalView) {
    out::print(out::bold(&format!("{}/{}  {}", one.project, one.number, one.title)));
    let from = one.source.as_ref().map(|source| format!("{source} ")).unwrap_or_default();
    let outside = if one.outside { ", from outside" } else { "" };
    out::print(format!("  offered      {from}for {}, by {}{outside}", one.target, one.author.as_deref().unwrap_or("someone")));
    out::print(format!("  state        {}{}", one.state, if one.draft { ", a draft" } else { "" }));
    out::print(format!("  commit       {}, {}", one.commit, out::moment(one.changed_at)));
    if let Some(link) = &one.link {
        out::print(format!("  page         {link}"));
    }
    for review in &one.reviews {
        let what = if review.approves { "approves" } else { "refuses" };
        let old = if review.current { "" } else { ", of an earlier commit" };
        out::print(format!("  {:<12} {} {what}, {}{old}", "", review.by, out::moment(review.at)));
    }
    let head = ["run", "state", "commit", "what happened"].map(str::to_owned).to_vec();
    let row = |run: &ordotaxis_wire::run::RunView| {
        vec![run.run.clone(), out::state(run.state), run.commit.get(..8).unwrap_or(&run.commit).to_owned(), run.sentence.clone()]
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(one.runs.iter().map(row)).collect();
    table(&rows, "it has no runs: no pipeline has `proposal` among its `[starts]` for this branch");
}
