//! The console's files, embedded in the binary: a strict Content-Security-Policy with a nonce per answer, assets that
//! never change under a name, and the application's own page for every other path.

use axum::Router;
use axum::extract::Path;
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::get;
use http::{HeaderMap, HeaderValue, StatusCode, header};
use passeur_core::id::hex;
use passeur_engine::random::random;
use rust_embed::RustEmbed;

use crate::app::App;

#[derive(RustEmbed)]
#[folder = "$OUT_DIR/console"]
struct Files;

/// What `index.html` holds where the nonce goes.
const NONCE_PLACE: &str = "passeur-nonce-goes-here";

/// Routes of the console.
pub fn router() -> Router<App> {
    Router::new()
        .route("/console", get(async || Redirect::permanent("/console/")))
        .route("/console/", get(index))
        .route("/console/{*path}", get(file))
}

async fn index() -> Response {
    let Some(page) = Files::get("index.html") else {
        return StatusCode::NOT_FOUND.into_response();
    };
    let nonce = hex(&random::<16>());
    let html = String::from_utf8_lossy(&page.data).replace(NONCE_PLACE, &nonce);
    let policy = format!(
        "default-src 'none'; script-src 'self' 'nonce-{nonce}'; style-src 'self' 'nonce-{nonce}'; style-src-attr 'unsafe-inline'; img-src 'self' data:; \
         font-src 'self'; connect-src 'self'; manifest-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
    );
    let mut headers = HeaderMap::new();
    for (name, value) in [
        (header::CONTENT_TYPE, "text/html; charset=utf-8"),
        (header::CACHE_CONTROL, "no-store"),
        (header::REFERRER_POLICY, "no-referrer"),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::X_FRAME_OPTIONS, "DENY"),
    ] {
        headers.insert(name, HeaderValue::from_static(value));
    }
    if let Ok(value) = HeaderValue::from_str(&policy) {
        headers.insert(header::CONTENT_SECURITY_POLICY, value);
    }
    (headers, html).into_response()
}

async fn file(Path(path): Path<String>, headers: HeaderMap) -> Response {
    let Some(found) = Files::get(&path).filter(|_| path != "index.html") else {
        // A missing asset is missing; any other path is a page of the application.
        let asset = path.starts_with("assets/") || path.rsplit('/').next().is_some_and(|f| f.contains('.'));
        return if asset { StatusCode::NOT_FOUND.into_response() } else { index().await };
    };
    let etag = format!("\"{}\"", hex(&found.metadata.sha256_hash()[..16]));
    if headers.get(header::IF_NONE_MATCH).is_some_and(|v| v.as_bytes() == etag.as_bytes()) {
        return StatusCode::NOT_MODIFIED.into_response();
    }
    let cache = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    let kind = mime_guess::from_path(&path).first_or_octet_stream().to_string();
    let mut response = found.data.into_owned().into_response();
    let h = response.headers_mut();
    for (name, value) in [(header::CONTENT_TYPE, kind.as_str()), (header::CACHE_CONTROL, cache), (header::ETAG, &etag)] {
        if let Ok(v) = HeaderValue::from_str(value) {
            h.insert(name, v);
        }
    }
    h.insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    response
}
