//! The head of a request to an upstream. Built here alone, and only from an admission, or for nobody where a section is
//! open: what the upstream reads of the person is what core decided, whatever the client sent.

use std::net::IpAddr;

use http::header::{ACCEPT_ENCODING, AUTHORIZATION, CONNECTION, COOKIE, HOST, HeaderName, HeaderValue, RANGE, UPGRADE, VIA};
use http::{HeaderMap, Request, Uri, request::Parts};
use passeur_core::address::PublicAddress;
use passeur_core::delivery::folds_to;
use passeur_core::forwarded::Way;
use passeur_core::id::PERSONAL_TOKEN;

use crate::bearer::Bearer;
use crate::caller;
use crate::claims::claims;
use crate::edition::Place;
use crate::head::{is_websocket, tokens};
use crate::stream::Upload;
use passeur_http::cookies;

/// Fields that belong to one connection only (RFC 9110 7.6.1), and those that are written anew.
const DROPPED: &[&str] = &[
    "connection",
    "keep-alive",
    "proxy-connection",
    "proxy-authenticate",
    "proxy-authorization",
    "te",
    "trailer",
    "transfer-encoding",
    "upgrade",
    "cookie",
    "host",
];

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

/// Names that the client used for headers only this gate may set.
pub(crate) fn forged(bearer: &Bearer, headers: &HeaderMap) -> Vec<String> {
    headers.keys().filter(|n| bearer.strips(n)).map(|n| n.as_str().to_owned()).collect()
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

/// Whether a field of the client's may go on by its name, in the head or after the body.
pub(crate) fn passes(name: &HeaderName, bearer: &Bearer) -> bool {
    !(DROPPED.iter().any(|d| folds_to(name.as_str(), d)) || claims(name.as_str()) || bearer.strips(name))
}

/// Builds the outgoing request: one pass over the client's fields, then ours.
pub(crate) fn build(parts: &Parts, body: Upload, place: Place<'_>, bearer: &Bearer, from: &From) -> Option<Outgoing> {
    let mut headers = HeaderMap::with_capacity(parts.headers.len() + bearer.count() + 6);
    // What the client's Connection field names is dropped from what the client sent; ours are inserted afterwards, so it
    // cannot remove a delivered one.
    let per_connection: Vec<String> =
        if parts.headers.contains_key(CONNECTION) { tokens(&parts.headers, CONNECTION).collect() } else { vec![] };
    for (name, value) in &parts.headers {
        if passes(name, bearer) && !per_connection.iter().any(|n| n == name.as_str()) {
            headers.append(name.clone(), value.clone());
        }
    }
    if is_for_us(&parts.headers, place, bearer) {
        headers.remove(AUTHORIZATION);
    }
    if let Some(value) = cookies::without_ours(&parts.headers) {
        headers.insert(COOKIE, value);
    }
    let host = place.prepared.host.as_ref()?;
    // A gateway says that it stands in between, and in which version it was asked (RFC 9110 7.6.3).
    let via = if parts.version == http::Version::HTTP_2 { "2 passeur" } else { "1.1 passeur" };
    headers.append(VIA, HeaderValue::from_static(via));
    headers.insert(HOST, host.clone());
    headers.insert(HeaderName::from_static("forwarded"), from.forwarded.clone());
    headers.insert(HeaderName::from_static("x-forwarded-for"), from.x_forwarded_for.clone());
    headers.insert(HeaderName::from_static("x-forwarded-host"), host.clone());
    headers.insert(HeaderName::from_static("x-forwarded-proto"), place.prepared.proto.clone());
    if place.edits.changes_pages() {
        // A page is turned as plain text and whole.
        headers.insert(ACCEPT_ENCODING, HeaderValue::from_static("identity"));
        headers.remove(RANGE);
    }
    if is_websocket(&parts.headers) {
        headers.insert(CONNECTION, HeaderValue::from_static("Upgrade"));
        headers.insert(UPGRADE, HeaderValue::from_static("websocket"));
    }
    for (name, value) in bearer.headers() {
        headers.insert(name.clone(), value);
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
