//! Checks on a request's head that hold for every gate: one host, one framing, no tunnel.

use std::borrow::Cow;

use http::header::{CONNECTION, CONTENT_LENGTH, HOST, TRANSFER_ENCODING, UPGRADE};
use http::{HeaderMap, Method, StatusCode, Uri};
use passeur_core::step;
use passeur_core::step::{Param, Step};

use crate::fields::{Field, Fields};

/// The host a request means. None when there is none or more than one, or target and Host differ (RFC 9112 3.2).
pub(crate) fn host<'a>(uri: &'a Uri, headers: &'a HeaderMap) -> Option<Cow<'a, str>> {
    let mut hosts = headers.get_all(HOST).iter();
    let named = hosts.next().map(|h| h.to_str().ok().filter(|h| is_authority(h)).map(lower_case));
    if hosts.next().is_some() {
        return None;
    }
    match (uri.authority().map(|a| lower_case(a.as_str())), named) {
        (None, Some(Some(h))) => Some(h),
        (Some(a), None) => Some(a),
        (Some(a), Some(Some(h))) if a == h => Some(h),
        _ => None,
    }
}

fn lower_case(text: &str) -> Cow<'_, str> {
    match text.bytes().any(|b| b.is_ascii_uppercase()) {
        true => text.to_ascii_lowercase().into(),
        false => text.into(),
    }
}

/// Whether a Host is made of what a host and a port are made of (RFC 3986 3.2.2 and 3.2.3): no user, path or blank that
/// another parser might cut at.
fn is_authority(host: &str) -> bool {
    !host.is_empty() && host.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._~!$&'()*+,;=:[]%".contains(&b))
}

/// The largest head, in bytes. The connection's buffer alone may hold up to twice as much.
pub(crate) const HEAD_MAX: usize = 64 * 1024;

/// Whether a head is larger than a head may be.
pub(crate) fn is_too_large(uri: &Uri, headers: &HeaderMap) -> bool {
    let target = uri.path_and_query().map_or(0, |p| p.as_str().len());
    target + headers.iter().map(|(n, v)| n.as_str().len() + v.len() + 4).sum::<usize>() > HEAD_MAX
}

/// A head that is never let through.
pub(crate) type Rejected = (StatusCode, Step);

/// Refuses tunnels, traces, foreign upgrades, and whatever two parsers could read differently.
pub(crate) fn check(method: &Method, headers: &HeaderMap, fields: &Fields, origin: &str) -> Result<(), Rejected> {
    if matches!(*method, Method::TRACE | Method::CONNECT) {
        return Err((StatusCode::METHOD_NOT_ALLOWED, step!(MethodRefused { method: method.as_str() })));
    }
    let ambiguous = |what: &str| Err((StatusCode::BAD_REQUEST, step!(AmbiguousRequest { what: Param::reason(what) })));
    if fields.has(Field::TransferEncoding) {
        let encodings: Vec<_> = headers.get_all(TRANSFER_ENCODING).iter().collect();
        if !matches!(encodings.as_slice(), [one] if one.as_bytes().eq_ignore_ascii_case(b"chunked")) {
            return ambiguous("transfer-encoding");
        }
        if fields.has(Field::ContentLength) {
            return ambiguous("both-lengths");
        }
    }
    if fields.has(Field::ContentLength) && headers.get_all(CONTENT_LENGTH).iter().count() > 1 {
        return ambiguous("several-lengths");
    }
    if fields.names_method {
        return ambiguous("method-override");
    }
    if fields.has(Field::Upgrade) || fields.has(Field::Connection) && says_upgrade(headers) {
        return check_upgrade(method, headers, origin);
    }
    Ok(())
}

fn says_upgrade(headers: &HeaderMap) -> bool {
    tokens(headers, CONNECTION).any(|t| t == "upgrade")
}

/// The members of a comma-separated field, in lower case.
pub(crate) fn tokens(headers: &HeaderMap, name: http::HeaderName) -> impl Iterator<Item = String> {
    headers
        .get_all(name)
        .iter()
        .flat_map(|v| v.as_bytes().split(|b| *b == b','))
        .map(|t| String::from_utf8_lossy(t).trim().to_ascii_lowercase())
        .filter(|t| !t.is_empty())
}

