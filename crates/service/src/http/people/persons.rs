//! Persons and how they are known elsewhere.

use crate::app::App;
use crate::clock;
use crate::http::caller::Caller;
use crate::http::error::ApiError;
use crate::http::extract::{Body, Path};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use ordotaxis_core::access::{Action, Role};
use ordotaxis_core::language::nearest;
use ordotaxis_store::{Entry, PersonRow, Tx};
use ordotaxis_wire::moment;
use ordotaxis_wire::person::{Identity, NewPerson, PersonView, SetPerson};
use ordotaxis_wire::problem::Problem;

/// Lower-case letters, digits, `-`, `_` and `.`, at most 64: nothing that means something to a terminal or a page.
pub(crate) fn is_person_name(name: &str) -> bool {
    let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || "-_.".contains(c);
    !name.is_empty() && name.len() <= 64 && name.chars().all(fits) && !name.starts_with(['-', '.'])
}

/// The person, or a problem with the nearest name.
pub(crate) async fn find(app: &App, name: &str) -> Result<PersonRow, ApiError> {
    if let Some(person) = app.records.person(name).await? {
        return Ok(person);
    }
    let all = app.records.persons().await?;
    let hint = match nearest(name, all.iter().map(|person| person.name.as_str())) {
        Some(near) => format!("did you mean {near}?"),
        None => "`ordotaxis person list` shows all".into(),
    };
    Err(ApiError::not_found("person", format!("there is no person {name}; {hint}")))
}

/// Everybody, by name. Mail and identities are shown to owners, and one's own.
#[utoipa::path(get, operation_id = "list_persons", path = "/api/v1/persons", responses((status = 200, body = Vec<PersonView>)))]
pub(crate) async fn list(State(app): State<App>, caller: Caller) -> Result<Json<Vec<PersonView>>, ApiError> {
    let sees_all = caller.may(&app, Action::SetPerson).await.is_ok();
    let (groups, identities) = (app.records.groups().await?, app.records.identities().await?);
    let mut views = Vec::new();
    for person in app.records.persons().await? {
        let shown = sees_all || person.name == caller.name();
        let own = identities.iter().filter(|identity| shown && identity.person_id == person.id);
        views.push(PersonView {
            groups: groups.iter().filter(|group| group.members.contains(&person.name)).map(|group| group.name.clone()).collect(),
            role: app.records.grants_of(person.id).await?.service,
            identities: own.map(|one| Identity { issuer: one.issuer.clone(), subject: one.subject.clone() }).collect(),
            mail: person.mail.filter(|_| shown),
            name: person.name,
            added_at: moment(person.added_at),
        });
    }
    Ok(Json(views))
}

/// Add a person. They sign in with a link at first; see `/persons/{name}/sign-in-links`.
#[utoipa::path(post, operation_id = "add_person", path = "/api/v1/persons", request_body = NewPerson, responses((status = 201, body = PersonView), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add(
    State(app): State<App>,
    caller: Caller,
    Body(ask): Body<NewPerson>,
) -> Result<(StatusCode, Json<PersonView>), ApiError> {
    if !is_person_name(&ask.name) {
        return Err(ApiError::field("/name", "a person's name is lower-case letters, digits, `-`, `_` and `.`, at most 64"));
    }
    let mail = mail(ask.mail)?;
    let now = clock::now();
    let mut tx = app.records.tx(&caller.actor, now).await?;
    tx.add_person(&ask.name, mail.as_deref()).await?;
    tx.note(Entry::new(Action::AddPerson, &ask.name).after(serde_json::json!({ "mail": mail })));
    tx.commit().await?;
    let view = PersonView { name: ask.name, mail, groups: Vec::new(), role: None, identities: Vec::new(), added_at: moment(now) };
    Ok((StatusCode::CREATED, Json(view)))
}

/// A mail address that can be one; nothing for an empty text.
fn mail(mail: Option<String>) -> Result<Option<String>, ApiError> {
    let mail = mail.map(|mail| mail.trim().to_owned()).filter(|mail| !mail.is_empty());
    let fits = |mail: &String| {
        let (user, host) = mail.rsplit_once('@').unwrap_or_default();
        mail.len() <= 254
            && !user.is_empty()
            && !host.is_empty()
            && !mail.chars().any(|c| c.is_control() || c.is_whitespace() || "<>,;".contains(c))
    };
    match mail {
        Some(mail) if !fits(&mail) => Err(ApiError::field("/mail", format!("{mail:?} is no mail address"))),
        mail => Ok(mail),
    }
}

