//! The path of a sign-in on the sign-in host: ask → way in → answer → evidence → session → hand-back → gate.

pub mod answer;
pub mod arrive;
pub mod ask;
pub mod enter;
pub mod evidence;
pub mod forget;
pub mod forms;
pub mod out;
pub mod session;
pub mod start;

use std::net::IpAddr;
use std::sync::Arc;

use axum::extract::{FromRequestParts, OptionalFromRequestParts};
use http::request::Parts;
use http::{HeaderMap, StatusCode};
use passeur_gateway::control::RequestFacts;
use passeur_gateway::shared::Edition;

/// The client's address, put into every request by the data path.
#[derive(Clone, Copy, Debug)]
pub struct ClientAddress(pub IpAddr);

/// A request to a page, as far as pages need it.
pub struct Visit {
    pub facts: RequestFacts,
    pub headers: HeaderMap,
    pub query: String,
}

impl Visit {
    /// From a request's head.
    pub fn of(parts: &Parts) -> Option<Visit> {
        let ClientAddress(address) = *parts.extensions.get::<ClientAddress>()?;
        Some(Visit {
            facts: RequestFacts::of(&parts.method, &parts.uri, &parts.headers, address),
            headers: parts.headers.clone(),
            query: parts.uri.query().unwrap_or_default().to_owned(),
        })
    }

    /// A query parameter; one that stands twice is none.
    pub fn parameter(&self, name: &str) -> Option<String> {
        let mut all = url::form_urlencoded::parse(self.query.as_bytes()).filter(|(n, _)| n == name);
        let first = all.next()?.1.into_owned();
        all.next().is_none().then_some(first)
    }
}

impl<S: Send + Sync> FromRequestParts<S> for Visit {
    type Rejection = StatusCode;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Visit, StatusCode> {
        Visit::of(parts).ok_or(StatusCode::INTERNAL_SERVER_ERROR)
    }
}

/// The live edition, as it was when the request began.
pub struct LiveEdition(pub Arc<Edition>);

impl OptionalFromRequestParts<crate::app::App> for LiveEdition {
    type Rejection = std::convert::Infallible;

    async fn from_request_parts(_: &mut Parts, app: &crate::app::App) -> Result<Option<LiveEdition>, Self::Rejection> {
        Ok(app.live.get().map(LiveEdition))
    }
}

/// Where the provider sends people back to: one address per provider, so that an answer cannot be taken for another's
/// (RFC 9700 4.4).
pub fn redirect_uri(site: &passeur_core::site::Site, provider: &str) -> String {
    site.address.at(&format!("/.passeur/oidc/{provider}/answer"))
}
