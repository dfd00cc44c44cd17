//! Edits on what an upstream answers: what every gate does, and what a site asks for.

mod head;
pub(crate) mod html;

use std::sync::Arc;

use http::header::{
    CACHE_CONTROL, CONNECTION, CONTENT_TYPE, HeaderName, HeaderValue, PROXY_AUTHENTICATE, TE, TRANSFER_ENCODING, UPGRADE,
};
use http::{HeaderMap, StatusCode};
use lol_html::AsciiCompatibleEncoding;
use passeur_core::address::PublicAddress;
use passeur_core::site::{Gate, ResponseEdits};

use crate::head::tokens;
use passeur_http::cookies;

/// Fields of one connection (RFC 9110 7.6.1).
static HOP_BY_HOP: [HeaderName; 7] = [
    CONNECTION,
    HeaderName::from_static("keep-alive"),
    HeaderName::from_static("proxy-connection"),
    PROXY_AUTHENTICATE,
    TE,
    TRANSFER_ENCODING,
    UPGRADE,
];

/// Fields by which an application would speak for the whole gate to browsers, or to caches in front of it, beyond its own pages: it
/// would delete the gate's cookies, send browsers elsewhere or have them report there, or register code for all of the address.
static FOR_THE_GATE: [HeaderName; 11] = [
    HeaderName::from_static("clear-site-data"),
    HeaderName::from_static("alt-svc"),
    HeaderName::from_static("alt-used"),
    HeaderName::from_static("nel"),
    HeaderName::from_static("report-to"),
    HeaderName::from_static("reporting-endpoints"),
    HeaderName::from_static("service-worker-allowed"),
    HeaderName::from_static("surrogate-control"),
    HeaderName::from_static("surrogate-key"),
    HeaderName::from_static("cache-tag"),
    HeaderName::from_static("edge-control"),
];

/// The edits of one gate, prepared.
#[derive(Debug)]
pub(crate) struct Edits {
    wanted: Arc<ResponseEdits>,
    fields: Vec<(HeaderName, HeaderValue)>,
    gate: PublicAddress,
}

/// Whom an answer is for.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Reader {
    /// One person who is signed in.
    Person,
    Anybody,
}

impl Edits {
    pub(crate) fn new(gate: &Gate) -> Edits {
        let response = gate.web().map(|w| w.response.clone()).unwrap_or_default();
        let field =
            |(n, v): &(String, String)| Some((HeaderName::from_bytes(n.as_bytes()).ok()?, HeaderValue::from_str(v).ok()?));
        Edits {
            fields: response.headers.iter().filter_map(field).collect(),
            wanted: Arc::new(response),
            gate: gate.address.clone(),
        }
    }

    /// Whether pages are changed: then the upstream must send them whole and plain.
    pub(crate) fn changes_pages(&self) -> bool {
        self.wanted.links || self.wanted.bar
    }

    /// Edits a head that [`clean`] has cleaned. Returns the encoding in which the body is to be changed, if so; the bar is for
    /// people who are signed in.
    pub(crate) fn head(&self, status: StatusCode, headers: &mut HeaderMap, reader: Reader) -> Option<AsciiCompatibleEncoding> {
        if self.wanted.location {
            head::addresses(headers, &self.wanted, &self.gate);
        }
        head::cookies(headers, &self.wanted.cookies);
        for (name, value) in &self.fields {
            headers.insert(name.clone(), value.clone());
        }
        let whole = status != StatusCode::PARTIAL_CONTENT && (self.wanted.links || self.wanted.bar && reader == Reader::Person);
        let encoding = whole.then(|| html::encoding_of(headers)).flatten()?;
        html::head(headers);
        Some(encoding)
    }

    /// A body whose links are turned, or that gets the bar.
    pub(crate) fn turn<B>(&self, body: B, encoding: AsciiCompatibleEncoding, reader: Reader) -> html::Turned<B> {
        html::Turned::new(body, encoding, &self.wanted, &self.gate, self.wanted.bar && reader == Reader::Person)
    }
}

/// The value of a `Refresh` field or meta element, its address turned.
fn refresh(value: &str, edits: &ResponseEdits, gate: &PublicAddress) -> Option<String> {
    let at = value.to_ascii_lowercase().find("url=")? + 4;
    let (before, address) = value.split_at_checked(at)?;
    let bare = address.trim().trim_matches(['\'', '"']);
    Some(format!("{before}{}", edits.outside(bare, gate)?))
}

