//! One error type for every handler; it becomes problem details (RFC 9457). Handlers use `?`.

use crate::causes::causes;
use crate::keeper::Away;
use axum::Json;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use ordotaxis_store::{BlobError, StoreError};
use ordotaxis_wire::problem::{FieldProblem, MEDIA_TYPE, Problem};

/// A refusal or an error on its way out, as problem details.
#[derive(Debug)]
pub(crate) struct ApiError(Box<Problem>);

impl ApiError {
    /// `kind` is the stable word of `/problems/…`; `detail` says to a person what happened and what to do.
    pub(crate) fn new(status: StatusCode, kind: &str, detail: impl Into<String>) -> ApiError {
        ApiError(Box::new(Problem {
            kind: format!("/problems/{kind}"),
            title: kind.replace('-', " "),
            status: status.as_u16(),
            detail: detail.into(),
            errors: Vec::new(),
        }))
    }

    /// `what` is the kind of thing that is not there: the problem is `unknown-WHAT`.
    pub(crate) fn not_found(what: &str, detail: impl Into<String>) -> ApiError {
        ApiError::new(StatusCode::NOT_FOUND, &format!("unknown-{what}"), detail)
    }

    /// One field of the body is wrong; `pointer` says which (RFC 6901).
    pub(crate) fn field(pointer: &str, detail: impl Into<String>) -> ApiError {
        let detail = detail.into();
        let mut error = ApiError::new(StatusCode::UNPROCESSABLE_ENTITY, "bad-input", detail.clone());
        error.0.errors.push(FieldProblem { pointer: pointer.to_owned(), detail });
        error
    }

    /// Several fields of the body are wrong, each with its pointer.
    pub(super) fn fields(detail: &str, fields: impl Iterator<Item = (String, String)>) -> ApiError {
        let mut error = ApiError::new(StatusCode::UNPROCESSABLE_ENTITY, "bad-input", detail);
        error.0.errors.extend(fields.map(|(pointer, detail)| FieldProblem { pointer, detail }));
        error
    }

    /// What it says to a person.
    pub(super) fn detail(&self) -> &str {
        &self.0.detail
    }

    /// The same as a mistake in one field of the body.
    pub(crate) fn at(self, pointer: &str) -> ApiError {
        ApiError::field(pointer, self.0.detail)
    }

    /// A fault of ours: the cause goes into the log, the caller learns only that there was one.
    fn internal(error: &dyn std::error::Error) -> ApiError {
        tracing::error!(error = causes(error), "a call failed");
        let detail = "the service could not do this; its log says why. Trying again may help";
        ApiError::new(StatusCode::INTERNAL_SERVER_ERROR, "internal", detail)
    }
}

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = (status, Json(self.0)).into_response();
        response.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static(MEDIA_TYPE));
        if status == StatusCode::UNAUTHORIZED {
            response.headers_mut().insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        }
        response
    }
}

impl From<StoreError> for ApiError {
    fn from(error: StoreError) -> ApiError {
        match &error {
            StoreError::Exists { .. } => ApiError::new(StatusCode::CONFLICT, "exists", error.to_string()),
            _ => ApiError::internal(&error),
        }
    }
}

impl From<Away> for ApiError {
    fn from(_: Away) -> ApiError {
        ApiError::new(StatusCode::SERVICE_UNAVAILABLE, "away", "the service is starting again or ending; try again in a moment")
    }
}

impl From<BlobError> for ApiError {
    fn from(error: BlobError) -> ApiError {
        match &error {
            BlobError::Records(_) | BlobError::Folder { .. } => ApiError::internal(&error),
            BlobError::Storage(_) => ApiError::new(StatusCode::BAD_GATEWAY, "storage-away", error.to_string()),
            BlobError::TooLarge => ApiError::new(StatusCode::PAYLOAD_TOO_LARGE, "too-large", error.to_string()),
            BlobError::NoChunk(_) => ApiError::new(StatusCode::NOT_FOUND, "unknown-chunk", error.to_string()),
            _ => ApiError::new(StatusCode::UNPROCESSABLE_ENTITY, "bad-content", error.to_string()),
        }
    }
}

impl From<std::io::Error> for ApiError {
    fn from(error: std::io::Error) -> ApiError {
        // A closed log is read from the store.
        error.downcast::<BlobError>().map_or_else(|error| ApiError::internal(&error), ApiError::from)
    }
}

/// The answer to an address that is none.
pub(crate) async fn unknown_address(uri: axum::http::Uri) -> ApiError {
    ApiError::not_found("address", format!("there is nothing at {}; /api/openapi.json lists what there is", uri.path()))
}

/// An address that is there, called in another way than it knows.
pub(crate) async fn unknown_method(method: axum::http::Method, uri: axum::http::Uri) -> ApiError {
    let detail = format!("{} does not take {method}; /api/openapi.json lists what it takes", uri.path());
    ApiError::new(StatusCode::METHOD_NOT_ALLOWED, "unknown-method", detail)
}
