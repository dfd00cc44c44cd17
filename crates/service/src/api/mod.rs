//! The management API. Engineers come in by their sign-in session or by a bearer token; a role decides how far they go.

pub mod acts;
pub mod auth;
mod crossings;
mod described;
mod extract;
mod factors;
mod finding;
mod gates;
mod handover;
mod kerberos;
mod leavers;
mod people;
mod providers;
mod rehearse;
mod ring;
mod routes;
mod secrets;
mod sites;
mod survey;
mod tokens;
mod trials;

pub use auth::Engineer;
pub use sites::off_the_data_path;

use axum::Router;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use http::{HeaderValue, StatusCode, header};
use passeur_api::Problem;
use passeur_core::id::CrossingId;
use passeur_store::StoreError;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::app::App;

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

    pub fn with_refused(mut self, people: Vec<passeur_api::Affected>) -> ApiError {
        self.0.refuses = people;
        self
    }

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
        let status = StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = (status, axum::Json(&*self.0)).into_response();
        let headers = response.headers_mut();
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(described::PROBLEM));
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
        response
    }
}

/// A request that cannot mean anything; the words say what it should be.
fn bad(words: &str) -> ApiError {
    problem(StatusCode::BAD_REQUEST, "query", "Not understood", words)
}

/// Nothing is published yet.
fn no_edition() -> ApiError {
    problem(StatusCode::NOT_FOUND, "no-edition", "Nothing published", "Publish a site file first: passeur site publish FILE")
}

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Passeur management API",
        description = "What the console and the command line speak. Sign in to the console for a session, or send `Authorization: Bearer TOKEN`. Errors are problem documents (RFC 9457).",
        license(name = "Apache-2.0 OR MIT")
    ),
    servers((url = "/api/v1"))
)]
struct Described;

/// Routes under `/api/v1`.
pub fn router(_app: &App) -> Router<App> {
    let (router, document) = OpenApiRouter::with_openapi(Described::openapi())
        .routes(routes!(auth::me))
        .routes(routes!(factors::roles))
        .routes(routes!(routes::routes))
        .routes(routes!(routes::try_routes))
        .routes(routes!(sites::live))
        .routes(routes!(sites::check))
        .routes(routes!(sites::compare))
        .routes(routes!(sites::publish))
        .routes(routes!(sites::confirm))
        .routes(routes!(sites::agree))
        .routes(routes!(sites::editions))
        .routes(routes!(sites::edition))
        .routes(routes!(sites::read_draft, sites::write_draft, sites::discard_draft))
        .routes(routes!(rehearse::past))
        .routes(routes!(rehearse::person))
        .routes(routes!(tokens::list, tokens::make))
        .routes(routes!(tokens::revoke))
        .routes(routes!(acts::list))
        .routes(routes!(acts::check))
        .routes(routes!(acts::erase))
        .routes(routes!(gates::gates))
        .routes(routes!(providers::list))
        .routes(routes!(providers::read))
        .routes(routes!(providers::saml))
        .routes(routes!(providers::refresh))
        .routes(routes!(gates::directories))
        .routes(routes!(survey::run, survey::last))
        .routes(routes!(kerberos::look))
        .routes(routes!(kerberos::realms))
        .routes(routes!(gates::node))
        .routes(routes!(crossings::list))
        .routes(routes!(crossings::one))
        .routes(routes!(people::sessions))
        .routes(routes!(people::end))
        .routes(routes!(people::re_read))
        .routes(routes!(finding::find))
        .routes(routes!(finding::check))
        .routes(routes!(leavers::take_away))
        .routes(routes!(leavers::lift))
        .routes(routes!(leavers::blocks))
        .routes(routes!(people::look_up))
        .routes(routes!(factors::show, factors::remove))
        .routes(routes!(factors::tokens, factors::revoke_tokens))
        .routes(routes!(ring::list))
        .routes(routes!(ring::retire))
        .routes(routes!(secrets::list))
        .routes(routes!(secrets::set))
        .routes(routes!(secrets::make_key))
        .routes(routes!(secrets::use_version))
        .routes(routes!(secrets::forget))
        .routes(routes!(secrets::remove))
        .routes(routes!(handover::show))
        .routes(routes!(handover::print))
        .routes(routes!(handover::try_provider))
        .routes(routes!(handover::try_directory))
        .routes(routes!(trials::begin))
        .routes(routes!(trials::read))
        .split_for_parts();
    let document = described::whole(document);
    router
        .route("/openapi.json", get(move || std::future::ready(axum::Json(document.clone()))))
        .method_not_allowed_fallback(async || {
            problem(
                StatusCode::METHOD_NOT_ALLOWED,
                "method",
                "Not with this method",
                "The call exists with another method; see /api/v1/openapi.json.",
            )
        })
        .fallback(async || {
            problem(StatusCode::NOT_FOUND, "not-found", "No such call", "See /api/v1/openapi.json for what there is.")
        })
        .layer(axum::middleware::map_response(private))
}

/// Answers of the API are for the one who asked.
async fn private(mut response: Response) -> Response {
    response.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    response.headers_mut().insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    response
}
