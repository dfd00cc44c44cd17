//! The addresses of sign-in on the sign-in host.

use std::sync::Arc;

use axum::Router;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use http::request::Parts;
use http::{HeaderValue, Method, StatusCode, header};
use passeur_core::site::Gate;
use passeur_engine::Engine;
use passeur_live::edition::Edition;

use crate::journey::start;
use crate::oidc::answer;
use crate::pages::redirect;
use crate::problem::problem;
use crate::{
    Visit, arrive, device, ended, factors, forget, forms, local, machine, out, pages, published, quay, route, saml, sponsor,
    tokens,
};

/// What browsers ask for: an unsafe request of these must come from a page of our own.
pub fn pages() -> Router<Engine> {
    Router::new()
        .route("/", get(quay::show))
        .route("/.passeur/sign-in", get(start::sign_in))
        .route("/.passeur/oidc/{provider}/answer", get(answer::answer))
        .route("/.passeur/oidc/{provider}/trial", get(answer::of_trial))
        .route("/.passeur/oidc/{provider}/keys", get(published::client_keys))
        .route("/.well-known/oauth-authorization-server", get(published::authorization_server))
        .route("/.passeur/saml/metadata", get(saml::metadata::serve))
        .route("/.passeur/saml/{provider}/answer", get(saml::answer::answer))
        .route("/.passeur/factors", get(factors::page::show).post(factors::page::change))
        .route("/.passeur/factor", post(factors::prove::post))
        .route("/.passeur/passkey", post(factors::ceremony::begin))
        .route("/.passeur/passkey.js", get(factors::script))
        .route("/.passeur/device", get(device::show).post(device::answer))
        .route("/.passeur/sponsor", get(sponsor::show).post(sponsor::answer))
        .route("/.passeur/machine-end", post(machine::end))
        .route("/.passeur/tokens", get(tokens::show).post(tokens::change))
        .route("/.passeur/name", post(route::post))
        .route("/.passeur/way/{name}", post(local::post))
        .route("/.passeur/way/{name}/ticket", get(local::ticket::negotiate))
        .route("/.passeur/sign-out", get(out::ask).post(out::sign_out))
        .route("/.passeur/signed-out", get(out::signed_out))
        .route("/.passeur/page.css", get(style))
}

/// What providers and devices send by themselves, or make a browser send. None is acted on by the cookies it comes with, so that it may
/// come from anywhere.
pub fn from_elsewhere() -> Router<Engine> {
    Router::new()
        .route("/.passeur/oidc/{provider}/answer", post(answer::post))
        .route("/.passeur/oidc/{provider}/trial", post(answer::post_of_trial))
        .route("/.passeur/oidc/{provider}/back-channel", post(ended::back_channel))
        .route("/.passeur/oidc/{provider}/front-channel", get(ended::front_channel))
        .route("/.passeur/device/authorize", post(device::begin))
        .route("/.passeur/device/token", post(device::poll))
        .route("/.passeur/saml/{provider}/answer", post(saml::answer::post))
        .route("/.passeur/saml/{provider}/sign-out", get(saml::out::message).post(saml::out::message))
}

/// Asks browsers for the version of their system with the next request (UA Client Hints 2.2), where a check of devices wants one. Those that do not
/// send it say less, and nothing else is different for them.
pub async fn ask_for_hints(State(engine): State<Engine>, mut response: Response) -> Response {
    let wants = |e: &Edition| e.site.device_checks.iter().flat_map(|c| &c.systems).any(|(_, version)| version.is_some());
    if engine.live.get().is_some_and(|e| wants(&e)) {
        response.headers_mut().insert("accept-ch", HeaderValue::from_static("Sec-CH-UA-Platform-Version"));
    }
    response
}

/// The stylesheet of pages.
pub async fn style() -> impl IntoResponse {
    let cache = "public, max-age=300";
    ([(header::CONTENT_TYPE, "text/css; charset=utf-8"), (header::CACHE_CONTROL, cache)], pages::STYLE)
}

/// Answers a request under `/.passeur/` on a gate's own host.
pub async fn of_gate(engine: &Engine, edition: &Arc<Edition>, gate: &Gate, parts: &Parts) -> Response {
    let Some(visit) = Visit::of(parts) else {
        return StatusCode::INTERNAL_SERVER_ERROR.into_response();
    };
    let reads = matches!(parts.method, Method::GET | Method::HEAD);
    match (parts.uri.path(), reads) {
        ("/.passeur/arrive", true) => arrive::arrive(engine, edition, gate, &visit).await,
        ("/.passeur/sign-out", true) => redirect(&edition.site.address.at("/.passeur/sign-out"), None),
        ("/.passeur/form", true) => forms::offer(engine, edition, gate, &visit).await,
        ("/.passeur/forget", true) => forget::forget(engine, gate, &visit),
        ("/.passeur/page.css", true) => style().await.into_response(),
        _ => {
            problem(StatusCode::NOT_FOUND, "not-found", "Nothing is here", "Passeur has no such page on a gate.").into_response()
        }
    }
}
