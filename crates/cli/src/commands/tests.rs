//! `tests`, `findings`, `numbers`: what reports say, of one run and over time.

use crate::api::Api;
use crate::failure::{Done, OK};
use crate::out;
use crate::out::table;
use crate::reference::run_ref;
use ordotaxis_core::engine::{State, shown};
use ordotaxis_core::language::counted;
use ordotaxis_core::report::CaseEnd;
use ordotaxis_wire::results::{CaseView, FindingView, FlakyView, HistoryView, SeriesView, TestsView};
use ordotaxis_wire::words;
use reqwest::Method;

/// `tests`
#[derive(clap::Args)]
pub(crate) struct TestsOptions {
    /// A run, or with --flaky or --test a project
    run: String,
    /// Tests that passed and failed with nothing changed
    #[arg(long, conflicts_with = "test")]
    flaky: bool,
    /// One test over runs: `SUITE > NAME`
    #[arg(long)]
    test: Option<String>,
    /// Those that passed, too
    #[arg(long)]
    all: bool,
}

/// `findings`
#[derive(clap::Args)]
pub(crate) struct FindingsOptions {
    run: String,
}

/// `numbers`
#[derive(clap::Args)]
pub(crate) struct NumbersOptions {
    project: String,
    #[arg(long, default_value = "main")]
    pipeline: String,
}

pub(super) async fn tests(ask: TestsOptions, api: &Api, json: bool) -> Done {
    let run = &run_ref(&ask.run)?;
    if ask.flaky {
        return flaky(api, &run.project, json).await;
    }
    if let Some(test) = &ask.test {
        return history(api, &run.project, test, json).await;
    }
    let number = api.run(run).await?.number;
    let view: TestsView = api.get(&format!("runs/{}/{number}/tests", run.project)).await?;
    if json {
        out::json(&view);
        return OK;
    }
    if view.total == 0 {
        out::remark("this run has reported no tests; a job names its reports with `reports = { junit = [\"out/*.xml\"] }`");
        return OK;
    }
    out::print(format!("{}  {}", out::bold(&view.run), sentence(&view)));
    group("new failures", &view.new, true);
    group("failed before, too", &view.known, true);
    group("fixed", &view.fixed, false);
    group("failed at first, passed when tried again", &view.wavered, true);
    group("slowest", &view.slowest, false);
    if ask.all {
        group("others", &view.others, false);
    }
    OK
}

fn sentence(view: &TestsView) -> String {
    let mut said = format!("{} tests: {} passed", view.total, view.passed);
    for (count, word) in [(view.failed, "failed"), (view.skipped, "skipped")] {
        if count > 0 {
            said = format!("{said}, {count} {word}");
        }
    }
    said = format!("{said}, {}", words::duration(view.ms));
    match &view.compared_with {
        Some(base) if view.gone > 0 => format!("{said}; compared with {base}, of which {} are gone", view.gone),
        Some(base) => format!("{said}; compared with {base}"),
        None => format!("{said}; the first to report any"),
    }
}

fn named(suite: &str, name: &str) -> String {
    if suite.is_empty() { name.to_owned() } else { format!("{suite} > {name}") }
}

fn symbol(end: CaseEnd) -> String {
    let state = match end {
        CaseEnd::Passed => State::Passed,
        CaseEnd::Failed => State::Failed,
        CaseEnd::Skipped => State::Skipped,
    };
    out::as_state(state, out::symbol(state)).to_string()
}

fn group(title: &str, cases: &[CaseView], messages: bool) {
    if cases.is_empty() {
        return;
    }
    out::print(format!("\n{}", out::bold(title)));
    for case in cases {
        let took = case.ms.map(words::duration).unwrap_or_default();
        let since = case.since.as_ref().filter(|_| case.before == Some(CaseEnd::Failed)).map(|run| format!(" since {run}"));
        let about = format!("{}  {took}{}", case.job, since.unwrap_or_default());
        out::print(format!("  {} {}  {}", symbol(case.end), named(&case.suite, &case.name), out::dim(&about)));
        if messages && let Some(message) = &case.message {
            message.lines().take(4).for_each(|line| out::print(out::dim(&format!("      {line}"))));
        }
    }
}

