//! `proposals`: what is offered, how its runs went, who approved it.

use crate::api::Api;
use crate::failure::{Done, OK};
use crate::out::{self, table};
use ordotaxis_core::language::counted;
use ordotaxis_wire::project::ProjectView;
use ordotaxis_wire::proposal::{FailureView, GrownView, ProposalView, VerdictView};

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
    let head = ["proposal", "state", "title", "for", "by", "approved by", "verdict", "changed", "landing"].map(str::to_owned).to_vec();
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
    let new = match one.new_failures {
        0 => String::new(),
        count => format!(", {}", counted(usize::try_from(count).unwrap_or(usize::MAX), "new failure")),
    };
    vec![
        format!("{}/{}", one.project, one.number),
        format!("{state}{outside}"),
        one.title.clone(),
        one.target.clone(),
        one.author.clone().unwrap_or_default(),
        approved_by(one),
        format!("{}{new}", one.verdicts.iter().map(verdict).collect::<Vec<_>>().join(", ")),
        out::moment(one.changed_at),
        one.landing.join("; "),
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
    part("landing", one.landing.iter().cloned());
    part("fails anew", one.failures.iter().map(failure));
    part("numbers", one.numbers.iter().map(number));
    part("plan", one.plan.iter().cloned());
    let head = ["run", "state", "commit", "what happened"].map(str::to_owned).to_vec();
    let row = |run: &ordotaxis_wire::run::RunView| {
        vec![run.run.clone(), out::state(run.state), run.commit.get(..8).unwrap_or(&run.commit).to_owned(), run.sentence.clone()]
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(one.runs.iter().map(row)).collect();
    table(&rows, "it has no runs: no pipeline has `proposal` among its `[starts]` for this branch");
}

/// Lines under a word that stands before the first.
fn part(word: &str, lines: impl Iterator<Item = String>) {
    for (at, line) in lines.enumerate() {
        out::print(format!("  {:<12} {line}", if at == 0 { word } else { "" }));
    }
}

fn failure(one: &FailureView) -> String {
    let test = one.test.as_ref().map(|test| format!(" {test}")).unwrap_or_default();
    let message = one.message.as_ref().and_then(|message| message.lines().next()).map(|line| format!(": {line}")).unwrap_or_default();
    let place = one.place.as_ref().map(|place| format!(" at {place}")).unwrap_or_default();
    format!("{}{test}{message}{place}", one.job)
}

fn number(one: &GrownView) -> String {
    let before = one.before.as_ref().filter(|before| **before != one.now).map(|before| format!(", was {before}")).unwrap_or_default();
    let wants = one.wants.as_ref().map(|wants| format!(", wanted {wants}")).unwrap_or_default();
    format!("{} {}{before}{wants}", one.name, one.now)
}
