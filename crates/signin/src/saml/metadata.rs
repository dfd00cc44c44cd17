//! Our own metadata, for providers' teams: `GET /.passeur/saml/metadata`, with `?provider=NAME` what one provider needs.

use axum::extract::State;
use axum::response::{IntoResponse, Response};
use http::{HeaderValue, StatusCode, header};

use crate::pages;
use crate::{LiveEdition, Visit};
use passeur_engine::Engine;

/// Serves it, signed where there is a key of ours.
pub async fn serve(State(engine): State<Engine>, LiveEdition(edition): LiveEdition, visit: Visit) -> Response {
    let provider = visit.parameter("provider");
    let Some(text) = engine.own_saml().metadata(&edition.site, engine.now(), provider.as_deref()) else {
        return StatusCode::NOT_FOUND.into_response();
    };
    let mut response = text.into_response();
    pages::protect(response.headers_mut());
    response.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static("application/samlmetadata+xml"));
    response.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("public, max-age=60"));
    response
}
