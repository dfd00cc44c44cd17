//! The answer's head turned to the gate's address: `Location` and its kin, cookies, and fields the site sets.

use http::HeaderMap;
use http::header::{CONTENT_LOCATION, HeaderName, HeaderValue, LOCATION, REFRESH, SET_COOKIE};
use passeur_core::address::PublicAddress;
use passeur_core::site::{CookieFlags, ResponseEdits, SameSite};

use super::refresh;

/// Turns addresses of the application itself.
pub(super) fn addresses(headers: &mut HeaderMap, edits: &ResponseEdits, gate: &PublicAddress) {
    for name in [LOCATION, CONTENT_LOCATION] {
        let turned = headers.get(&name).and_then(|v| v.to_str().ok()).and_then(|v| edits.outside(v.trim(), gate));
        set(headers, &name, turned);
    }
    let turned = headers.get(REFRESH).and_then(|v| v.to_str().ok()).and_then(|v| refresh(v, edits, gate));
    set(headers, &REFRESH, turned);
}

fn set(headers: &mut HeaderMap, name: &HeaderName, value: Option<String>) {
    if let Some(value) = value.and_then(|v| HeaderValue::from_str(&v).ok()) {
        headers.insert(name, value);
    }
}

/// Puts the site's flags on the application's cookies, and takes every `Domain` away: a cookie of one gate is for that
/// gate's host alone, whatever the application thinks it is called.
pub(super) fn cookies(headers: &mut HeaderMap, flags: &CookieFlags) {
    if !headers.contains_key(SET_COOKIE) {
        return;
    }
    let edited: Vec<HeaderValue> = headers.get_all(SET_COOKIE).iter().filter_map(|v| cookie(v, flags)).collect();
    headers.remove(SET_COOKIE);
    for v in edited {
        headers.append(SET_COOKIE, v);
    }
}

fn cookie(value: &HeaderValue, flags: &CookieFlags) -> Option<HeaderValue> {
    let named = |part: &[u8], name: &str| {
        let key = part.split(|b| *b == b'=').next().unwrap_or_default();
        key.trim_ascii().eq_ignore_ascii_case(name.as_bytes())
    };
    let mut parts = value.as_bytes().split(|b| *b == b';');
    let mut out = parts.next()?.trim_ascii().to_vec();
    for part in parts.map(<[u8]>::trim_ascii).filter(|p| !p.is_empty()) {
        let replaced = named(part, "domain")
            || (named(part, "samesite") && flags.same_site.is_some())
            || (named(part, "secure") && flags.secure)
            || (named(part, "httponly") && flags.http_only);
        if !replaced {
            out.extend_from_slice(b"; ");
            out.extend_from_slice(part);
        }
    }
    let same_site = flags.same_site.map(|s| match s {
        SameSite::Lax => "SameSite=Lax",
        SameSite::Strict => "SameSite=Strict",
        SameSite::None => "SameSite=None",
    });
    for flag in [flags.secure.then_some("Secure"), flags.http_only.then_some("HttpOnly"), same_site].into_iter().flatten() {
        out.extend_from_slice(b"; ");
        out.extend_from_slice(flag.as_bytes());
    }
    HeaderValue::from_bytes(&out).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cookie_loses_its_domain_and_gains_what_the_site_says() {
        let flags = CookieFlags { secure: true, http_only: true, same_site: Some(SameSite::Lax) };
        for (given, none, all) in [
            ("a=1", "a=1", "a=1; Secure; HttpOnly; SameSite=Lax"),
            ("a=1; Domain=.example; Path=/x", "a=1; Path=/x", "a=1; Path=/x; Secure; HttpOnly; SameSite=Lax"),
            ("a=1;domain = ledger.internal;secure", "a=1; secure", "a=1; Secure; HttpOnly; SameSite=Lax"),
            ("a=b=c; SameSite=None; HttpOnly", "a=b=c; SameSite=None; HttpOnly", "a=b=c; Secure; HttpOnly; SameSite=Lax"),
            ("domain=kept; Max-Age=1;;", "domain=kept; Max-Age=1", "domain=kept; Max-Age=1; Secure; HttpOnly; SameSite=Lax"),
        ] {
            let edit = |f: &CookieFlags| cookie(&HeaderValue::from_static(given), f).unwrap();
            assert_eq!(edit(&CookieFlags::default()), none, "{given}");
            assert_eq!(edit(&flags), all, "{given}");
        }
    }
}
