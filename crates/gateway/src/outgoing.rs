//! The head of a request to an upstream. Built here alone, and only from an admission: what the upstream reads of the
//! person is what core decided, whatever the client sent.

use std::net::IpAddr;

use http::header::{CONNECTION, COOKIE, HOST, HeaderName, HeaderValue, UPGRADE};
use http::{HeaderMap, Request, Uri, request::Parts};
use passeur_core::delivery::fold_name;
use passeur_core::site::Gate;

use crate::admission::Admission;
use crate::cookies;
use crate::head::{is_websocket, tokens};
use crate::stream::Upload;

/// Fields that belong to one connection only (RFC 9110 7.6.1), and those that claim where a request came from.
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
    "forwarded",
    "x-forwarded-for",
    "x-forwarded-host",
    "x-forwarded-proto",
    "x-forwarded-port",
    "x-forwarded-server",
    "x-real-ip",
    "cookie",
    "host",
];

/// A request that may go to an upstream. Private field: [`build`] is the only way to one.
pub(crate) struct Outgoing(Request<Upload>);

impl Outgoing {
    pub(crate) fn into_request(self) -> Request<Upload> {
        self.0
    }
}

/// Names that the client used for headers only this gate may set.
pub(crate) fn forged(admission: &Admission, headers: &HeaderMap) -> Vec<String> {
    headers.keys().filter(|n| admission.strips(n)).map(|n| n.as_str().to_owned()).collect()
}

/// Builds the outgoing request: one pass over the client's fields, then ours.
pub(crate) fn build(parts: &Parts, body: Upload, gate: &Gate, admission: &Admission, address: IpAddr) -> Option<Outgoing> {
    let mut headers = HeaderMap::with_capacity(parts.headers.len() + admission.headers().len() + 6);
    // What the client's Connection field names is dropped from what the client sent; ours are inserted afterwards, so it
    // cannot remove a delivered one.
    let per_connection: Vec<String> = tokens(&parts.headers, CONNECTION).collect();
    for (name, value) in &parts.headers {
        let dropped = DROPPED.contains(&fold_name(name.as_str()).as_str())
            || per_connection.iter().any(|n| n == name.as_str())
            || admission.strips(name);
        if !dropped {
            headers.append(name.clone(), value.clone());
        }
    }
    if let Some(value) = cookies::without_ours(&parts.headers) {
        headers.insert(COOKIE, value);
    }
    headers.insert(HOST, HeaderValue::from_str(&gate.address.host).ok()?);
    let proto = if gate.address.https { "https" } else { "http" };
    let by = match address {
        IpAddr::V4(v4) => format!("for={v4}"),
        IpAddr::V6(v6) => format!("for=\"[{v6}]\""),
    };
    let forwarded = format!("{by};host=\"{}\";proto={proto}", gate.address.host);
    for (name, value) in [
        ("forwarded", forwarded.as_str()),
        ("x-forwarded-for", &address.to_string()),
        ("x-forwarded-host", &gate.address.host),
        ("x-forwarded-proto", proto),
    ] {
        headers.insert(HeaderName::from_static(name), HeaderValue::from_str(value).ok()?);
    }
    if is_websocket(&parts.headers) {
        headers.insert(CONNECTION, HeaderValue::from_static("Upgrade"));
        headers.insert(UPGRADE, HeaderValue::from_static("websocket"));
    }
    for (name, value) in admission.headers() {
        headers.insert(name.clone(), value.clone());
    }
    // Origin form (RFC 9112 3.2.1): the address is the connection's.
    let uri = parts.uri.path_and_query().map_or_else(|| Uri::from_static("/"), |p| Uri::from(p.clone()));
    let mut request = Request::builder().method(parts.method.clone()).uri(uri).body(body).ok()?;
    *request.headers_mut() = headers;
    Some(Outgoing(request))
}
