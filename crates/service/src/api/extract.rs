//! What comes with a request, read so that a mistake in it is answered by a problem document like every other.

use axum::extract::rejection::{JsonRejection, PathRejection, QueryRejection};
use axum::extract::{FromRequest, FromRequestParts};
use axum::response::{IntoResponse, Response};
use http::StatusCode;
use serde::Serialize;

use super::{ApiError, problem};

/// A JSON body, read or answered.
#[derive(FromRequest)]
#[from_request(via(axum::Json), rejection(ApiError))]
pub struct Json<T>(pub T);

impl<T: Serialize> IntoResponse for Json<T> {
    fn into_response(self) -> Response {
        axum::Json(self.0).into_response()
    }
}

/// Parameters of the query.
#[derive(FromRequestParts)]
#[from_request(via(axum::extract::Query), rejection(ApiError))]
pub struct Query<T>(pub T);

/// Parameters of the path.
#[derive(FromRequestParts)]
#[from_request(via(axum::extract::Path), rejection(ApiError))]
pub struct Path<T>(pub T);

fn not_understood(status: StatusCode, detail: &str) -> ApiError {
    problem(status, "request", "Not understood", detail)
}

impl From<JsonRejection> for ApiError {
    fn from(e: JsonRejection) -> ApiError {
        // The parser's words name line, column and field of what the client sent itself.
        not_understood(e.status(), &e.body_text())
    }
}

impl From<QueryRejection> for ApiError {
    fn from(e: QueryRejection) -> ApiError {
        not_understood(e.status(), &e.body_text())
    }
}

impl From<PathRejection> for ApiError {
    fn from(e: PathRejection) -> ApiError {
        not_understood(e.status(), &e.body_text())
    }
}
