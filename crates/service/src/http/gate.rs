//! The gate before every call by people: which action each route is, and whether the caller may do it. A route that is
//! not in the table is not answered, so that none can be forgotten. What a caller may not see answers 404.

use super::caller::{Caller, authenticate, not_signed_in};
use super::error::ApiError;
use super::known::Address;
use crate::app::App;
use crate::clock;
use axum::extract::{FromRequestParts, MatchedPath, RawPathParams, Request, State};
use axum::http::{Method, StatusCode};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use ordotaxis_core::access::{Action, Actor, Object, Refusal, allowed};
use ordotaxis_core::language::nearest;
use ordotaxis_store::Entry;

/// Method, address below `/api/v1`, what it is. Sorted by address.
pub(super) const ROUTES: &[(&str, &str, Action)] = &[
    ("GET", "/board", Action::SeeLists),
    ("POST", "/check", Action::Draft),
    ("GET", "/components", Action::SeeLists),
    ("POST", "/edited-file", Action::Draft),
    ("GET", "/grants", Action::SeePersons),
    ("PUT", "/grants", Action::SetGrant),
    ("DELETE", "/grants", Action::RemoveGrant),
    ("GET", "/groups", Action::SeePersons),
    ("PUT", "/groups/{name}", Action::SetGroup),
    ("DELETE", "/groups/{name}", Action::RemoveGroup),
    ("GET", "/insight", Action::SeeLists),
    ("GET", "/journal", Action::SeeJournal),
    ("GET", "/journal/export", Action::SeeJournal),
    ("POST", "/journal/verify", Action::SeeJournal),
    ("GET", "/live", Action::SeeLists),
    ("POST", "/looks", Action::AddProject),
    ("DELETE", "/looks/{look}", Action::AddProject),
    ("GET", "/looks/{look}/deliveries", Action::AddProject),
    ("GET", "/machines", Action::SeeLists),
    ("GET", "/machines/{id}", Action::SeeLists),
    ("DELETE", "/machines/{id}", Action::RemoveMachine),
    ("GET", "/machines/{id}/console", Action::SeeConsole),
    ("PUT", "/machines/{id}/kept", Action::KeepMachine),
    ("GET", "/me", Action::SeeOwn),
    ("GET", "/needs", Action::SeeLists),
    ("GET", "/notices", Action::SeeOwn),
    ("PUT", "/notices", Action::SetNotices),
    ("DELETE", "/notices", Action::SetNotices),
    ("POST", "/notices/sample", Action::SampleNotice),
    ("GET", "/persons", Action::SeePersons),
    ("POST", "/persons", Action::AddPerson),
    ("PUT", "/persons/{name}", Action::SetPerson),
    ("DELETE", "/persons/{name}", Action::RemovePerson),
    ("PUT", "/persons/{name}/identities", Action::AddIdentity),
    ("DELETE", "/persons/{name}/identities", Action::RemoveIdentity),
    ("POST", "/persons/{name}/sign-in-links", Action::LinkFor),
    ("GET", "/pools", Action::SeeLists),
    ("PUT", "/pools/{pool}", Action::SetPool),
    ("DELETE", "/pools/{pool}", Action::RemovePool),
    ("GET", "/profiles", Action::SeeLists),
    ("GET", "/projects", Action::SeeLists),
    ("POST", "/projects", Action::AddProject),
    ("GET", "/projects/{name}", Action::SeeProject),
    ("DELETE", "/projects/{name}", Action::RemoveProject),
    ("GET", "/projects/{name}/badge", Action::SeeSettings),
    ("GET", "/projects/{name}/notices", Action::SeeDeliveries),
    ("PUT", "/projects/{name}/outside", Action::SetProject),
    ("PUT", "/projects/{name}/poll", Action::SetProject),
    ("PUT", "/projects/{name}/seen", Action::SetSeen),
    ("GET", "/projects/{project}/caches", Action::SeeProject),
    ("DELETE", "/projects/{project}/caches", Action::DropCaches),
    ("GET", "/projects/{project}/caches/folder", Action::SeeProject),
    ("GET", "/projects/{project}/connections", Action::SeeSettings),
    ("PUT", "/projects/{project}/connections/{name}", Action::SetConnection),
    ("DELETE", "/projects/{project}/connections/{name}", Action::RemoveConnection),
    ("GET", "/projects/{project}/deliveries", Action::SeeDeliveries),
    ("GET", "/projects/{project}/deliveries/{id}", Action::SeeDeliveries),
    ("POST", "/projects/{project}/deliveries/{id}/again", Action::DeliveryAgain),
    ("POST", "/projects/{project}/drafts", Action::KeepPipeline),
    ("GET", "/projects/{project}/environments", Action::SeeProject),
    ("GET", "/projects/{project}/environments/{environment}", Action::SeeProject),
    ("POST", "/projects/{project}/environments/{environment}/close", Action::CloseEnvironment),
    ("GET", "/projects/{project}/environments/{environment}/commits", Action::SeeProject),
    ("PUT", "/projects/{project}/environments/{environment}/frozen", Action::FreezeEnvironment),
    ("DELETE", "/projects/{project}/environments/{environment}/frozen", Action::FreezeEnvironment),
    ("POST", "/projects/{project}/environments/{environment}/promotion", Action::Promote),
    ("POST", "/projects/{project}/environments/{environment}/roll-back", Action::RollBack),
    ("GET", "/projects/{project}/first-file", Action::SeeProject),
    ("GET", "/projects/{project}/flaky-tests", Action::SeeRun),
    ("POST", "/projects/{project}/hook-secret", Action::SetHookSecret),
    ("GET", "/projects/{project}/insight", Action::SeeProject),
    ("GET", "/projects/{project}/insight/attempts.csv", Action::SeeProject),
    ("GET", "/projects/{project}/insight/jobs", Action::SeeProject),
    ("GET", "/projects/{project}/journal", Action::SeeProjectJournal),
    ("GET", "/projects/{project}/landing", Action::SeeProject),
    ("GET", "/projects/{project}/newest-run", Action::SeeRun),
    ("GET", "/projects/{project}/numbers", Action::SeeRun),
    ("GET", "/projects/{project}/pipelines", Action::SeeProject),
    ("POST", "/projects/{project}/planned-run", Action::StartRun),
    ("GET", "/projects/{project}/proposals", Action::SeeProject),
    ("POST", "/projects/{project}/proposals", Action::Propose),
    ("GET", "/projects/{project}/proposals/{proposal}", Action::SeeProject),
    ("DELETE", "/projects/{project}/proposals/{proposal}", Action::Propose),
    ("POST", "/projects/{project}/proposals/{proposal}/landing", Action::Land),
    ("PUT", "/projects/{project}/proposals/{proposal}/review", Action::Approve),
    ("GET", "/projects/{project}/refs", Action::SeeProject),
    ("GET", "/projects/{project}/releases", Action::SeeProject),
    ("GET", "/projects/{project}/releases/{version}", Action::SeeProject),
    ("PUT", "/projects/{project}/releases/{version}", Action::EditRelease),
    ("GET", "/projects/{project}/releases/{version}/evidence", Action::SeeProject),
    ("POST", "/projects/{project}/releases/{version}/publish", Action::PublishRelease),
    ("POST", "/projects/{project}/releases/{version}/withdraw", Action::WithdrawRelease),
    ("GET", "/projects/{project}/repository", Action::SeeSettings),
    ("DELETE", "/projects/{project}/repository/hosts", Action::SetRepository),
    ("POST", "/projects/{project}/repository/key", Action::SetRepository),
    ("DELETE", "/projects/{project}/repository/key", Action::SetRepository),
    ("PUT", "/projects/{project}/repository/login", Action::SetRepository),
    ("DELETE", "/projects/{project}/repository/login", Action::SetRepository),
    ("PUT", "/projects/{project}/repository/main-branch", Action::SetRepository),
    ("GET", "/projects/{project}/rules", Action::SeeProject),
    ("PUT", "/projects/{project}/rules", Action::SetRules),
    ("POST", "/projects/{project}/runs", Action::StartRun),
    ("GET", "/projects/{project}/secrets", Action::SeeSettings),
    ("PUT", "/projects/{project}/secrets/{name}", Action::SetSecret),
    ("DELETE", "/projects/{project}/secrets/{name}", Action::RemoveSecret),
    ("GET", "/projects/{project}/stored/{pipeline}", Action::SeeProject),
    ("PUT", "/projects/{project}/stored/{pipeline}", Action::KeepPipeline),
    ("GET", "/projects/{project}/test-history", Action::SeeRun),
    ("GET", "/queue", Action::SeeLists),
    ("POST", "/repositories", Action::AddProject),
    ("POST", "/runner-invitations", Action::InviteRunner),
    ("GET", "/runners", Action::SeeLists),
    ("PUT", "/runners/{name}", Action::SetRunner),
    ("DELETE", "/runners/{name}", Action::RemoveRunner),
    ("PUT", "/runners/{name}/drain", Action::DrainRunner),
    ("GET", "/runs", Action::SeeLists),
    ("GET", "/runs/{project}/{number}", Action::SeeRun),
    ("POST", "/runs/{project}/{number}/again", Action::RunAgain),
    ("POST", "/runs/{project}/{number}/allow", Action::AllowRun),
    ("POST", "/runs/{project}/{number}/approval", Action::ApproveDeployment),
    ("GET", "/runs/{project}/{number}/artifacts", Action::SeeRun),
    ("GET", "/runs/{project}/{number}/artifacts/{job}/{name}", Action::SeeRun),
    ("GET", "/runs/{project}/{number}/artifacts/{job}/{name}/file", Action::SeeRun),
    ("GET", "/runs/{project}/{number}/artifacts/{job}/{name}/folder", Action::SeeRun),
    ("PUT", "/runs/{project}/{number}/artifacts/{job}/{name}/pin", Action::PinArtifact),
    ("DELETE", "/runs/{project}/{number}/artifacts/{job}/{name}/pin", Action::PinArtifact),
    ("GET", "/runs/{project}/{number}/artifacts/{job}/{name}/provenance", Action::SeeRun),
    ("POST", "/runs/{project}/{number}/artifacts/{job}/{name}/show", Action::SeeRun),
    ("GET", "/runs/{project}/{number}/bill", Action::SeeRun),
    ("GET", "/runs/{project}/{number}/bills", Action::SeeRun),
    ("GET", "/runs/{project}/{number}/compare/{other}", Action::SeeRun),
    ("POST", "/runs/{project}/{number}/emergency", Action::Emergency),
    ("GET", "/runs/{project}/{number}/file", Action::SeeRun),
    ("GET", "/runs/{project}/{number}/findings", Action::SeeRun),
    ("GET", "/runs/{project}/{number}/jobs/{job}/failure", Action::SeeRun),
    ("GET", "/runs/{project}/{number}/jobs/{job}/lines", Action::SeeRun),
    ("GET", "/runs/{project}/{number}/jobs/{job}/log", Action::SeeRun),
    ("GET", "/runs/{project}/{number}/jobs/{job}/search", Action::SeeRun),
    ("POST", "/runs/{project}/{number}/notes", Action::AddNote),
    ("GET", "/runs/{project}/{number}/plan", Action::SeeRun),
    ("POST", "/runs/{project}/{number}/start", Action::StartJob),
    ("POST", "/runs/{project}/{number}/stop", Action::StopRun),
    ("GET", "/runs/{project}/{number}/tests", Action::SeeRun),
    ("GET", "/runs/{project}/{number}/why", Action::SeeRun),
    ("GET", "/schema", Action::Draft),
    ("GET", "/search", Action::SeeLists),
    ("POST", "/session", Action::SignIn),
    ("DELETE", "/session", Action::SignOut),
    ("GET", "/sessions", Action::SeeOwn),
    ("DELETE", "/sessions/{id}", Action::EndSession),
    ("GET", "/sign-in", Action::SignIn),
    ("POST", "/sign-in-links", Action::MakeLink),
    ("GET", "/sign-in/begin", Action::SignIn),
    ("GET", "/slots", Action::SeeLists),
    ("POST", "/store/sweep", Action::SweepStore),
    ("POST", "/store/verify", Action::SeeStore),
    ("GET", "/tokens", Action::SeeOwn),
    ("POST", "/tokens", Action::MakeToken),
    ("DELETE", "/tokens/{id}", Action::EndToken),
    ("GET", "/trace", Action::SeeLists),
    ("GET", "/work", Action::SeeWork),
    ("POST", "/work/{id}/again", Action::WorkAgain),
];