async fn flaky(api: &Api, project: &str, json: bool) -> Done {
    let rows: Vec<FlakyView> = api.get(&format!("projects/{project}/flaky-tests")).await?;
    if json {
        out::json(&rows);
        return OK;
    }
    let head = ["test", "job", "turned", "last in"].map(str::to_owned).to_vec();
    let row = |row: &FlakyView| {
        vec![named(&row.suite, &row.name), row.job.clone(), counted(usize::try_from(row.times).unwrap_or(0), "time"), row.newest.clone()]
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(rows.iter().map(row)).collect();
    table(&rows, &format!("no test of {project} passed and failed with nothing changed, in its last 200 runs"));
    OK
}

async fn history(api: &Api, project: &str, test: &str, json: bool) -> Done {
    let (suite, name) = test.rsplit_once(" > ").unwrap_or(("", test));
    let query = [("suite", suite), ("name", name)];
    let rows: Vec<HistoryView> = api.read(api.request(Method::GET, &format!("projects/{project}/test-history")).query(&query)).await?;
    if json {
        out::json(&rows);
        return OK;
    }
    let head = ["", "run", "job", "took", "commit", "said"].map(str::to_owned).to_vec();
    let row = |row: &HistoryView| {
        let said = row.message.as_deref().and_then(|message| message.lines().next()).unwrap_or_default();
        vec![
            symbol(row.end),
            row.run.clone(),
            row.job.clone(),
            row.ms.map(words::duration).unwrap_or_default(),
            row.commit.chars().take(8).collect(),
            said.to_owned(),
        ]
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(rows.iter().map(row)).collect();
    table(&rows, "it was never reported");
    OK
}

pub(super) async fn findings(options: FindingsOptions, api: &Api, json: bool) -> Done {
    let run = &run_ref(&options.run)?;
    let number = api.run(run).await?.number;
    let rows: Vec<FindingView> = api.get(&format!("runs/{}/{number}/findings", run.project)).await?;
    if json {
        out::json(&rows);
        return OK;
    }
    let head = ["", "level", "rule", "place", "message"].map(str::to_owned).to_vec();
    let row = |row: &FindingView| {
        let place = match (&row.file, row.line) {
            (Some(file), Some(line)) => format!("{file}:{line}"),
            (Some(file), None) => file.clone(),
            _ => String::new(),
        };
        vec![if row.new { "new" } else { "" }.to_owned(), row.level.word().to_owned(), row.rule.clone(), place, row.message.clone()]
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(rows.iter().map(row)).collect();
    table(&rows, "nothing was found, or no job names a report with `reports = { sarif = [\"out/*.sarif\"] }`");
    OK
}

/// How many values a line shows.
const SHOWN: usize = 24;

pub(super) async fn numbers(options: NumbersOptions, api: &Api, json: bool) -> Done {
    let (project, pipeline) = (options.project.as_str(), options.pipeline.as_str());
    let series: Vec<SeriesView> =
        api.read(api.request(Method::GET, &format!("projects/{project}/numbers")).query(&[("pipeline", pipeline)])).await?;
    if json {
        out::json(&series);
        return OK;
    }
    let head = ["number", "now", "before", "last runs", "run"].map(str::to_owned).to_vec();
    let row = |series: &SeriesView| {
        let values: Vec<f64> = series.points.iter().map(|point| point.value).collect();
        let last =
            |back: usize| values.len().checked_sub(back).and_then(|at| values.get(at)).map(|value| shown(*value)).unwrap_or_default();
        let run = series.points.last().map(|point| point.run.clone()).unwrap_or_default();
        vec![series.name.clone(), last(1), last(2), bars(&values), run]
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(series.iter().map(row)).collect();
    table(&rows, &format!("no run of {project} has given numbers; reports and facts with `number = true` do"));
    OK
}

/// The last values as a row of bars, the least lowest.
fn bars(values: &[f64]) -> String {
    const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let last = &values[values.len().saturating_sub(SHOWN)..];
    let (least, most) = last.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(least, most), value| (least.min(*value), most.max(*value)));
    let bar = |value: &f64| {
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a share of seven")]
        let height = if most > least { ((value - least) / (most - least) * 7.0).round() as usize } else { 3 };
        BARS[height.min(7)]
    };
    last.iter().map(bar).collect()
}
