//! Findings, from SARIF 2.1.0 (OASIS standard). What was suppressed, and what has the level `none`, is left out.

use super::error::ReportError;
use super::results::{Finding, Level, MESSAGE, NAME, cut};
use serde::Deserialize;
use std::collections::{BTreeMap, HashMap};

#[derive(Deserialize)]
struct Log {
    #[serde(rename = "$schema", default)]
    schema: Option<String>,
    #[serde(default)]
    version: Option<String>,
    runs: Vec<Run>,
}

#[derive(Deserialize)]
struct Run {
    #[serde(default)]
    tool: Tool,
    #[serde(default)]
    results: Option<Vec<Outcome>>,
}

#[derive(Default, Deserialize)]
struct Tool {
    #[serde(default)]
    driver: Driver,
}

#[derive(Default, Deserialize)]
struct Driver {
    #[serde(default)]
    rules: Vec<Rule>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Rule {
    id: String,
    #[serde(default)]
    default_configuration: Option<Configuration>,
}

#[derive(Deserialize)]
struct Configuration {
    #[serde(default)]
    level: Option<String>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Outcome {
    #[serde(default)]
    rule_id: Option<String>,
    #[serde(default)]
    rule_index: Option<usize>,
    #[serde(default)]
    level: Option<String>,
    #[serde(default)]
    kind: Option<String>,
    #[serde(default)]
    message: Message,
    #[serde(default)]
    locations: Vec<Location>,
    #[serde(default)]
    partial_fingerprints: BTreeMap<String, String>,
    #[serde(default)]
    suppressions: Vec<serde_json::Value>,
}

#[derive(Default, Deserialize)]
struct Message {
    #[serde(default)]
    text: Option<String>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Location {
    #[serde(default)]
    physical_location: Option<Physical>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Physical {
    #[serde(default)]
    artifact_location: Option<Place>,
    #[serde(default)]
    region: Option<Region>,
}

#[derive(Deserialize)]
struct Place {
    #[serde(default)]
    uri: Option<String>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Region {
    #[serde(default)]
    start_line: Option<u32>,
}

/// Reads a SARIF log. Errors when it is not JSON, or not of version 2.1.0.
pub fn sarif_findings(bytes: &[u8]) -> Result<Vec<Finding>, ReportError> {
    let log: Log = serde_json::from_slice(bytes).map_err(|error| ReportError::Json(error.to_string()))?;
    if log.schema.is_none() && log.version.is_none() {
        return Err(ReportError::Kind("SARIF: it says neither `$schema` nor `version`"));
    }
    let mut findings = Vec::new();
    let mut same: HashMap<String, usize> = HashMap::new();
    for run in log.runs {
        for outcome in run.results.unwrap_or_default() {
            let Some(mut finding) = finding(outcome, &run.tool.driver.rules) else { continue };
            // Of several alike the first stays the first when one is added below.
            let times = same.entry(finding.key.clone()).or_insert(0);
            *times += 1;
            if *times > 1 {
                finding.key = format!("{} {times}", finding.key);
            }
            findings.push(finding);
        }
    }
    Ok(findings)
}

/// A result that is a finding: not suppressed, and of a kind that fails.
fn finding(outcome: Outcome, rules: &[Rule]) -> Option<Finding> {
    if !outcome.suppressions.is_empty() || outcome.kind.as_deref().is_some_and(|kind| kind != "fail" && kind != "open" && kind != "review")
    {
        return None;
    }
    let by_index = outcome.rule_index.and_then(|index| rules.get(index));
    let rule = outcome.rule_id.as_ref().and_then(|id| rules.iter().find(|rule| rule.id == *id)).or(by_index);
    let by_rule = rule.and_then(|rule| rule.default_configuration.as_ref()?.level.clone());
    let level = match outcome.level.or(by_rule).as_deref() {
        Some("error") => Level::Error,
        Some("note") => Level::Note,
        Some("none") => return None,
        _ => Level::Warning,
    };
    let physical = outcome.locations.into_iter().find_map(|location| location.physical_location);
    let (place, region) = physical.map_or((None, None), |physical| (physical.artifact_location, physical.region));
    let rule = cut(outcome.rule_id.or(by_index.map(|rule| rule.id.clone())).unwrap_or_else(|| "(no rule)".into()), NAME);
    let message = cut(outcome.message.text.as_deref().unwrap_or_default(), MESSAGE);
    let file = place.and_then(|place| place.uri).map(|uri| cut(uri.trim_start_matches("file://"), NAME));
    let prints: Vec<String> = outcome.partial_fingerprints.iter().map(|(name, print)| format!("{name}={print}")).collect();
    let key = match prints.is_empty() {
        false => format!("{rule} {}", prints.join(" ")),
        true => format!("{rule} {} {message}", file.as_deref().unwrap_or_default()),
    };
    Some(Finding { rule, level, message, file, line: region.and_then(|region| region.start_line), key: cut(key, MESSAGE) })
}