/// What a call is.
pub(super) fn action_of(method: &Method, path: &str) -> Option<Action> {
    let path = path.strip_prefix("/api/v1")?;
    let method = if *method == Method::HEAD { "GET" } else { method.as_str() };
    ROUTES.iter().find(|(known, template, _)| *known == method && *template == path).map(|(.., action)| *action)
}

/// Lets a call through to its handler when its caller may do what the route does; answers it otherwise.
pub(super) async fn pass(State(app): State<App>, request: Request, next: Next) -> Response {
    let (mut parts, body) = request.into_parts();
    match opened(&app, &mut parts).await {
        Ok(caller) => {
            parts.extensions.insert(caller);
            next.run(Request::from_parts(parts, body)).await
        }
        Err(error) => error.into_response(),
    }
}

/// Who calls, if they may do what the route does with what its address names.
async fn opened(app: &App, parts: &mut axum::http::request::Parts) -> Result<Caller, ApiError> {
    let template = parts.extensions.get::<MatchedPath>().map(|path| path.as_str().to_owned()).unwrap_or_default();
    let address = Address::from_request_parts(parts, app).await.unwrap_or_else(|never| match never {});
    let Some(action) = action_of(&parts.method, &template) else {
        // A method that the route does not have is answered by the router; anything else is missing in the table.
        let known = ROUTES.iter().any(|(_, known, _)| template.strip_prefix("/api/v1") == Some(known));
        let detail = format!("{} {} has no place in the table of rights", parts.method, template);
        let forgotten = ApiError::new(StatusCode::INTERNAL_SERVER_ERROR, "internal", detail);
        return if known { authenticate(app, &parts.headers, address).await } else { Err(forgotten) };
    };
    let caller = authenticate(app, &parts.headers, address).await;
    let caller = match caller {
        // Signing in again with an expired token, or signing out, needs no person.
        Err(_) if matches!(action, Action::SignIn | Action::SignOut) => nobody(address),
        caller => caller?,
    };
    let Some(name) = project_of(parts, &template).await else {
        permit(app, &caller, action, Object::Service, parts.uri.path(), &parts.method).await?;
        return Ok(caller);
    };
    match app.records.project(&name).await? {
        Some(project) => {
            let object = Object::Project { name: &project.name, seen: project.seen };
            permit(app, &caller, action, object, parts.uri.path(), &parts.method).await?;
        }
        // Who is not signed in learns nothing of which projects there are.
        None if matches!(caller.rights, ordotaxis_core::access::Rights::Nobody) => return Err(not_signed_in()),
        None => return Err(unknown_project(app, &caller, &name).await?),
    }
    Ok(caller)
}

