//! The sign-in host: pages, console and management API.

use axum::extract::DefaultBodyLimit;
use axum::{Router, middleware};
use http::StatusCode;
use passeur_engine::Engine;
use passeur_gateway::bodies::Bound;
use passeur_management::App;
use passeur_signin::problem::problem;

use crate::guard;

/// The largest body of a call of the API: a site file is the largest thing anybody sends. Nothing of it is read before the caller is
/// known.
const CALL_MAX: usize = 5 << 20;
/// The largest body of a page: forms of a few fields, and tokens of providers.
const PAGE_MAX: usize = 64 * 1024;
/// The largest body at an address that takes SAML messages (in base64, in a form).
const SAML_MAX: usize = 512 * 1024;

/// What is read of a body at a path of the sign-in host.
pub fn bound(path: &str) -> Bound {
    let (max, known) = match path {
        p if p.starts_with("/api/") => (CALL_MAX, true),
        p if p.starts_with("/.passeur/saml/") => (SAML_MAX, false),
        _ => (PAGE_MAX, false),
    };
    Bound { max, known }
}

/// Everything on the sign-in host.
pub fn router(engine: &Engine, management: &App) -> Router {
    let hints = middleware::map_response_with_state(engine.clone(), passeur_signin::router::ask_for_hints);
    let pages = passeur_signin::router::pages().with_state(engine.clone()).layer(hints);
    Router::new()
        .merge(pages)
        .merge(passeur_management::router::router().with_state(management.clone()))
        .fallback(async || problem(StatusCode::NOT_FOUND, "not-found", "Nothing is here", "There is no such page."))
        .layer(middleware::from_fn_with_state(engine.clone(), guard::check))
        // Below the guard: a provider's page posts these.
        .merge(passeur_signin::router::from_elsewhere().with_state(engine.clone()))
        // Every body is bounded by its place before it comes here: see [`bound`].
        .layer(DefaultBodyLimit::disable())
}
