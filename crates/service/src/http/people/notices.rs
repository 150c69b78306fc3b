//! Notices: what one wants to be told, what was told, and a sample.

use super::projects;
use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path, Query};
use crate::http::gate::unknown_project;
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::Action;
use ordotaxis_core::language::nearest;
use ordotaxis_core::notice::{By, Choice, Notice, Occasion, Part, Whose, letter};
use ordotaxis_store::{Entry, NoticeRow, Project};
use ordotaxis_wire::moment;
use ordotaxis_wire::notice::{ChoiceView, NoticeView, NoticesView, OccasionWord, SampleView, SetChoice};
use ordotaxis_wire::problem::Problem;
use serde::Deserialize;
use utoipa::IntoParams;

/// How many of the last are shown.
const LAST: i64 = 50;

fn choice_view(project: Option<String>, choice: &Choice) -> ChoiceView {
    ChoiceView {
        project,
        on: choice.on.iter().map(|occasion| occasion.word().to_owned()).collect(),
        whose: if choice.whose == Whose::Own { "own" } else { "all" }.to_owned(),
        by: if choice.by == By::Mail { "mail" } else { "nothing" }.to_owned(),
    }
}

fn view(row: NoticeRow) -> Result<NoticeView, ApiError> {
    let notice = row.notice()?;
    Ok(NoticeView {
        id: row.id,
        project: row.project,
        occasion: row.occasion,
        sentence: notice.sentence,
        link: notice.link,
        to: row.receiver,
        name: row.name,
        at: moment(row.at),
        state: row.state,
        ended_at: row.ended_at.map(moment),
        why: row.said,
    })
}

async fn whole(app: &App, caller: &Caller) -> Result<NoticesView, ApiError> {
    let person = caller.person_id()?;
    let row = app.records.person(caller.name()).await?;
    let choices = app.records.choices(person).await?;
    let last = app.records.notices_of_person(person, LAST).await?;
    Ok(NoticesView {
        mail: row.and_then(|row| row.mail),
        sends_mail: app.post.is_some(),
        usual: choice_view(None, &Choice::default()),
        choices: choices.into_iter().map(|(project, choice)| choice_view(project, &choice)).collect(),
        occasions: Occasion::ALL.map(|one| OccasionWord { word: one.word().into(), says: one.says().into() }).to_vec(),
        last: last.into_iter().map(view).collect::<Result<_, _>>()?,
    })
}

/// What one is told, and what was told last.
#[utoipa::path(get, operation_id = "list_notices", path = "/api/v1/notices", responses((status = 200, body = NoticesView)))]
pub(crate) async fn list(State(app): State<App>, caller: Caller) -> Result<Json<NoticesView>, ApiError> {
    Ok(Json(whole(&app, &caller).await?))
}

/// A project that the caller sees; none where none is named.
async fn named(app: &App, caller: &Caller, name: Option<&str>) -> Result<Option<Project>, ApiError> {
    let Some(name) = name else { return Ok(None) };
    match app.records.project(name).await? {
        Some(project) if caller.sees(&project) => Ok(Some(project)),
        _ => Err(unknown_project(app, caller, name).await?.at("/project")),
    }
}

/// Choose what one is told, of one project or of all others.
#[utoipa::path(put, operation_id = "choose_notices", path = "/api/v1/notices", request_body = SetChoice, responses((status = 200, body = NoticesView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn choose(State(app): State<App>, caller: Caller, Body(ask): Body<SetChoice>) -> Result<Json<NoticesView>, ApiError> {
    let person = caller.person_id()?;
    let project = named(&app, &caller, ask.project.as_deref()).await?;
    let known = app.records.choices(person).await?;
    let of = |name: Option<&str>| known.iter().find(|(project, _)| project.as_deref() == name).map(|(_, choice)| choice.clone());
    let name = project.as_ref().map(|project| project.name.as_str());
    let before = of(name).or_else(|| of(None)).unwrap_or_default();
    let choice = Choice {
        on: ask.on.map(|words| occasions(&words)).transpose()?.unwrap_or(before.on),
        whose: match ask.whose.as_deref() {
            None => before.whose,
            Some("own") => Whose::Own,
            Some("all") => Whose::All,
            Some(_) => return Err(ApiError::field("/whose", "it is `own` or `all`")),
        },
        by: match ask.by.as_deref() {
            None => before.by,
            Some("mail") => By::Mail,
            Some("nothing") => By::Nothing,
            Some(_) => return Err(ApiError::field("/by", "it is `mail` or `nothing`")),
        },
    };
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.set_choice(person, project.as_ref().map(|project| project.id), &choice).await?;
    tx.note(noted(caller.name(), name, choice_view(name.map(str::to_owned), &choice)));
    tx.commit().await?;
    Ok(Json(whole(&app, &caller).await?))
}