fn nobody(address: Address) -> Caller {
    let actor =
        Actor { who: ordotaxis_core::access::Who::Nobody, way: ordotaxis_core::access::Way::Api, address: Some(address.0.to_string()) };
    Caller { actor, rights: ordotaxis_core::access::Rights::Nobody }
}

/// The project that an address names.
async fn project_of(parts: &mut axum::http::request::Parts, template: &str) -> Option<String> {
    let wanted = if template.contains("{project}") { "project" } else { "name" };
    if wanted == "name" && !template.starts_with("/api/v1/projects/{name}") {
        return None;
    }
    let params = RawPathParams::from_request_parts(parts, &()).await.ok()?;
    params.iter().find(|(name, _)| *name == wanted).map(|(_, value)| value.to_owned())
}

/// Asks the one rule; a refusal says what is missing and who can give it.
async fn permit(app: &App, caller: &Caller, action: Action, object: Object<'_>, path: &str, method: &Method) -> Result<(), ApiError> {
    let Err(refusal) = allowed(&caller.rights, action, object) else { return Ok(()) };
    let project = if let Object::Project { name, .. } = object { Some(name) } else { None };
    let givers = match refusal {
        Refusal::Lacks { .. } => app.records.owners(project).await?,
        _ => Vec::new(),
    };
    let detail = refusal.sentence(&givers);
    let unsafe_call = !matches!(*method, Method::GET | Method::HEAD);
    if unsafe_call && refusal != Refusal::NotSignedIn && app.refusals.may_note(caller.name()) {
        let mut entry = Entry::new(action, path.trim_start_matches("/api/v1/")).refused(&detail);
        if let Some(project) = project {
            entry = entry.of(project);
        }
        let mut tx = app.records.tx(&caller.actor, clock::now()).await?;
        tx.note(entry);
        tx.commit().await?;
    }
    match (refusal, project) {
        (Refusal::NotSignedIn, _) => Err(not_signed_in()),
        (Refusal::Hidden, Some(project)) => Err(unknown_project(app, caller, project).await?),
        _ => Err(ApiError::new(StatusCode::FORBIDDEN, "not-allowed", detail)),
    }
}

