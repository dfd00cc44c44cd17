//! Problem documents (RFC 9457): what calls of the API, programs and scripts are answered with where something is wrong.

use axum::extract::rejection::{JsonRejection, PathRejection, QueryRejection};
use axum::response::{IntoResponse, Response};
use http::{HeaderValue, StatusCode, header};
use passeur_api::Problem;
use passeur_core::id::CrossingId;
use passeur_store::StoreError;

/// The media type of a problem document.
pub const PROBLEM: &str = "application/problem+json";

/// An answer that is a problem document (RFC 9457).
#[derive(Debug)]
pub struct ApiError(Box<Problem>);

/// A problem document.
pub fn problem(status: StatusCode, kind: &str, title: &str, detail: &str) -> ApiError {
    ApiError(Box::new(Problem {
        kind: format!("urn:passeur:problem:{kind}"),
        title: title.to_owned(),
        status: status.as_u16(),
        detail: detail.to_owned(),
        crossing: None,
        findings: vec![],
        refuses: vec![],
        emergency: None,
        anyway: None,
    }))
}

impl ApiError {
    /// The status of the answer.
    pub fn status(&self) -> StatusCode {
        StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    /// Names the crossing that tells the whole story.
    pub fn with_crossing(mut self, id: CrossingId) -> ApiError {
        self.0.crossing = Some(id.to_string());
        self
    }

    /// The word that overrides this refusal.
    pub fn with_anyway(mut self, word: &str) -> ApiError {
        self.0.anyway = Some(word.to_owned());
        self
    }

    /// Says where the emergency account signs in.
    pub fn with_emergency(mut self) -> ApiError {
        self.0.emergency = Some("/.passeur/emergency".to_owned());
        self
    }

    /// Names people who came in of late and no longer would.
    pub fn with_refused(mut self, people: Vec<passeur_api::Affected>) -> ApiError {
        self.0.refuses = people;
        self
    }

    /// Lists what is wrong with a document.
    pub fn with_findings(mut self, findings: Vec<passeur_api::Finding>) -> ApiError {
        self.0.findings = findings;
        self
    }
}

impl From<StoreError> for ApiError {
    fn from(e: StoreError) -> ApiError {
        match e {
            StoreError::Conflict => problem(
                StatusCode::CONFLICT,
                "conflict",
                "Changed meanwhile",
                "Somebody else changed it meanwhile. Read it again, then repeat.",
            ),
            StoreError::Unavailable(_) => problem(
                StatusCode::SERVICE_UNAVAILABLE,
                "store",
                "The store does not answer",
                "PostgreSQL does not answer; see the service's log.",
            ),
            StoreError::Unfit => {
                problem(StatusCode::BAD_REQUEST, "query", "No such text", "A value holds a NUL character: nothing has it.")
            }
            StoreError::Newer(_) | StoreError::Query(_) => {
                tracing::error!(error = %e, "a query failed");
                problem(
                    StatusCode::INTERNAL_SERVER_ERROR,
                    "store",
                    "The store refused",
                    "PostgreSQL refused a query; see the service's log.",
                )
            }
        }
    }
}

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        let mut response = (self.status(), axum::Json(&*self.0)).into_response();
        let headers = response.headers_mut();
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(PROBLEM));
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
        response
    }
}

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
