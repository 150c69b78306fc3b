//! `profile check`, `list`, `schema`: forge profiles, looked at before a service uses them.

use super::check;
use crate::api::Api;
use crate::failure::{Done, Failure, OK, failed};
use crate::global::Global;
use crate::out::{self, table};
use clap::Subcommand;
use ordotaxis_core::forge::{Delivery, Profile, Reading, profile as read_profile, schema};
use ordotaxis_core::language::{Code, Diagnostic, Span, counted, has_errors};
use ordotaxis_wire::delivery::ProfileView;
use ordotaxis_wire::plan::diagnostic_views;
use serde_json::json;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

#[derive(Subcommand)]
pub(crate) enum ProfileCommand {
    /// Find the mistakes in a profile; with a sample, show what would be read from it
    Check {
        file: PathBuf,
        /// The body of a delivery, as the forge sends it
        #[arg(long)]
        sample: Option<PathBuf>,
        /// Its headers, one a line: `Name: value`
        #[arg(long, requires = "sample")]
        headers: Option<PathBuf>,
    },
    /// The profiles that the service knows
    List,
    /// Print what a profile may say as JSON Schema, for editors
    Schema,
}

pub(super) async fn profile(command: ProfileCommand, global: &Global) -> Done {
    match command {
        ProfileCommand::Check { file, sample, headers } => one(&file, sample.as_deref(), headers.as_deref(), global.json),
        ProfileCommand::Schema => {
            out::json(&schema());
            OK
        }
        ProfileCommand::List => {
            let profiles: Vec<ProfileView> = Api::new(global)?.get("profiles").await?;
            if global.json {
                out::json(&profiles);
                return OK;
            }
            let head = ["profile", "reads", "can"].map(str::to_owned).to_vec();
            let row = |one: &ProfileView| vec![one.name.clone(), one.events.join(", "), one.requests.join(", ")];
            let rows: Vec<Vec<String>> = std::iter::once(head).chain(profiles.iter().map(row)).collect();
            table(&rows, "the service knows no profiles");
            OK
        }
    }
}

fn one(file: &Path, sample: Option<&Path>, headers: Option<&Path>, as_json: bool) -> Done {
    let (name, text) = (file.display().to_string(), check::read(file)?);
    let (profile, mut diagnostics) = read_profile(&text);
    let mut reading = None;
    if let (Some(profile), Some(sample)) = (&profile, sample) {
        let (read, told) = tried(profile, &text, &bytes(sample)?, &headers_of(headers)?);
        diagnostics.extend(told);
        reading = read;
    }
    let bad = has_errors(&diagnostics);
    if as_json {
        let events: Vec<serde_json::Value> =
            reading.iter().flat_map(|reading| &reading.events).map(|event| json!({ "says": event.sentence(), "event": event })).collect();
        out::json(&json!({ "diagnostics": diagnostic_views(&name, &text, &diagnostics), "events": events }));
        return if bad { Ok(failed()) } else { OK };
    }
    if diagnostics.is_empty() {
        out::remark(format!("{name}: nothing wrong"));
    } else {
        check::print(&name, &text, &diagnostics)?;
    }
    if let Some(reading) = &reading {
        out::remark(format!("the sample holds {}", counted(reading.events.len(), "event")));
        for event in &reading.events {
            out::print(format!("{}  {}", out::bold(&format!("{:<8}", event.word())), event.sentence()));
            let fields = serde_json::to_value(event).unwrap_or_default();
            for (field, value) in fields.as_object().into_iter().flatten().filter(|(field, value)| *field != "event" && !value.is_null()) {
                out::print(format!("          {field:<9} {}", value.as_str().map_or_else(|| value.to_string(), str::to_owned)));
            }
        }
    }
    if bad { Ok(failed()) } else { OK }
}

/// What a sample is read as, and what was missing, each at the profile's line.
fn tried(profile: &Profile, text: &str, body: &[u8], headers: &BTreeMap<String, String>) -> (Option<Reading>, Vec<Diagnostic>) {
    let hook = || line_span(text, text.lines().position(|line| line.trim() == "[hook]").map_or(1, |at| at + 1));
    let body = match profile.body(&Delivery { headers, body }) {
        Ok(body) => body,
        Err(why) => return (None, vec![Diagnostic::error(Code::NotThere, hook(), format!("the sample cannot be read: {why}"))]),
    };
    let reading = profile.events(headers, &body);
    let miss = |miss: &ordotaxis_core::forge::Miss| {
        let (field, table, at) = (miss.field, miss.table, &miss.looked_for);
        let (said, looked) = match miss.odd {
            true => (format!("`{field}` of [{table}] is no commit in the sample"), format!("look at what stands at {at}")),
            false => (format!("`{field}` of [{table}] is not in the sample"), format!("nothing stands at {at}")),
        };
        Diagnostic::error(Code::NotThere, line_span(text, miss.line), said).hint(looked)
    };
    let mut told: Vec<Diagnostic> = reading.misses.iter().map(miss).collect();
    if reading.events.is_empty() && told.is_empty() {
        told.push(Diagnostic::error(Code::NotThere, hook(), "no table of [hook] fits the sample").hint("below it each table says why"));
        told.extend(
            profile.unfit(headers, &body).into_iter().map(|(line, why)| Diagnostic::note(Code::NotThere, line_span(text, line), why)),
        );
    }
    (Some(reading), told)
}

/// The bytes of a line, counted from 1.
fn line_span(text: &str, line: usize) -> Span {
    let start: usize = text.split_inclusive('\n').take(line.saturating_sub(1)).map(str::len).sum();
    let length = text[start..].lines().next().map_or(0, |line| line.trim_end().len());
    start..start + length
}

fn bytes(file: &Path) -> Result<Vec<u8>, Failure> {
    let failed = |error| Failure::new(2, format!("{} could not be read: {error}", file.display()), "name a file with what the forge sent");
    std::fs::read(file).map_err(failed)
}

fn headers_of(file: Option<&Path>) -> Result<BTreeMap<String, String>, Failure> {
    let text = file.map(bytes).transpose()?.unwrap_or_default();
    let text = String::from_utf8_lossy(&text).into_owned();
    let split = |line: &str| line.split_once(':').map(|(name, value)| (name.trim().to_lowercase(), value.trim().to_owned()));
    Ok(text.lines().filter_map(split).collect())
}
