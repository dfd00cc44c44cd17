//! Edits on what an upstream answers.

use http::header::{CACHE_CONTROL, CONNECTION, CONTENT_TYPE, HeaderName, HeaderValue};
use http::{HeaderMap, StatusCode};

use crate::cookies;
use crate::head::tokens;

const HOP_BY_HOP: &[&str] =
    &["connection", "keep-alive", "proxy-connection", "proxy-authenticate", "te", "transfer-encoding", "upgrade"];

/// Cleans a response head: per-connection fields go, our cookies cannot be set, and no shared cache may keep it.
pub(crate) fn clean(status: StatusCode, headers: &mut HeaderMap) {
    let switching = status == StatusCode::SWITCHING_PROTOCOLS;
    let named: Vec<String> = tokens(headers, CONNECTION).collect();
    for name in named.iter().map(String::as_str).chain(HOP_BY_HOP.iter().copied()) {
        if !(switching && matches!(name, "connection" | "upgrade"))
            && let Ok(name) = HeaderName::from_bytes(name.as_bytes())
        {
            headers.remove(name);
        }
    }
    cookies::forbid_ours(headers);
    make_private(headers);
}

/// What a gate shows is for one person: `public` and `s-maxage` go, `private` comes. A page (HTML) whose upstream says
/// nothing of caching is not stored at all, so that Back after signing out shows nothing.
fn make_private(headers: &mut HeaderMap) {
    let html = headers.get(CONTENT_TYPE).is_some_and(|v| v.as_bytes().to_ascii_lowercase().starts_with(b"text/html"));
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
            clean(StatusCode::OK, &mut h);
            assert_eq!(h[CACHE_CONTROL], want, "{given:?} {content}");
        }
    }

    #[test]
    fn per_connection_fields_stay_on_their_connection() {
        let mut h = HeaderMap::new();
        for (n, v) in [("connection", "x-inner, close"), ("x-inner", "1"), ("keep-alive", "timeout=5"), ("x-outer", "2")] {
            h.insert(n, HeaderValue::from_static(v));
        }
        clean(StatusCode::OK, &mut h);
        assert!(!h.contains_key("x-inner") && !h.contains_key("keep-alive") && !h.contains_key("connection"));
        assert!(h.contains_key("x-outer"));
    }
}
