//! Where requests of our own come from. Sibling hosts are same-site to a browser, so SameSite is no defence against
//! them: every unsafe request must carry our own Origin.

use axum::extract::{Request, State};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use http::header::{AUTHORIZATION, HOST, ORIGIN};
use http::{HeaderMap, Method, StatusCode};

use passeur_engine::Engine;
use passeur_management::emergency::AnyHost;
use passeur_signin::problem::problem;

/// Whether an unsafe request came from one of our own pages.
pub(crate) fn from_own_page(headers: &HeaderMap, origin: &str) -> bool {
    let site_ok = headers.get("sec-fetch-site").is_none_or(|v| matches!(v.as_bytes(), b"same-origin"));
    let origin_ok = headers.get(ORIGIN).is_some_and(|v| v.as_bytes() == origin.as_bytes());
    site_ok && origin_ok
}

/// The same on a host that no edition knows: the page must be of the host that was asked.
fn from_this_host(headers: &HeaderMap) -> bool {
    let text = |name| headers.get(name).and_then(|v| v.to_str().ok());
    match (text(ORIGIN), text(HOST)) {
        (Some(origin), Some(host)) => {
            let authority = origin.strip_prefix("http://").or_else(|| origin.strip_prefix("https://"));
            authority == Some(host) && from_own_page(headers, origin)
        }
        _ => false,
    }
}

/// Whether a request to the management API carries what a browser never adds by itself: a bearer token. A ticket it does add
/// (RFC 4559), and Basic too. The API goes by the token alone then; pages go by cookies, whatever token comes beside them.
fn by_token(path: &str, headers: &HeaderMap) -> bool {
    let mut all = headers.get_all(AUTHORIZATION).iter();
    let bearer = |v: &http::HeaderValue| v.as_bytes().get(..7).is_some_and(|s| s.eq_ignore_ascii_case(b"bearer "));
    path.starts_with("/api/") && all.next().is_some_and(bearer) && all.next().is_none()
}

/// Middleware on the sign-in host. A bearer token is no cookie, so it needs no Origin.
pub async fn check(State(engine): State<Engine>, request: Request, next: Next) -> Response {
    let safe = matches!(*request.method(), Method::GET | Method::HEAD | Method::OPTIONS);
    if !safe && !by_token(request.uri().path(), request.headers()) {
        let own = if request.extensions().get::<AnyHost>().is_some() {
            from_this_host(request.headers())
        } else {
            engine.live.get().is_some_and(|e| from_own_page(request.headers(), &e.site.address.origin()))
        };
        if !own {
            let words = "This request changes something and did not come from one of Passeur's own pages. Use the console, or a bearer token.";
            return problem(StatusCode::FORBIDDEN, "cross-site", "Not from our own page", words).into_response();
        }
    }
    next.run(request).await
}

#[cfg(test)]
mod tests {
    use super::*;
    use http::HeaderValue;

    #[test]
    fn what_a_browser_adds_by_itself_speaks_for_nobody() {
        for (value, ok) in
            [("Bearer abc", true), ("bearer abc", true), ("Negotiate YII", false), ("Basic YTpi", false), ("", false)]
        {
            let mut h = HeaderMap::new();
            h.insert(AUTHORIZATION, HeaderValue::from_static(value));
            assert_eq!(by_token("/api/v1/site", &h), ok, "{value}");
            for page in ["/.passeur/tokens", "/.passeur/sign-out", "/api", "/console/api/"] {
                assert!(!by_token(page, &h), "{page} {value}");
            }
        }
        assert!(!by_token("/api/v1/site", &HeaderMap::new()));
    }

    #[test]
    fn siblings_and_strangers_are_kept_out() {
        let own = "http://pass.localhost";
        for (origin, site, ok) in [
            (Some("http://pass.localhost"), Some("same-origin"), true),
            (Some("http://pass.localhost"), None, true),
            (Some("http://berths.localhost"), Some("same-site"), false),
            (Some("http://pass.localhost"), Some("same-site"), false),
            (Some("null"), Some("cross-site"), false),
            (None, Some("same-origin"), false),
            (None, None, false),
            (Some("http://pass.localhost.evil.example"), None, false),
        ] {
            let mut h = HeaderMap::new();
            origin.map(|o| h.insert(ORIGIN, HeaderValue::from_static(o)));
            site.map(|s| h.insert("sec-fetch-site", HeaderValue::from_static(s)));
            assert_eq!(from_own_page(&h, own), ok, "{origin:?} {site:?}");
        }
    }
}
