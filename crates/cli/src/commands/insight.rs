//! `environment insight` and `environment between`: what the history of environments comes to, and what lies between two
//! deployments.

use super::environment_address::address;
use crate::api::Api;
use crate::failure::{Done, OK};
use crate::out::{self, table};
use ordotaxis_wire::environment::{BetweenCommit, BetweenView, InsightView};
use ordotaxis_wire::words;
use reqwest::Method;

/// One bar of eight heights for each part of the time.
const BARS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

pub(super) async fn insight(project: &str, days: Option<i64>, api: &Api, json: bool) -> Done {
    let request = api.request(Method::GET, &format!("projects/{project}/insight"));
    let all: Vec<InsightView> =
        api.read(request.query(&days.map(|days| [("days", days)]).into_iter().flatten().collect::<Vec<_>>())).await?;
    if json {
        out::json(&all);
        return OK;
    }
    let head = ["environment", "put there", "failed", "commit to there", "mended in", "over time"].map(str::to_owned).to_vec();
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(all.iter().map(row)).collect();
    table(&rows, "nothing was put anywhere in that time");
    if let Some(one) = all.first() {
        out::remark(format!("the last {} days; times are medians", one.days));
    }
    OK
}

fn row(one: &InsightView) -> Vec<String> {
    let length = |ms: Option<i64>| ms.map(words::age).unwrap_or_default();
    let share = (one.failed * 100).checked_div(one.deployments).unwrap_or(0);
    let mended = length(one.mend_ms);
    vec![
        one.environment.clone(),
        times(one.deployments),
        if one.failed == 0 { "none".to_owned() } else { format!("{} ({share} %)", one.failed) },
        length(one.lead_ms),
        match (mended.is_empty(), one.open) {
            (true, true) => "not yet".to_owned(),
            (false, true) => format!("{mended}; not yet again"),
            _ => mended,
        },
        bars(&one.parts.iter().map(|part| part.well + part.failed).collect::<Vec<_>>()),
    ]
}

fn times(count: usize) -> String {
    if count == 1 { "once".to_owned() } else { format!("{count} times") }
}

/// The counts as bars, the highest one full.
fn bars(counts: &[usize]) -> String {
    let most = counts.iter().copied().max().unwrap_or(0).max(1);
    counts.iter().map(|count| BARS[(count * (BARS.len() - 1)).div_ceil(most)]).collect()
}

pub(super) async fn between(environment: &str, from: Option<i64>, to: Option<i64>, api: &Api, json: bool) -> Done {
    let request = api.request(Method::GET, &format!("{}/commits", address(environment)?));
    let two: Vec<(&str, i64)> = [("from", from), ("to", to)].into_iter().filter_map(|(name, number)| Some((name, number?))).collect();
    let view: BetweenView = api.read(request.query(&two)).await?;
    if json {
        out::json(&view);
        return OK;
    }
    let from = view.from.map_or("the beginning".to_owned(), |number| number.to_string());
    out::print(out::bold(&format!("from {from} to {}", view.to)));
    list("came", &view.came);
    list("went", &view.went);
    if view.came.is_empty() && view.went.is_empty() {
        out::print("no commit lies between them");
    }
    if view.more {
        out::remark("there are more than these".to_owned());
    }
    OK
}

fn list(verb: &str, commits: &[BetweenCommit]) {
    for one in commits {
        let id = one.id.get(..8).unwrap_or(&one.id);
        out::print(format!("  {verb}  {id}  {}  {}", one.title, out::dim(&one.author)));
    }
}