fn check_upgrade(method: &Method, headers: &HeaderMap, origin: &str) -> Result<(), Rejected> {
    let wanted: Vec<_> = tokens(headers, UPGRADE).collect();
    // Another protocol is an offer, which a server may ignore (RFC 9110 7.8): it goes no further than here.
    if !wanted.iter().any(|w| w == "websocket") {
        return Ok(());
    }
    if wanted != ["websocket"] || *method != Method::GET || !says_upgrade(headers) {
        let step = step!(UpgradeRefused { protocol: wanted.join(", ") });
        return Err((StatusCode::BAD_REQUEST, step));
    }
    // Browsers send Origin with every WebSocket handshake; cookies alone would let any site open one (RFC 6455 10.2).
    match headers.get(http::header::ORIGIN) {
        Some(o) if o.as_bytes() != origin.as_bytes() => {
            let step = step!(OriginRefused { origin: String::from_utf8_lossy(o.as_bytes()).into_owned(), wanted: origin });
            Err((StatusCode::FORBIDDEN, step))
        }
        _ => Ok(()),
    }
}

/// Whether the (checked) head asks for a WebSocket.
pub(crate) fn is_websocket(headers: &HeaderMap) -> bool {
    tokens(headers, UPGRADE).any(|w| w == "websocket")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::names::Names;
    use passeur_core::step::StepCode;

    fn head(pairs: &[(&'static str, &'static str)]) -> HeaderMap {
        let mut h = HeaderMap::new();
        pairs.iter().for_each(|(n, v)| {
            h.append(*n, http::HeaderValue::from_static(v));
        });
        h
    }

    fn refusal(method: &Method, pairs: &[(&'static str, &'static str)]) -> Option<(u16, StepCode)> {
        let head = head(pairs);
        check(method, &head, &Fields::of(&head, &Names::default()), "http://g.localhost")
            .err()
            .map(|(s, step)| (s.as_u16(), step.code))
    }

    #[test]
    fn only_plain_requests_and_own_websockets_pass() {
        use StepCode::{AmbiguousRequest, MethodRefused, OriginRefused, UpgradeRefused};
        let get = Method::GET;
        assert_eq!(refusal(&get, &[]), None);
        assert_eq!(refusal(&Method::TRACE, &[]), Some((405, MethodRefused)));
        assert_eq!(refusal(&Method::CONNECT, &[]), Some((405, MethodRefused)));
        assert_eq!(refusal(&Method::POST, &[("transfer-encoding", "Chunked")]), None);
        for te in ["x, chunked", "chunked, chunked", "identity", " chunked x"] {
            assert_eq!(refusal(&Method::POST, &[("transfer-encoding", te)]), Some((400, AmbiguousRequest)), "{te}");
        }
        let both = [("transfer-encoding", "chunked"), ("content-length", "3")];
        assert_eq!(refusal(&Method::POST, &both), Some((400, AmbiguousRequest)));
        assert_eq!(refusal(&Method::POST, &[("content-length", "3"), ("content-length", "3")]), Some((400, AmbiguousRequest)));
        let ws = [("connection", "keep-alive, Upgrade"), ("upgrade", "WebSocket")];
        assert_eq!(refusal(&get, &ws), None);
        assert_eq!(refusal(&get, &[ws[0], ws[1], ("origin", "http://g.localhost")]), None);
        assert_eq!(refusal(&get, &[ws[0], ws[1], ("origin", "http://evil.localhost")]), Some((403, OriginRefused)));
        assert_eq!(refusal(&Method::POST, &ws), Some((400, UpgradeRefused)));
        for (c, u) in [("upgrade", "h2c"), ("upgrade", "tls/1.2"), ("upgrade, http2-settings", "h2c")] {
            assert_eq!(refusal(&get, &[("connection", c), ("upgrade", u)]), None, "{c} {u}");
            assert!(!is_websocket(&head(&[("connection", c), ("upgrade", u)])), "{c} {u}");
        }
        for (c, u) in [("upgrade", "websocket, h2c"), ("close", "websocket")] {
            assert_eq!(refusal(&get, &[("connection", c), ("upgrade", u)]), Some((400, UpgradeRefused)), "{c} {u}");
        }
        assert_eq!(refusal(&get, &[("connection", "upgrade")]), None);
    }

    #[test]
    fn a_request_means_one_host_or_none() {
        let uri = |s: &str| s.parse::<Uri>().unwrap();
        for odd in ["a/x", "u@a", "a b", "a\\b", "", "a?b", "a#b"] {
            assert_eq!(host(&uri("/"), &head(&[("host", odd)])), None, "{odd}");
        }
        assert_eq!(host(&uri("/"), &head(&[("host", "A.example")])).as_deref(), Some("a.example"));
        assert_eq!(host(&uri("/"), &head(&[("host", "a"), ("host", "a")])), None);
        assert_eq!(host(&uri("/"), &head(&[])), None);
        assert_eq!(host(&uri("http://b.example/"), &head(&[("host", "a.example")])), None);
        assert_eq!(host(&uri("http://a.example/"), &head(&[("host", "A.example")])).as_deref(), Some("a.example"));
    }
}
