//! What is read of requests. What cannot be read is answered with a problem document, as everything else that is refused.

use axum::extract::rejection::{JsonRejection, PathRejection, QueryRejection};
use axum::extract::{FromRequest, FromRequestParts, OptionalFromRequest, Request};
use axum::http::request::Parts;
use axum::response::{IntoResponse, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::error::ApiError;

/// A body in JSON, either way.
pub(crate) struct Json<T>(pub(crate) T);

/// Query parameters.
pub(crate) struct Query<T>(pub(crate) T);

/// Variables of the path.
pub(crate) struct Path<T>(pub(crate) T);

impl<T: Serialize> IntoResponse for Json<T> {
    fn into_response(self) -> Response {
        axum::Json(self.0).into_response()
    }
}

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Json<T> {
    type Rejection = ApiError;

    async fn from_request(request: Request, state: &S) -> Result<Self, ApiError> {
        let read = <axum::Json<T> as FromRequest<S>>::from_request(request, state).await;
        read.map(|axum::Json(value)| Self(value)).map_err(no_body)
    }
}

impl<S: Send + Sync, T: DeserializeOwned> OptionalFromRequest<S> for Json<T> {
    type Rejection = ApiError;

    async fn from_request(request: Request, state: &S) -> Result<Option<Self>, ApiError> {
        use axum::body::HttpBody;
        // Clients may name a type for a body that they do not have.
        if request.body().is_end_stream() {
            return Ok(None);
        }
        let read = <Self as FromRequest<S>>::from_request(request, state).await;
        read.map(Some)
    }
}

impl<S: Send + Sync, T: DeserializeOwned> FromRequestParts<S> for Query<T> {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        let read = axum::extract::Query::<T>::from_request_parts(parts, state).await;
        let refused =
            |e: QueryRejection| ApiError::new(400, "A query parameter cannot be read", cause(&e));
        read.map(|axum::extract::Query(value)| Self(value))
            .map_err(refused)
    }
}

impl<S: Send + Sync, T: DeserializeOwned + Send> FromRequestParts<S> for Path<T> {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        let read = axum::extract::Path::<T>::from_request_parts(parts, state).await;
        let refused = |e: PathRejection| ApiError::new(400, "The path cannot be read", cause(&e));
        read.map(|axum::extract::Path(value)| Self(value))
            .map_err(refused)
    }
}

fn no_body(e: JsonRejection) -> ApiError {
    let (status, title) = match &e {
        JsonRejection::JsonSyntaxError(_) => (400, "The body is no JSON"),
        JsonRejection::JsonDataError(_) => {
            (400, "The body does not have the members that it should")
        }
        JsonRejection::MissingJsonContentType(_) => (415, "The body is not said to be JSON"),
        JsonRejection::BytesRejection(_) => (e.status().as_u16(), "The body cannot be read"),
        _ => (400, "The body cannot be read"),
    };
    let detail = match status {
        415 => "Send it with the header field Content-Type: application/json.".into(),
        _ => cause(&e),
    };
    ApiError::new(status, title, detail)
}

/// The innermost cause: what stands around it names types of this program.
fn cause(e: &dyn std::error::Error) -> String {
    let mut innermost = e;
    while let Some(source) = innermost.source() {
        innermost = source;
    }
    without_types(&innermost.to_string())
}

/// The reader of JSON names the type that it wanted to make: for whoever sent the body that is an object.
fn without_types(text: &str) -> String {
    match text.split_once("expected struct ") {
        Some((before, after)) => {
            let rest = after.trim_start_matches(|c: char| c.is_alphanumeric() || c == '_');
            format!("{before}expected an object{rest}")
        }
        None => text.to_owned(),
    }
}
