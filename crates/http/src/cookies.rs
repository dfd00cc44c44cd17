//! Cookies: finding ours, keeping them from upstreams, and keeping upstreams from setting them (RFC 6265).

use http::header::{COOKIE, SET_COOKIE};
use http::{HeaderMap, HeaderValue};

/// The longest Cookie header fields taken together that are read for our own names.
const COOKIES_MAX: usize = 64 * 1024;

/// Whether a cookie name is one of ours, under any prefix and in any case.
pub fn is_ours(name: &str) -> bool {
    let name = name.trim();
    let bare = without_prefix(name, "__host-").or_else(|| without_prefix(name, "__secure-")).unwrap_or(name);
    without_prefix(bare, "passeur").is_some_and(|rest| rest.is_empty() || rest.starts_with('-'))
}

/// What follows a prefix, which is in lower case and compared in any.
fn without_prefix<'a>(name: &'a str, prefix: &str) -> Option<&'a str> {
    let (head, rest) = name.split_at_checked(prefix.len())?;
    head.eq_ignore_ascii_case(prefix).then_some(rest)
}

/// What a request says under one of our names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Found {
    None,
    One(String),
    /// Two cookies of our name count as none: one of them was planted.
    Several,
}

/// Looks a cookie of ours up.
pub fn find(headers: &HeaderMap, name: &str) -> Found {
    let mut found = Found::None;
    for pair in pairs(headers) {
        if let Some((n, v)) = pair.split_once('=')
            && n.trim() == name
        {
            if found != Found::None {
                return Found::Several;
            }
            found = Found::One(v.trim().to_owned());
        }
    }
    found
}

/// Names of all cookies that came, in order.
pub fn names(headers: &HeaderMap) -> impl Iterator<Item = &str> {
    pairs(headers).filter_map(|p| p.split_once('=')).map(|(n, _)| n.trim())
}

fn pairs(headers: &HeaderMap) -> impl Iterator<Item = &str> {
    let short = headers.get_all(COOKIE).iter().map(HeaderValue::len).sum::<usize>() <= COOKIES_MAX;
    headers
        .get_all(COOKIE)
        .iter()
        .filter(move |_| short)
        .filter_map(|v| std::str::from_utf8(v.as_bytes()).ok())
        .flat_map(|v| v.split(';'))
}

/// The Cookie field for the upstream: all that came, in order, without ours. None when nothing is left.
pub fn without_ours(headers: &HeaderMap) -> Option<HeaderValue> {
    let mut out: Vec<u8> = Vec::new();
    for value in headers.get_all(COOKIE) {
        for pair in value.as_bytes().split(|b| *b == b';') {
            let pair = pair.trim_ascii();
            let text = String::from_utf8_lossy(pair);
            // A cookie without a name is sent as its bare value, so the part before any `=` is looked at in each case.
            let name = text.trim_start_matches(['=', ' ']).split('=').next().unwrap_or_default();
            if pair.is_empty() || is_ours(name) {
                continue;
            }
            if !out.is_empty() {
                out.extend_from_slice(b"; ");
            }
            out.extend_from_slice(pair);
        }
    }
    if out.is_empty() { None } else { HeaderValue::from_bytes(&out).ok() }
}

/// Takes away every Set-Cookie that names one of our cookies.
pub fn forbid_ours(headers: &mut HeaderMap) {
    let ours = |v: &HeaderValue| {
        let text = String::from_utf8_lossy(v.as_bytes());
        let pair = text.split(';').next().unwrap_or_default().trim_start_matches(['=', ' ', '\t']);
        is_ours(pair.split('=').next().unwrap_or_default())
    };
    if headers.get_all(SET_COOKIE).iter().any(ours) {
        let kept: Vec<_> = headers.get_all(SET_COOKIE).iter().filter(|v| !ours(v)).cloned().collect();
        headers.remove(SET_COOKIE);
        kept.into_iter().for_each(|v| {
            headers.append(SET_COOKIE, v);
        });
    }
}

/// A Set-Cookie of ours: host-only, whole host, HttpOnly, Lax (a top-level navigation back from the provider carries it).
pub fn set(name: &str, value: &str, secure: bool, max_age: Option<i64>) -> String {
    let age = max_age.map(|s| format!("; Max-Age={s}")).unwrap_or_default();
    format!("{name}={value}; Path=/; HttpOnly; SameSite=Lax{}{age}", if secure { "; Secure" } else { "" })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn headers(lines: &[&str]) -> HeaderMap {
        let mut h = HeaderMap::new();
        for l in lines {
            h.append(COOKIE, HeaderValue::from_str(l).unwrap());
        }
        h
    }

    #[test]
    fn one_cookie_is_found_and_two_are_none() {
        assert_eq!(find(&headers(&["a=1; passeur-gate=x"]), "passeur-gate"), Found::One("x".into()));
        assert_eq!(find(&headers(&["passeur-gate=x; passeur-gate=y"]), "passeur-gate"), Found::Several);
        assert_eq!(find(&headers(&["passeur-gate=x", "passeur-gate=x"]), "passeur-gate"), Found::Several);
        assert_eq!(find(&headers(&["xpasseur-gate=x"]), "passeur-gate"), Found::None);
    }

    #[test]
    fn ours_never_reach_the_upstream_in_any_spelling() {
        let h = headers(&[
            "a=1; __Host-passeur-gate=t; b=2",
            "Passeur-Binding=z; __SECURE-PASSEUR-x=1; =passeur-gate=y; passeur=1; c",
        ]);
        assert_eq!(without_ours(&h).unwrap(), "a=1; b=2; c");
        assert_eq!(without_ours(&headers(&["passeur-gate=t"])), None);
        assert_eq!(without_ours(&headers(&["passeurette=t"])).unwrap(), "passeurette=t");
    }

    #[test]
    fn an_upstream_cannot_set_ours() {
        let mut h = HeaderMap::new();
        for v in ["a=1; Path=/", "__Host-passeur-gate=evil; Secure", "=passeur-gate=evil", " PASSEUR-gate=1"] {
            h.append(SET_COOKIE, HeaderValue::from_str(v).unwrap());
        }
        forbid_ours(&mut h);
        assert_eq!(h.get_all(SET_COOKIE).iter().collect::<Vec<_>>(), ["a=1; Path=/"]);
    }
}