/// Change a person's mail address.
#[utoipa::path(put, operation_id = "set_person", path = "/api/v1/persons/{name}", params(("name" = String, Path)), request_body = SetPerson, responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn set(
    State(app): State<App>,
    caller: Caller,
    Path(name): Path<String>,
    Body(ask): Body<SetPerson>,
) -> Result<StatusCode, ApiError> {
    let person = find(&app, &name).await?;
    let mail = mail(ask.mail)?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.set_mail(person.id, mail.as_deref()).await?;
    let json = |mail: &Option<String>| serde_json::json!({ "mail": mail });
    tx.note(Entry::new(Action::SetPerson, &name).before(json(&person.mail)).after(json(&mail)));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Remove a person: tokens and sessions end at once, roles and memberships go. The journal keeps what they did.
#[utoipa::path(delete, operation_id = "remove_person", path = "/api/v1/persons/{name}", params(("name" = String, Path)), responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn remove(State(app): State<App>, caller: Caller, Path(name): Path<String>) -> Result<StatusCode, ApiError> {
    let person = find(&app, &name).await?;
    let held = app.records.grants_of(person.id).await?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.remove_person(person.id).await?;
    keeps_an_owner(&mut tx).await?;
    let roles = serde_json::json!({ "service": held.service.map(Role::word), "projects": held.projects });
    tx.note(Entry::new(Action::RemovePerson, &name).before(roles));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Without an owner nobody could give roles any more.
pub(crate) async fn keeps_an_owner(tx: &mut Tx) -> Result<(), ApiError> {
    if tx.has_owner().await? {
        return Ok(());
    }
    let detail = "this is the last owner of the service; give someone else the role first: `ordotaxis grant set NAME owner`";
    Err(ApiError::new(StatusCode::CONFLICT, "last-owner", detail))
}

/// Say how a person is known elsewhere.
#[utoipa::path(put, operation_id = "add_identity", path = "/api/v1/persons/{name}/identities", params(("name" = String, Path)), request_body = Identity, responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn add_identity(
    State(app): State<App>,
    caller: Caller,
    Path(name): Path<String>,
    Body(ask): Body<Identity>,
) -> Result<StatusCode, ApiError> {
    let person = find(&app, &name).await?;
    for (pointer, text) in [("/issuer", &ask.issuer), ("/subject", &ask.subject)] {
        if text.is_empty() || text.len() > 256 || text.chars().any(char::is_control) {
            return Err(ApiError::field(pointer, "this is 1 to 256 characters, none of them a control character"));
        }
    }
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    tx.add_identity(person.id, &ask.issuer, &ask.subject).await?;
    tx.note(Entry::new(Action::AddIdentity, &name).after(&ask));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Take an identity away. Its person cannot sign in with it any more; sessions that there are go on.
#[utoipa::path(delete, operation_id = "remove_identity", path = "/api/v1/persons/{name}/identities", params(("name" = String, Path)), request_body = Identity, responses((status = 204), (status = 404, body = Problem)))]
pub(crate) async fn remove_identity(
    State(app): State<App>,
    caller: Caller,
    Path(name): Path<String>,
    Body(ask): Body<Identity>,
) -> Result<StatusCode, ApiError> {
    let person = find(&app, &name).await?;
    let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
    if !tx.remove_identity(person.id, &ask.issuer, &ask.subject).await? {
        return Err(ApiError::not_found("identity", format!("{name} is not known as {} of {}", ask.subject, ask.issuer)));
    }
    tx.note(Entry::new(Action::RemoveIdentity, &name).before(&ask));
    tx.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_addresses_are_plain() {
        for (name, fits) in [
            ("ines", true),
            ("odd.2", true),
            ("a-b_c", true),
            ("", false),
            ("Ines", false),
            ("@keepers", false),
            ("-x", false),
            ("a b", false),
            (&"x".repeat(65), false),
        ] {
            assert_eq!(is_person_name(name), fits, "{name:?}");
        }
        for (text, fits) in [("odd@saltmarsh.example", true), ("odd", false), ("@x", false), ("a@b\nBcc: c@d", false), ("<a@b>", false)] {
            assert_eq!(mail(Some(text.into())).is_ok(), fits, "{text:?}");
        }
        assert!(matches!(mail(Some("  ".into())), Ok(None)));
    }
}
