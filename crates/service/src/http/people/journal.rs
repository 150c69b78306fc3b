//! The journal, as people read it: of the service, or of one project.

use super::projects;
use crate::app::App;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path, Query};
use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, HeaderValue, header};
use ordotaxis_store::{JournalFilter, JournalRow, JournalState};
use ordotaxis_wire::journal::{JournalVerified, JournalView, VerifyJournal};
use ordotaxis_wire::moment;
use ordotaxis_wire::problem::Problem;
use serde::Deserialize;
use serde_json::Value;
use tokio_stream::wrappers::ReceiverStream;
use utoipa::IntoParams;

/// How many rows a page holds.
const PAGE: i64 = 100;
/// How many rows an export reads at once.
const EXPORT_PAGE: i64 = 1000;

#[derive(Debug, Clone, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Filter {
    /// Only what was done to this project.
    project: Option<String>,
    /// Only what this person, runner, job or rule did.
    by: Option<String>,
    /// An action, `secret.set`, or all that begin so: `secret`.
    action: Option<String>,
    /// Only what happened then or later: a moment as RFC 3339 writes it.
    #[param(value_type = Option<String>, format = DateTime)]
    since: Option<jiff::Timestamp>,
    /// Where the page begins, as the `Link` header of the last one said.
    cursor: Option<i64>,
}

impl Filter {
    fn of(self) -> JournalFilter {
        let since = self.since.map(jiff::Timestamp::as_millisecond);
        JournalFilter { project: self.project, by: self.by, action: self.action, since, before: self.cursor }
    }

    /// The query of the next page.
    fn query(&self, with_project: bool, cursor: i64) -> String {
        let since = self.since.map(|since| since.to_string());
        let project = self.project.as_ref().filter(|_| with_project);
        let asked = [("project", project), ("by", self.by.as_ref()), ("action", self.action.as_ref()), ("since", since.as_ref())];
        let mut query = url::form_urlencoded::Serializer::new(String::new());
        query.extend_pairs(asked.into_iter().filter_map(|(name, value)| Some((name, value?))));
        query.append_pair("cursor", &cursor.to_string()).finish()
    }
}

fn view(row: JournalRow) -> JournalView {
    let json = |text: &Option<String>| text.as_deref().and_then(|text| serde_json::from_str(text).ok());
    let (before, after) = (json(&row.before), json(&row.after));
    let change = match &row.refused {
        Some(why) => format!("refused: {why}"),
        None => change(before.as_ref(), after.as_ref()),
    };
    JournalView {
        change,
        id: row.id,
        at: moment(row.at),
        kind: row.kind,
        who: row.who,
        way: row.way,
        address: row.address,
        action: row.action,
        project: row.project,
        object: row.object,
        refused: row.refused,
        before,
        after,
        digest: row.digest,
        previous: row.previous,
    }
}

/// What changed, in a line.
fn change(before: Option<&Value>, after: Option<&Value>) -> String {
    let (before, after) = (before.map(words).unwrap_or_default(), after.map(words).unwrap_or_default());
    match (before.is_empty(), after.is_empty()) {
        (false, false) => format!("{before} → {after}"),
        (false, true) => format!("was {before}"),
        (true, _) => after,
    }
}

/// A value as a person reads it; what is empty is left out, and a commit's id is cut short.
fn words(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(text) if text.len() == 40 && text.bytes().all(|byte| byte.is_ascii_hexdigit()) => text[..10].to_owned(),
        Value::String(text) => text.clone(),
        Value::Array(items) => items.iter().map(words).collect::<Vec<_>>().join(" "),
        Value::Object(entries) => {
            let pairs = entries.iter().map(|(name, value)| (name.replace('_', " "), words(value)));
            pairs.filter(|(_, value)| !value.is_empty()).map(|(name, value)| format!("{name} {value}")).collect::<Vec<_>>().join(", ")
        }
        other => other.to_string(),
    }
}

/// Who did what, the newest first.
#[utoipa::path(get, operation_id = "journal", path = "/api/v1/journal", params(Filter), responses((status = 200, body = Vec<JournalView>)))]
pub(crate) async fn list(State(app): State<App>, Query(filter): Query<Filter>) -> Result<(HeaderMap, Json<Vec<JournalView>>), ApiError> {
    page(&app, filter, "/api/v1/journal").await
}