/// There is no such project, as far as the caller can see.
pub(super) async fn unknown_project(app: &App, caller: &Caller, name: &str) -> Result<ApiError, ApiError> {
    let all = app.records.projects().await?;
    let seen: Vec<&str> = all.iter().filter(|project| caller.sees(project)).map(|project| project.name.as_str()).collect();
    let hint = match nearest(name, seen.iter().copied()) {
        Some(near) => format!("did you mean {near}?"),
        None if seen.is_empty() => "add one with `ordotaxis project add NAME --git URL`".into(),
        None => "`ordotaxis project list` shows all".into(),
    };
    Ok(ApiError::not_found("project", format!("there is no project {name}; {hint}")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_route_stands_in_the_table_once_and_in_order() {
        let addresses: Vec<&str> = ROUTES.iter().map(|(_, path, _)| *path).collect();
        assert!(addresses.is_sorted(), "sorted by address");
        let mut calls: Vec<(&str, &str)> = ROUTES.iter().map(|(method, path, _)| (*method, *path)).collect();
        calls.sort_unstable();
        calls.dedup();
        assert_eq!(calls.len(), ROUTES.len());
        assert_eq!(action_of(&Method::HEAD, "/api/v1/board"), Some(Action::SeeLists));
        assert_eq!(action_of(&Method::PUT, "/api/v1/board"), None);
    }
}