fn noted(person: &str, project: Option<&str>, after: impl serde::Serialize) -> Entry {
    let entry = Entry::new(Action::SetNotices, person).after(after);
    match project {
        Some(project) => entry.of(project),
        None => entry,
    }
}

fn occasions(words: &[String]) -> Result<Vec<Occasion>, ApiError> {
    let read = |word: &String| {
        Occasion::from_word(word).ok_or_else(|| {
            let known = Occasion::ALL.map(Occasion::word);
            let hint =
                nearest(word, known).map_or_else(|| format!("there are {}", known.join(", ")), |near| format!("did you mean `{near}`?"));
            ApiError::field("/on", format!("nobody is told of `{word}`; {hint}"))
        })
    };
    let mut on = words.iter().map(read).collect::<Result<Vec<_>, _>>()?;
    on.sort_unstable();
    on.dedup();
    Ok(on)
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Which {
    /// The choice for this project; the one for all others when absent.
    project: Option<String>,
}

/// Take a choice back: what holds for all others, or the usual, holds again.
#[utoipa::path(delete, operation_id = "drop_notice_choice", path = "/api/v1/notices", params(Which), responses((status = 200, body = NoticesView), (status = 404, body = Problem)))]
pub(crate) async fn drop_choice(State(app): State<App>, caller: Caller, Query(which): Query<Which>) -> Result<Json<NoticesView>, ApiError> {
    let person = caller.person_id()?;
    let project = named(&app, &caller, which.project.as_deref()).await?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    if !tx.drop_choice(person, project.as_ref().map(|project| project.id)).await? {
        return Err(ApiError::not_found("choice", "nothing was chosen there: the usual holds"));
    }
    tx.note(noted(caller.name(), which.project.as_deref(), "the usual"));
    tx.commit().await?;
    Ok(Json(whole(&app, &caller).await?))
}

/// Send oneself a sample, now.
#[utoipa::path(post, operation_id = "sample_notice", path = "/api/v1/notices/sample", responses((status = 200, body = SampleView), (status = 409, body = Problem), (status = 429, body = Problem), (status = 502, body = Problem)))]
pub(crate) async fn sample(State(app): State<App>, caller: Caller) -> Result<Json<SampleView>, ApiError> {
    let person = caller.person_id()?;
    let conflict = |detail: &str| ApiError::new(StatusCode::CONFLICT, "no-mail", detail);
    let Some(post) = &app.post else {
        return Err(conflict("the service sends no mail: its configuration has no [mail]"));
    };
    let Some(to) = app.records.person(caller.name()).await?.and_then(|row| row.mail) else {
        return Err(conflict("you have no mail address here; an owner sets it: `ordotaxis person set NAME --mail ADDRESS`"));
    };
    let of = (0, caller.name().to_owned(), "sample".to_owned());
    if app.told.rest(&of).is_some() {
        return Err(ApiError::new(StatusCode::TOO_MANY_REQUESTS, "too-many", "a sample was just sent; wait a second"));
    }
    app.told.note(of);
    let notice = Notice {
        project: "sample".into(),
        occasion: Occasion::Broke,
        sentence: "this is what a notice looks like; nothing is broken".into(),
        parts: vec![Part { title: "New failures".into(), lines: vec!["here stands what fails, with the first line of why".into()] }],
        link: format!("{}/notices", app.public_url),
        thread: "sample".into(),
        run: None,
        proposal: None,
        commit: None,
        commits: Vec::new(),
    };
    let letter = letter(&[notice]).ok_or_else(|| conflict("there is no sample"))?;
    let end = format!("{}/notices/v1/end?key={}", app.public_url, app.records.notice_key(person).await?);
    let id = format!("sample-{}", clock::now());
    let sent = post.send(&to, &letter, &id, None, Some(&end)).await;
    sent.map_err(|error| ApiError::new(StatusCode::BAD_GATEWAY, "mail-not-taken", error.to_string()))?;
    Ok(Json(SampleView { to }))
}

/// What was told to the addresses of a project, newest first.
#[utoipa::path(get, operation_id = "list_project_notices", path = "/api/v1/projects/{name}/notices", params(("name" = String, Path)), responses((status = 200, body = Vec<NoticeView>), (status = 404, body = Problem)))]
pub(crate) async fn of_project(State(app): State<App>, Path(name): Path<String>) -> Result<Json<Vec<NoticeView>>, ApiError> {
    let project = projects::find(&app, &name).await?;
    let rows = app.records.notices_of_project(project.id, LAST).await?;
    Ok(Json(rows.into_iter().map(view).collect::<Result<_, _>>()?))
}