/// Who did what to a project, the newest first.
#[utoipa::path(get, operation_id = "project_journal", path = "/api/v1/projects/{project}/journal", params(("project" = String, Path), Filter), responses((status = 200, body = Vec<JournalView>), (status = 404, body = Problem)))]
pub(crate) async fn of_project(
    State(app): State<App>,
    Path(project): Path<String>,
    Query(filter): Query<Filter>,
) -> Result<(HeaderMap, Json<Vec<JournalView>>), ApiError> {
    let project = projects::find(&app, &project).await?.name;
    let address = format!("/api/v1/projects/{project}/journal");
    page(&app, Filter { project: Some(project), ..filter }, &address).await
}

async fn page(app: &App, filter: Filter, address: &str) -> Result<(HeaderMap, Json<Vec<JournalView>>), ApiError> {
    let rows = app.records.journal(&filter.clone().of(), PAGE).await?;
    let mut headers = HeaderMap::new();
    if let Some(last) = rows.last().filter(|_| i64::try_from(rows.len()) == Ok(PAGE)) {
        let next = filter.query(address.ends_with("/v1/journal"), last.id);
        if let Ok(value) = HeaderValue::from_str(&format!("<{address}?{next}>; rel=\"next\"")) {
            headers.insert(header::LINK, value);
        }
    }
    Ok((headers, Json(rows.into_iter().map(view).collect())))
}

/// The whole journal as lines of JSON, the newest first: to be kept elsewhere.
#[utoipa::path(get, operation_id = "export_journal", path = "/api/v1/journal/export", params(Filter), responses((status = 200, description = "a line of JSON a row", content_type = "application/x-ndjson")))]
pub(crate) async fn export(
    State(app): State<App>,
    Query(filter): Query<Filter>,
) -> ([(header::HeaderName, &'static str); 1], axum::body::Body) {
    let (sender, receiver) = tokio::sync::mpsc::channel::<Result<String, std::io::Error>>(4);
    let mut filter = filter.of();
    tokio::spawn(async move {
        loop {
            let rows = match app.records.journal(&filter, EXPORT_PAGE).await {
                Ok(rows) => rows,
                // The answer breaks off, which its reader notices.
                Err(error) => return drop(sender.send(Err(std::io::Error::other(error))).await),
            };
            let Some(last) = rows.last().map(|row| row.id) else { return };
            filter.before = Some(last);
            let lines: String = rows.into_iter().filter_map(|row| Some(serde_json::to_string(&view(row)).ok()? + "\n")).collect();
            if sender.send(Ok(lines)).await.is_err() {
                return;
            }
        }
    });
    ([(header::CONTENT_TYPE, "application/x-ndjson")], axum::body::Body::from_stream(ReceiverStream::new(receiver)))
}

/// Look whether a row was changed, taken out or put in between.
#[utoipa::path(post, operation_id = "verify_journal", path = "/api/v1/journal/verify", request_body = VerifyJournal, responses((status = 200, body = JournalVerified), (status = 422, body = Problem)))]
pub(crate) async fn verify(State(app): State<App>, Body(ask): Body<VerifyJournal>) -> Result<Json<JournalVerified>, ApiError> {
    let against =
        ask.against.as_deref().map(|text| text.split_once(':').and_then(|(row, digest)| Some((row.parse::<i64>().ok()?, digest))));
    let against = match against {
        Some(None) => return Err(ApiError::field("/against", "write a row's number and its digest: 128:9f86d0…")),
        other => other.flatten(),
    };
    Ok(Json(match app.records.verify_journal(against).await? {
        JournalState::Whole { rows, digest } => JournalVerified { whole: true, rows, digest: Some(digest), why: None },
        JournalState::Broken { row, why } => {
            JournalVerified { whole: false, rows: row - 1, digest: None, why: Some(format!("row {row}: {why}")) }
        }
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn changes_are_said_in_words() {
        let commit = "0fa6b9d9848d86331debc57f2b01a9546534cabe";
        for (before, after, said) in [
            (Some(json!("all")), Some(json!("granted")), "all → granted"),
            (Some(json!({ "mail": null })), Some(json!({ "mail": "odd@saltmarsh.example" })), "mail odd@saltmarsh.example"),
            (Some(json!("owner")), None, "was owner"),
            (None, Some(json!({ "pipeline": "main", "commit": commit, "again_of": 3 })), "pipeline main, commit 0fa6b9d984, again of 3"),
            (Some(json!(["tomas"])), Some(json!(["tomas", "maren"])), "tomas → tomas maren"),
            (None, Some(json!({})), ""),
            (None, None, ""),
        ] {
            assert_eq!(change(before.as_ref(), after.as_ref()), said);
        }
    }
}
