//! What we publish of ourselves for programs: the keys that prove us to OpenID Connect providers, and what we offer to command lines.

use axum::extract::{Path, State};
use axum::response::{IntoResponse, Response};
use http::{HeaderValue, StatusCode, header};
use serde_json::{Value, json};

use super::LiveEdition;
use crate::problem::problem;
use passeur_engine::Engine;

fn published(body: &Value, kind: &'static str) -> Response {
    let mut response = axum::Json(body).into_response();
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(kind));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("public, max-age=60"));
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    response
}

fn nothing(words: &str) -> Response {
    problem(StatusCode::NOT_FOUND, "not-found", "Nothing is here", words).into_response()
}

/// `GET /.passeur/oidc/{provider}/keys`: the public halves of the keys that sign our assertions to a provider (a JWK Set, RFC 7517 5),
/// the one in use first. Only a provider of the live edition that is proven to by a key has such a set.
pub async fn client_keys(State(engine): State<Engine>, Path(provider): Path<String>) -> Response {
    let keys = engine.provider(&provider).and_then(|link| link.oidc()).map(|link| link.own_keys()).unwrap_or_default();
    if keys.is_empty() {
        return nothing("No provider of this name is proven to by a key.");
    }
    published(&json!({ "keys": keys }), "application/jwk-set+json")
}

/// `GET /.well-known/oauth-authorization-server`: where command lines ask to be let in (RFC 8414 3, RFC 8628 4).
pub async fn authorization_server(edition: Option<LiveEdition>) -> Response {
    let Some(LiveEdition(edition)) = edition.filter(|LiveEdition(e)| e.site.engineers.is_some()) else {
        return nothing("Nothing is published yet that a command line could be let in to.");
    };
    let address = &edition.site.address;
    let metadata = json!({
        "issuer": address.origin(),
        "device_authorization_endpoint": address.at("/.passeur/device/authorize"),
        "token_endpoint": address.at("/.passeur/device/token"),
        "token_endpoint_auth_methods_supported": ["none"],
        "grant_types_supported": ["urn:ietf:params:oauth:grant-type:device_code"],
        // No endpoint of ours gives codes or tokens in the address.
        "response_types_supported": [],
        "ui_locales_supported": ["en", "fr"],
    });
    published(&metadata, "application/json")
}
