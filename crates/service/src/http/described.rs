//! What every call has in common, put into the description once: how one signs in, and which problems any call of its
//! kind can end with (RFC 9457).

use utoipa::openapi::path::{HttpMethod, Operation};
use utoipa::openapi::security::{ApiKey, ApiKeyValue, HttpAuthScheme, HttpBuilder, SecurityRequirement, SecurityScheme};
use utoipa::openapi::{Components, ContentBuilder, OpenApi, Ref, RefOr, Response, ResponseBuilder};

/// Calls that need no signing in.
const OPEN: [&str; 2] = ["sign_in", "sign_out"];

/// The description with what no handler need say of itself.
pub(super) fn completed(mut api: OpenApi) -> OpenApi {
    for (path, item) in &mut api.paths.paths {
        let all = [
            (HttpMethod::Get, &mut item.get),
            (HttpMethod::Put, &mut item.put),
            (HttpMethod::Post, &mut item.post),
            (HttpMethod::Delete, &mut item.delete),
        ];
        for (method, operation) in all {
            if let Some(operation) = operation {
                complete(operation, method == HttpMethod::Get, path.contains('{'));
            }
        }
    }
    let schemes = api.components.get_or_insert_with(Components::new);
    let bearer = HttpBuilder::new().scheme(HttpAuthScheme::Bearer).description(Some("a person's token")).build();
    schemes.add_security_scheme("token", SecurityScheme::Http(bearer));
    let session = ApiKeyValue::with_description(super::caller::COOKIE, "the console's session");
    schemes.add_security_scheme("session", SecurityScheme::ApiKey(ApiKey::Cookie(session)));
    api
}

fn complete(operation: &mut Operation, safe: bool, named: bool) {
    let open = operation.operation_id.as_deref().is_some_and(|id| OPEN.contains(&id));
    let with_body = operation.request_body.is_some();
    let common = [
        (named || with_body || operation.parameters.is_some(), "400", "the address, the query or the body could not be read"),
        (!open, "401", "not signed in"),
        (!safe, "403", "it comes from a page elsewhere"),
        (named, "404", "there is no such thing"),
        (with_body, "413", "the body is too large"),
        (with_body, "415", "the body is not JSON"),
        (true, "421", "it names another host"),
        (with_body, "422", "something in the body does not fit; `errors` says what"),
        (true, "500", "the service could not do this; its log says why"),
        (named, "502", "the repository or the store cannot be reached now; try again later"),
        (true, "503", "the service is starting or ending; try again in a moment"),
    ];
    let problems = &mut operation.responses.responses;
    for (_, status, why) in common.into_iter().filter(|(fits, ..)| *fits) {
        problems.entry(status.to_owned()).or_insert_with(|| RefOr::T(ResponseBuilder::new().description(why).build()));
    }
    for (status, answer) in problems.iter_mut().filter(|(status, _)| status.as_str() >= "400") {
        if let RefOr::T(answer) = answer {
            as_problem(status, answer);
        }
    }
    if !open {
        let either = ["token", "session"].map(|scheme| SecurityRequirement::new(scheme, Vec::<String>::new()));
        operation.security = Some(either.to_vec());
    }
}

fn as_problem(status: &str, answer: &mut Response) {
    let problem = ContentBuilder::new().schema(Some(Ref::from_schema_name("Problem"))).build();
    answer.content.clear();
    answer.content.insert(ordotaxis_wire::problem::MEDIA_TYPE.to_owned(), RefOr::T(problem));
    if answer.description.is_empty() {
        let reason = status.parse().ok().and_then(|code| axum::http::StatusCode::from_u16(code).ok());
        answer.description = reason.and_then(|status| status.canonical_reason()).unwrap_or_default().to_lowercase();
    }
}
