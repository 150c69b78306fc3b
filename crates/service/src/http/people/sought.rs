//! What is found by words that someone types: projects, runs, jobs, tests, commits and people that they may see.

use crate::app::App;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::Query;
use axum::Json;
use axum::extract::State;
use ordotaxis_core::sought::best;
use ordotaxis_store::{Project, SoughtRun};
use ordotaxis_wire::sought::{PlaceKind, PlaceView};
use serde::Deserialize;
use utoipa::IntoParams;

/// How many places of each kind are told.
const EACH: i64 = 6;
/// How long the words may be, and how many of them count.
const LONGEST: usize = 200;
const MOST_WORDS: usize = 6;
/// Fewer characters than this are the beginning of too many commits.
const SHORTEST_COMMIT: usize = 4;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Words {
    /// What is looked for: parts of names, a run's number, the beginning of a commit.
    words: String,
    /// Where a number alone is a run of.
    project: Option<String>,
}

/// Places that words lead to, the nearest of each kind first.
#[utoipa::path(get, operation_id = "search", path = "/api/v1/search", params(Words), responses((status = 200, body = Vec<PlaceView>)))]
pub(crate) async fn search(State(app): State<App>, caller: Caller, Query(ask): Query<Words>) -> Result<Json<Vec<PlaceView>>, ApiError> {
    let short: String = ask.words.chars().take(LONGEST).collect();
    let words = short.split_whitespace().take(MOST_WORDS).collect::<Vec<_>>().join(" ");
    if words.is_empty() {
        return Ok(Json(Vec::new()));
    }
    let seen: Vec<Project> = app.records.projects().await?.into_iter().filter(|project| caller.sees(project)).collect();
    let ids: Vec<i64> = seen.iter().map(|project| project.id).collect();
    let mut places = named_run(&app, &seen, &words, ask.project.as_deref()).await?;
    let most = usize::try_from(EACH).unwrap_or_default();
    let projects = best(&words, seen.iter(), |project| &project.name, most);
    places
        .extend(projects.into_iter().map(|project| place(PlaceKind::Project, &project.name, None, format!("/projects/{}", project.name))));
    places.extend(app.records.runs_with(&ids, &words, EACH).await?.iter().map(run_place));
    places.extend(app.records.jobs_with(&ids, &words, EACH).await?.into_iter().map(|one| {
        let page = format!("/runs/{}/{}/{}", one.project, one.number, written(&one.job));
        place(PlaceKind::Job, &one.job, Some(one.project), page)
    }));
    places.extend(app.records.tests_with(&ids, &words, EACH).await?.into_iter().map(|one| {
        let page = format!("/projects/{}/test?suite={}&name={}", one.project, written(&one.suite), written(&one.name));
        let about = [one.project.as_str(), one.job.as_str(), one.suite.as_str()].into_iter().filter(|part| !part.is_empty());
        place(PlaceKind::Test, &one.name, Some(about.collect::<Vec<_>>().join(" · ")), page)
    }));
    let commit = words.to_ascii_lowercase();
    if commit.len() >= SHORTEST_COMMIT && commit.bytes().all(|byte| byte.is_ascii_hexdigit()) {
        places.extend(app.records.runs_of_commits(&ids, &commit, EACH).await?.iter().map(commit_place));
    }
    let persons = best(&words, app.records.persons().await?, |person| &person.name, most);
    places.extend(persons.into_iter().map(|one| place(PlaceKind::Person, &one.name, None, format!("/people?find={}", written(&one.name)))));
    Ok(Json(places))
}

/// `tidegauge/12`, `tidegauge 12`, and `12` where it is known of which project.
async fn named_run(app: &App, seen: &[Project], words: &str, project: Option<&str>) -> Result<Vec<PlaceView>, ApiError> {
    let (name, number) = match words.split_once(['/', ' ']) {
        Some((name, number)) => (Some(name.trim()), number.trim().trim_start_matches('/').trim()),
        None => (project, words),
    };
    let known = name.and_then(|name| seen.iter().find(|project| project.name == name));
    let (Some(project), Ok(number)) = (known, number.parse::<i64>()) else { return Ok(Vec::new()) };
    let run = app.records.run(&project.name, number).await?;
    Ok(run
        .into_iter()
        .map(|run| {
            place(PlaceKind::Run, &format!("{}/{number}", run.project), Some(run.commit_title), format!("/runs/{}/{number}", run.project))
        })
        .collect())
}

fn run_place(run: &SoughtRun) -> PlaceView {
    let on = run.branch.as_ref().map(|branch| format!(" on {branch}")).unwrap_or_default();
    let about = format!("{}: {}{on}", run.state, run.commit_title);
    place(PlaceKind::Run, &format!("{}/{}", run.project, run.number), Some(about), format!("/runs/{}/{}", run.project, run.number))
}

fn commit_place(run: &SoughtRun) -> PlaceView {
    let short = run.commit_id.get(..10).unwrap_or(&run.commit_id);
    let about = format!("{}: {}", run.project, run.commit_title);
    place(PlaceKind::Commit, short, Some(about), format!("/trace?thing={}", run.commit_id))
}

fn place(kind: PlaceKind, name: &str, about: Option<String>, page: String) -> PlaceView {
    PlaceView { kind, name: name.to_owned(), about, page }
}

/// A name as a part of an address.
fn written(name: &str) -> String {
    url::form_urlencoded::byte_serialize(name.as_bytes()).collect::<String>().replace('+', "%20")
}
