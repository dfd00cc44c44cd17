//! The management API. Engineers come in by their sign-in session or by a bearer token; a role decides how far they go.

pub mod acts;
pub mod auth;
mod crossings;
mod described;
mod entrances;
pub mod errors;
mod extract;
mod factors;
mod finding;
mod gates;
mod handover;
mod kerberos;
mod leavers;
mod people;
mod presences;
mod profiles;
mod providers;
mod reach;
mod reached;
mod rehearse;
mod ring;
mod routes;
mod secrets;
mod sites;
mod survey;
mod tokens;
mod trials;

pub use auth::Engineer;

use axum::Router;
use axum::response::Response;
use axum::routing::get;
use errors::problem;
use http::{HeaderValue, StatusCode, header};
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::app::App;

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
pub fn router() -> Router<App> {
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
        .routes(routes!(reach::reaches))
        .routes(routes!(reach::try_reach))
        .routes(routes!(reach::propose))
        .routes(routes!(presences::presences))
        .routes(routes!(presences::day))
        .routes(routes!(presences::end))
        .routes(routes!(presences::who_had))
        .routes(routes!(presences::accepted))
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
        .routes(routes!(profiles::list, profiles::make))
        .routes(routes!(profiles::revoke))
        .routes(routes!(profiles::authority))
        .routes(routes!(profiles::server))
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
        .routes(routes!(entrances::list, entrances::begin))
        .routes(routes!(entrances::read, entrances::end))
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
