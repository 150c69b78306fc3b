//! What a text holds, without the rest of the language: which stages in which order, which jobs, what each comes after and
//! takes. A file with mistakes has an outline too, as long as it is TOML.

use super::keys::json;
use super::order::texts;
use crate::order::{Line, StageGraph, parse};
use serde::{Deserialize, Serialize};
use toml_edit::{Document, Item, TableLike};

/// The stages of a file with their jobs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Outline {
    /// By how many others come before each, then as the file has them.
    pub stages: Vec<OutlineStage>,
}

/// A stage.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct OutlineStage {
    pub name: String,
    /// How many stages stand before it, one after the other. Stages of one level are side by side.
    pub level: usize,
    pub jobs: Vec<OutlineJob>,
}

/// A job.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct OutlineJob {
    /// `STAGE.NAME`
    pub job: String,
    /// The line of the text that it begins in, from 1.
    pub line: usize,
    /// What it comes after and takes.
    pub links: Vec<OutlineLink>,
    /// Names of its artifacts.
    pub gives: Vec<String>,
    /// What its keys say.
    #[schema(value_type = Object)]
    pub keys: serde_json::Map<String, serde_json::Value>,
}

/// What a job waits for by its own word.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct OutlineLink {
    /// A job, or a whole stage.
    pub of: String,
    /// What is taken from it; none where the job only comes after it.
    pub artifact: Option<String>,
}

/// None where the text is no TOML.
pub fn outline(text: &str) -> Option<Outline> {
    let file = Document::parse(text).ok()?;
    // A line with a mistake orders nothing; the check says what is wrong with it.
    let lines: Vec<Line> = texts(file.as_table()).into_iter().filter_map(|text| parse(text).ok()).collect();
    let jobs = file.get("job").and_then(Item::as_table_like);
    let found: Vec<(&str, &dyn TableLike)> =
        jobs.into_iter().flat_map(|jobs| jobs.iter()).filter_map(|(stage, item)| Some((stage, item.as_table_like()?))).collect();
    let known: Vec<String> = found.iter().map(|(stage, _)| (*stage).to_owned()).collect();
    let levels = levels(&lines, &known);
    let starts: Vec<usize> = text.match_indices('\n').map(|(at, _)| at).collect();
    let line_of = |item: &Item| item.span().map_or(1, |span| starts.partition_point(|end| *end < span.start) + 1);
    let stage = |(name, table): (&str, &dyn TableLike)| OutlineStage {
        name: name.to_owned(),
        level: levels.iter().find(|(stage, _)| stage == name).map_or(0, |(_, level)| *level),
        jobs: table.iter().filter_map(|(job, item)| of_job(name, job, item, line_of(item))).collect(),
    };
    let mut stages: Vec<OutlineStage> = found.into_iter().map(stage).filter(|stage| !stage.jobs.is_empty()).collect();
    stages.sort_by_key(|stage| stage.level);
    Some(Outline { stages })
}

/// Each stage with the longest way to it; none where they wait for each other.
fn levels(lines: &[Line], known: &[String]) -> Vec<(String, usize)> {
    let Ok(graph) = StageGraph::new(lines, known) else { return Vec::new() };
    let mut level = vec![0; graph.names.len()];
    // A stage that is before another has fewer before it.
    let mut turns: Vec<usize> = (0..level.len()).collect();
    turns.sort_by_key(|stage| graph.before[*stage].count_ones(..));
    for stage in turns {
        level[stage] = graph.direct[stage].iter().map(|(before, _)| level[*before] + 1).max().unwrap_or(0);
    }
    graph.names.into_iter().zip(level).collect()
}

fn of_job(stage: &str, name: &str, item: &Item, line: usize) -> Option<OutlineJob> {
    let table = item.as_table_like()?;
    let keys: serde_json::Map<String, serde_json::Value> =
        table.iter().filter_map(|(key, item)| Some((key.to_owned(), of_item(item)?))).collect();
    let names = |key: &str| keys.get(key).and_then(|value| value.as_array()).into_iter().flatten();
    let after = names("after").filter_map(|one| Some(OutlineLink { of: one.as_str()?.to_owned(), artifact: None }));
    let taken = names("takes").filter_map(|one| one.as_str().or_else(|| one["from"].as_str())?.split_once('/'));
    let takes = taken.map(|(of, artifact)| OutlineLink { of: of.to_owned(), artifact: Some(artifact.to_owned()) });
    let links = after.chain(takes).collect();
    let gives = keys.get("gives").and_then(|value| value.as_object()).into_iter().flat_map(|map| map.keys().cloned()).collect();
    Some(OutlineJob { job: format!("{stage}.{name}"), line, links, gives, keys })
}

fn of_item(item: &Item) -> Option<serde_json::Value> {
    match item {
        Item::None => None,
        Item::Value(value) => Some(json(value)),
        Item::Table(table) => Some(of_table(table)),
        Item::ArrayOfTables(tables) => Some(tables.iter().map(|table| of_table(table)).collect()),
    }
}

fn of_table(table: &dyn TableLike) -> serde_json::Value {
    serde_json::Value::Object(table.iter().filter_map(|(key, item)| Some((key.to_owned(), of_item(item)?))).collect())
}
