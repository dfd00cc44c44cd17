//! After signing out, each gate that the session opened is asked, by way of the browser, to drop its cookie and whatever
//! the browser keeps of its pages: a browser may hold even pages that are not to be stored, for its Back button.

use axum::response::{IntoResponse, Response};
use chrono::{DateTime, Duration};
use http::{HeaderName, HeaderValue, StatusCode};
use passeur_core::seal::Purpose;
use passeur_core::site::Gate;
use passeur_engine::random::random;
use passeur_http::cookies;

use super::Visit;
use crate::pages;
use passeur_engine::Engine;

/// How long the order is good for, in minutes.
const GOOD_FOR: i64 = 5;
/// The longest order that is looked at.
const ORDER_MAX: usize = 400;

/// The address that carries the order to a gate. Sealed, so that no page elsewhere can give it.
pub fn address(engine: &Engine, gate: &Gate) -> String {
    let until = (engine.now() + Duration::minutes(GOOD_FOR)).timestamp();
    let order = engine.ring.seal_text(Purpose::Forget, random(), format!("{until} {}", gate.name).as_bytes());
    gate.address.at(&format!("/.passeur/forget?order={order}"))
}

fn is_good(engine: &Engine, gate: &Gate, order: &str) -> Option<()> {
    let plain = String::from_utf8(engine.ring.open_text(Purpose::Forget, order, ORDER_MAX).ok()?).ok()?;
    let (until, name) = plain.split_once(' ')?;
    let until = DateTime::from_timestamp(until.parse().ok()?, 0)?;
    (name == gate.name && engine.now() < until).then_some(())
}

/// `GET /.passeur/forget?order=…` on a gate's host.
pub fn forget(engine: &Engine, gate: &Gate, visit: &Visit) -> Response {
    let mut response = match visit.parameter("order").and_then(|o| is_good(engine, gate, &o)) {
        Some(()) => StatusCode::NO_CONTENT.into_response(),
        None => return StatusCode::BAD_REQUEST.into_response(),
    };
    pages::protect(response.headers_mut());
    response.headers_mut().insert(HeaderName::from_static("clear-site-data"), HeaderValue::from_static("\"cache\""));
    let (name, secure) = gate.address.cookie("gate");
    pages::set_cookie(&mut response, &cookies::set(&name, "", secure, Some(0)));
    response
}
