//! The head of a request to an upstream. Built here alone, and only from an admission, or for nobody where a section is
//! open: what the upstream reads of the person is what core decided, whatever the client sent.

use std::net::IpAddr;

use http::header::{
    ACCEPT_ENCODING, AUTHORIZATION, CONNECTION, COOKIE, FORWARDED, HOST, HeaderName, HeaderValue, RANGE, UPGRADE, VIA,
};
use http::{HeaderMap, Request, Uri, request::Parts};
use passeur_core::address::PublicAddress;
use passeur_core::forwarded::Way;
use passeur_core::id::PERSONAL_TOKEN;

use crate::bearer::{Bearer, Written};
use crate::caller;
use crate::edition::Place;
use crate::fields::{Field, Fields};
use crate::head::{is_websocket, tokens};
use crate::stream::Upload;
use passeur_http::cookies;

const X_FORWARDED_FOR: HeaderName = HeaderName::from_static("x-forwarded-for");
const X_FORWARDED_HOST: HeaderName = HeaderName::from_static("x-forwarded-host");
const X_FORWARDED_PROTO: HeaderName = HeaderName::from_static("x-forwarded-proto");

/// Where a request came from, as an upstream is told.
#[derive(Clone, Debug)]
pub(crate) struct From {
    forwarded: HeaderValue,
    x_forwarded_for: HeaderValue,
}

impl From {
    /// Written for a gate: `Forwarded` (RFC 7239) and its older kin, each hop in order.
    pub(crate) fn new(way: &Way, gate: &PublicAddress) -> Option<From> {
        let element = |hop: &IpAddr| match hop {
            IpAddr::V4(v4) => format!("for={v4}"),
            IpAddr::V6(v6) => format!("for=\"[{v6}]\""),
        };
        let proto = if gate.https { "https" } else { "http" };
        let mut forwarded = format!("{};host=\"{}\";proto={proto}", element(&way.client()), gate.host);
        let mut x_forwarded_for = way.client().to_string();
        for hop in way.hops().iter().skip(1) {
            forwarded.push_str(", ");
            forwarded.push_str(&element(hop));
            x_forwarded_for.push_str(", ");
            x_forwarded_for.push_str(&hop.to_string());
        }
        Some(From {
            forwarded: HeaderValue::from_str(&forwarded).ok()?,
            x_forwarded_for: HeaderValue::from_str(&x_forwarded_for).ok()?,
        })
    }
}

/// A request that may go to an upstream. Private field: [`build`] is the only way to one. Boxed, since it passes through
/// several futures that are moved as a whole.
pub(crate) struct Outgoing(Box<Request<Upload>>);

impl Outgoing {
    /// Its fields; [`crate::ticketed`] adds what an application is shown of the person.
    pub(crate) fn headers_mut(&mut self) -> &mut HeaderMap {
        self.0.headers_mut()
    }

    pub(crate) fn into_request(self) -> Box<Request<Upload>> {
        self.0
    }
}

/// Whether what a client sent to prove itself is meant for us: a personal token wherever it is sent, and, where nobody is asked,
/// whatever the gate would take elsewhere. No application gets to see it.
fn is_for_us(client: &HeaderMap, place: Place<'_>, bearer: &Bearer) -> bool {
    let ours = client.get_all(AUTHORIZATION).iter().any(|v| {
        let text = String::from_utf8_lossy(v.as_bytes());
        text.split([' ', ',', '=', '"']).any(|part| part.starts_with(PERSONAL_TOKEN))
    });
    let unasked = bearer.is_nobody() && place.gate.access.callers.is_some();
    ours || unasked && caller::token(client).is_some()
}

/// What stands in a request besides what the client sent.
#[derive(Clone, Copy)]
pub(crate) struct Ours<'a> {
    pub(crate) place: Place<'a>,
    pub(crate) bearer: &'a Bearer,
    /// What the application is told of the person; none where nobody is signed in.
    pub(crate) written: Option<&'a Written>,
    /// What the names of the client's fields mean.
    pub(crate) fields: &'a Fields,
    pub(crate) from: &'a From,
}

/// Builds the outgoing request: the client's fields edited in place, then ours.
pub(crate) fn build(parts: &Parts, mut headers: HeaderMap, body: Upload, ours: Ours<'_>) -> Option<Outgoing> {
    let Ours { place, bearer, written, fields, from } = ours;
    let websocket = fields.has(Field::Upgrade) && is_websocket(&headers);
    let for_us = fields.has(Field::Authorization) && is_for_us(&headers, place, bearer);
    let cookie = written.map_or_else(|| cookies::without_ours(&headers), |w| w.cookie.clone());
    // What the client's Connection field names is dropped from what the client sent; ours are inserted afterwards, so it
    // cannot remove a delivered one.
    if fields.has(Field::Connection) {
        let named: Vec<String> = tokens(&headers, CONNECTION).collect();
        for name in named {
            headers.remove(&name);
        }
    }
    for name in &fields.gone {
        headers.remove(name);
    }
    if for_us {
        headers.remove(AUTHORIZATION);
    }
    match cookie {
        Some(value) => drop(headers.insert(COOKIE, value)),
        None => drop(headers.remove(COOKIE)),
    }
    let delivered = written.map_or(&[][..], |w| &w.headers);
    headers.reserve(delivered.len() + 6);
    let host = place.prepared.host.as_ref()?;
    // A gateway says that it stands in between, and in which version it was asked (RFC 9110 7.6.3).
    let via = if parts.version == http::Version::HTTP_2 { "2 passeur" } else { "1.1 passeur" };
    headers.append(VIA, HeaderValue::from_static(via));
    headers.insert(HOST, host.clone());
    headers.insert(FORWARDED, from.forwarded.clone());
    headers.insert(X_FORWARDED_FOR, from.x_forwarded_for.clone());
    headers.insert(X_FORWARDED_HOST, host.clone());
    headers.insert(X_FORWARDED_PROTO, place.prepared.proto.clone());
    if place.edits.changes_pages() {
        // A page is turned as plain text and whole.
        headers.insert(ACCEPT_ENCODING, HeaderValue::from_static("identity"));
        headers.remove(RANGE);
    }
    if websocket {
        headers.insert(CONNECTION, HeaderValue::from_static("Upgrade"));
        headers.insert(UPGRADE, HeaderValue::from_static("websocket"));
    }
    for (name, value) in delivered {
        headers.insert(name.clone(), value.clone());
    }
    // Origin form (RFC 9112 3.2.1): the address is the connection's.
    let uri = parts.uri.path_and_query().map_or_else(|| Uri::from_static("/"), |p| Uri::from(p.clone()));
    let mut request = Request::builder().method(parts.method.clone()).uri(uri).body(body).ok()?;
    *request.headers_mut() = headers;
    if let Some(word) = request.body().word().cloned() {
        word.heard_on(&mut request);
    }
    Some(Outgoing(Box::new(request)))
}