/// Cleans a response head: per-connection fields go, our cookies cannot be set, and no shared cache may keep what is for
/// one person.
pub(crate) fn clean(status: StatusCode, headers: &mut HeaderMap, reader: Reader) {
    let switching = status == StatusCode::SWITCHING_PROTOCOLS;
    if headers.contains_key(CONNECTION) {
        let named: Vec<String> = tokens(headers, CONNECTION).collect();
        for name in named.iter().filter(|n| !(switching && *n == "upgrade")) {
            headers.remove(name.as_str());
        }
    }
    // One pass over the few fields that came costs less than asking for each that must not come.
    let goes = |name: &&HeaderName| {
        HOP_BY_HOP.contains(name) && !(switching && (**name == CONNECTION || **name == UPGRADE)) || FOR_THE_GATE.contains(name)
    };
    let gone: Vec<HeaderName> = headers.keys().filter(goes).cloned().collect();
    for name in gone {
        headers.remove(name);
    }
    // Caches have fields of their own by the same ending (RFC 9213 3).
    let targeted: Vec<HeaderName> =
        headers.keys().filter(|n| **n != CACHE_CONTROL && n.as_str().ends_with("-cache-control")).cloned().collect();
    for name in targeted {
        headers.remove(name);
    }
    cookies::forbid_ours(headers);
    if reader == Reader::Person {
        make_private(headers);
    }
}

/// Fields that mean something before a body only: framing, caching, who somebody is, where to go (RFC 9110 6.5.1).
const BEFORE_THE_BODY: [&str; 16] = [
    "age",
    "authorization",
    "cache-control",
    "cookie",
    "expires",
    "host",
    "location",
    "pragma",
    "refresh",
    "retry-after",
    "set-cookie",
    "strict-transport-security",
    "trailer",
    "vary",
    "www-authenticate",
    "x-frame-options",
];
const BEFORE_THE_BODY_BEGIN: [&str; 3] = ["access-control-", "content-", "cross-origin-"];

/// Whether a field may stand after a body.
pub(crate) fn may_trail(name: &HeaderName) -> bool {
    let name = name.as_str();
    !BEFORE_THE_BODY.contains(&name) && !BEFORE_THE_BODY_BEGIN.iter().any(|b| name.starts_with(b))
}

/// What may stand after an answer's body: nothing that a head would not be let through with, or that had to stand in the head.
pub(crate) fn clean_trailers(mut trailers: HeaderMap) -> HeaderMap {
    clean(StatusCode::OK, &mut trailers, Reader::Anybody);
    let early: Vec<HeaderName> = trailers.keys().filter(|n| !may_trail(n)).cloned().collect();
    for name in early {
        trailers.remove(name);
    }
    trailers
}

/// What a gate shows is for one person: `public` and `s-maxage` go, `private` comes. A page (HTML) whose upstream says
/// nothing of caching is not stored at all, so that Back after signing out shows nothing.
fn make_private(headers: &mut HeaderMap) {
    let is_html = |v: &HeaderValue| v.as_bytes().get(..9).is_some_and(|t| t.eq_ignore_ascii_case(b"text/html"));
    let html = headers.get(CONTENT_TYPE).is_some_and(is_html);
    if !headers.contains_key(CACHE_CONTROL) {
        headers.insert(CACHE_CONTROL, HeaderValue::from_static(if html { "no-store" } else { "private, no-cache" }));
        return;
    }
    let mut kept: Vec<String> = tokens(headers, CACHE_CONTROL).filter(|t| t != "public" && !t.starts_with("s-maxage")).collect();
    if kept.is_empty() {
        kept.push(if html { "no-store".into() } else { "no-cache".into() });
    }
    if !kept.iter().any(|t| t == "private" || t == "no-store") {
        kept.insert(0, "private".into());
    }
    if let Ok(value) = HeaderValue::from_str(&kept.join(", ")) {
        headers.insert(CACHE_CONTROL, value);
    } else {
        headers.insert(CACHE_CONTROL, HeaderValue::from_static("private, no-store"));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn gated_answers_become_private() {
        for (given, content, want) in [
            (None, "text/html; charset=utf-8", "no-store"),
            (None, "image/png", "private, no-cache"),
            (Some("public, max-age=60, s-maxage=9"), "image/png", "private, max-age=60"),
            (Some("Public"), "text/html", "no-store"),
            (Some("no-store"), "text/html", "no-store"),
            (Some("private, max-age=1"), "text/html", "private, max-age=1"),
        ] {
            let mut h = HeaderMap::new();
            h.insert(CONTENT_TYPE, HeaderValue::from_static(content));
            if let Some(g) = given {
                h.insert(CACHE_CONTROL, HeaderValue::from_static(g));
            }
            clean(StatusCode::OK, &mut h, Reader::Person);
            assert_eq!(h[CACHE_CONTROL], want, "{given:?} {content}");
        }
    }

    #[test]
    fn per_connection_fields_stay_on_their_connection() {
        let mut h = HeaderMap::new();
        for (n, v) in [("connection", "x-inner, close"), ("x-inner", "1"), ("keep-alive", "timeout=5"), ("x-outer", "2")] {
            h.insert(n, HeaderValue::from_static(v));
        }
        clean(StatusCode::OK, &mut h, Reader::Person);
        assert!(!h.contains_key("x-inner") && !h.contains_key("keep-alive") && !h.contains_key("connection"));
        assert!(h.contains_key("x-outer"));
    }
}
