//! The path of a sign-in on the sign-in host: ask → way in → answer → evidence → session → hand-back → gate.

pub mod answer;
pub mod arrive;
pub mod device;
pub mod ended;
pub mod factors;
pub mod forget;
pub mod forms;
pub mod hand_over;
pub mod journey;
pub mod known_names;
pub mod local;
pub mod machine;
mod mini;
pub mod network;
pub mod oidc;
pub mod out;
pub mod pages;
pub mod park;
pub mod problem;
pub mod published;
pub mod quay;
pub mod route;
pub mod router;
pub mod saml;
pub mod session;
pub mod sponsor;
pub mod tokens;
pub mod trial;

use std::net::IpAddr;
use std::sync::Arc;

use axum::extract::{FromRequestParts, OptionalFromRequestParts};
use axum::response::{IntoResponse, Response};
use http::request::Parts;
use http::{HeaderMap, StatusCode};
use passeur_core::address::PublicAddress;
use passeur_core::circumstances::RequestFacts;
use passeur_core::id::{Token, same_secret};
use passeur_core::step::Lang;
use passeur_http::ClientChain;
use passeur_http::cookies::{self, Found};
use passeur_live::edition::Edition;

use passeur_engine::Engine;

/// The client's address, put into every request by the data path.
#[derive(Clone, Copy, Debug)]
pub struct ClientAddress(pub IpAddr);

/// A request to a page, as far as pages need it.
pub struct Visit {
    pub facts: RequestFacts,
    pub headers: HeaderMap,
    pub query: String,
    /// The certificates that the browser showed, its own first.
    pub chain: ClientChain,
}

impl Visit {
    /// From a request's head.
    pub fn of(parts: &Parts) -> Option<Visit> {
        let ClientAddress(address) = *parts.extensions.get::<ClientAddress>()?;
        Some(Visit {
            facts: passeur_http::facts_of(&parts.method, &parts.uri, &parts.headers, address),
            headers: parts.headers.clone(),
            query: parts.uri.query().unwrap_or_default().to_owned(),
            chain: parts.extensions.get::<ClientChain>().cloned().unwrap_or_default(),
        })
    }

    /// Whether the browser holds the cookie of ours whose digest this is ([`journey::flow::cookie_digest`]).
    pub fn holds(&self, address: &PublicAddress, cookie: &str, digest: &[u8]) -> bool {
        match cookies::find(&self.headers, &address.cookie(cookie).0) {
            Found::One(v) => same_secret(journey::flow::cookie_digest(&v).as_bytes(), digest),
            _ => false,
        }
    }

    /// A query parameter; one that stands twice is none.
    pub fn parameter(&self, name: &str) -> Option<String> {
        only_value(&self.query, name)
    }
}

/// The value of a name in a query or form; one that stands twice is none.
pub fn only_value(text: &str, name: &str) -> Option<String> {
    let mut all = url::form_urlencoded::parse(text.as_bytes()).filter(|(n, _)| n == name);
    let first = all.next()?.1.into_owned();
    all.next().is_none().then_some(first)
}

impl<S: Send + Sync> FromRequestParts<S> for Visit {
    type Rejection = StatusCode;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Visit, StatusCode> {
        Visit::of(parts).ok_or(StatusCode::INTERNAL_SERVER_ERROR)
    }
}

/// A random value that binds what follows to one browser, shared by all its open tabs: the one it holds already, or a new
/// one with the Set-Cookie that gives it. Anything under that name that is not ours is replaced.
pub fn browser_binding(engine: &Engine, headers: &HeaderMap, address: &PublicAddress, cookie: &str) -> (String, Option<String>) {
    let (name, secure) = address.cookie(cookie);
    match cookies::find(headers, &name) {
        Found::One(v) if Token::parse(&v).is_some() => (v, None),
        _ => {
            let value = engine.new_token().reveal().to_owned();
            let set = cookies::set(&name, &value, secure, None);
            (value, Some(set))
        }
    }
}

/// The live edition, as it was when the request began. Where nothing is published yet, the answer says so.
pub struct LiveEdition(pub Arc<Edition>);

impl FromRequestParts<Engine> for LiveEdition {
    type Rejection = Response;

    async fn from_request_parts(parts: &mut Parts, engine: &Engine) -> Result<LiveEdition, Response> {
        let lang = Visit::of(parts).map_or(Lang::En, |v| v.facts.lang);
        engine.live.get().map(LiveEdition).ok_or_else(|| pages::not_set_up(lang).into_response())
    }
}

impl OptionalFromRequestParts<Engine> for LiveEdition {
    type Rejection = std::convert::Infallible;

    async fn from_request_parts(_: &mut Parts, engine: &Engine) -> Result<Option<LiveEdition>, Self::Rejection> {
        Ok(engine.live.get().map(LiveEdition))
    }
}
