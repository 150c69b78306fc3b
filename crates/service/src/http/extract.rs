//! What a call carries, read: its address, its query, its body. What does not fit is answered with problem details.

use super::error::ApiError;
use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::StatusCode;
use axum::http::request::Parts;
use serde::de::DeserializeOwned;

/// The parts of an address that its route names.
pub(crate) struct Path<T>(pub(crate) T);

impl<T: DeserializeOwned + Send, S: Send + Sync> FromRequestParts<S> for Path<T> {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        let read = axum::extract::Path::<T>::from_request_parts(parts, state).await;
        let refused = |error: axum::extract::rejection::PathRejection| ApiError::new(error.status(), "bad-address", error.body_text());
        read.map(|axum::extract::Path(value)| Path(value)).map_err(refused)
    }
}

/// What follows the question mark.
pub(crate) struct Query<T>(pub(crate) T);

impl<T: DeserializeOwned + Send, S: Send + Sync> FromRequestParts<S> for Query<T> {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        let read = axum::extract::Query::<T>::from_request_parts(parts, state).await;
        let refused =
            |error: axum::extract::rejection::QueryRejection| ApiError::new(StatusCode::BAD_REQUEST, "bad-query", error.body_text());
        read.map(|axum::extract::Query(value)| Query(value)).map_err(refused)
    }
}

/// A JSON body; bad syntax, a wrong shape and a wrong media type are different errors.
pub(crate) struct Body<T>(pub(crate) T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for Body<T> {
    type Rejection = ApiError;

    async fn from_request(request: Request, state: &S) -> Result<Self, ApiError> {
        match Json::<T>::from_request(request, state).await {
            Ok(Json(value)) => Ok(Body(value)),
            Err(JsonRejection::JsonSyntaxError(error)) => Err(ApiError::new(StatusCode::BAD_REQUEST, "not-json", error.body_text())),
            Err(JsonRejection::JsonDataError(error)) => {
                Err(ApiError::new(StatusCode::UNPROCESSABLE_ENTITY, "bad-input", error.body_text()))
            }
            Err(JsonRejection::MissingJsonContentType(_)) => {
                Err(ApiError::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "not-json", "send the body as application/json"))
            }
            Err(other) => Err(ApiError::new(other.status(), "bad-body", other.body_text())),
        }
    }
}
