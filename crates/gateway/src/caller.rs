//! Programs that come with a token of their own instead of a cookie (RFC 6750).

use http::{HeaderMap, Uri, header};

/// The longest token that is looked at, in bytes.
const TOKEN_MAX: usize = 16 * 1024;

/// The token that a request carries, where it carries exactly one.
pub(crate) fn token(headers: &HeaderMap) -> Option<&str> {
    let mut all = headers.get_all(header::AUTHORIZATION).into_iter();
    let only = all.next().filter(|_| all.next().is_none())?;
    let (scheme, token) = only.to_str().ok()?.split_once(' ')?;
    let token = token.trim();
    let plain = |b: u8| b.is_ascii_alphanumeric() || b"-._~+/=".contains(&b);
    let fits = scheme.eq_ignore_ascii_case("bearer") && !token.is_empty() && token.len() <= TOKEN_MAX && token.bytes().all(plain);
    fits.then_some(token)
}

/// Whether an address holds a token (RFC 6750 2.3), where logs and histories keep it.
pub(crate) fn in_address(uri: &Uri) -> bool {
    uri.query().is_some_and(|q| q.split('&').any(|p| p.split('=').next().is_some_and(is_token_name)))
}

fn is_token_name(name: &str) -> bool {
    let plain = url::form_urlencoded::parse(name.as_bytes()).next();
    plain.is_some_and(|(n, _)| n.eq_ignore_ascii_case("access_token"))
}

/// Whether a request says that a page of another site made a browser send it: a browser shows a certificate unasked, as it
/// would a cookie without SameSite.
pub(crate) fn is_of_another_site(headers: &HeaderMap, origin: &str) -> bool {
    let other_origin = headers.get_all(header::ORIGIN).iter().any(|o| o.as_bytes() != origin.as_bytes());
    let fetched = headers.get_all("sec-fetch-site").iter().any(|v| !matches!(v.as_bytes(), b"same-origin" | b"none"));
    other_origin || fetched
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn exactly_one_plain_token_is_taken() {
        let of = |lines: &[&str]| {
            let mut h = HeaderMap::new();
            for l in lines {
                h.append(header::AUTHORIZATION, l.parse().unwrap());
            }
            token(&h).map(str::to_owned)
        };
        assert_eq!(of(&["Bearer a.b-c"]), Some("a.b-c".into()));
        assert_eq!(of(&["bearer  x="]), Some("x=".into()));
        for bad in [&["Basic a"][..], &["Bearer"], &["Bearer "], &["Bearer a b"], &["Bearer a", "Bearer a"], &["Bearer a,b"]] {
            assert_eq!(of(bad), None, "{bad:?}");
        }
    }

    #[test]
    fn what_another_site_makes_a_browser_send_is_told_from_what_a_program_sends() {
        let of = |lines: &[(&'static str, &str)]| {
            let mut h = HeaderMap::new();
            for (n, v) in lines {
                h.append(*n, v.parse().unwrap());
            }
            is_of_another_site(&h, "https://berths.example")
        };
        for own in [
            &[][..],
            &[("origin", "https://berths.example")],
            &[("sec-fetch-site", "none")],
            &[("sec-fetch-site", "same-origin")],
        ] {
            assert!(!of(own), "{own:?}");
        }
        for other in [
            &[("origin", "null")][..],
            &[("origin", "https://berths.example.evil")],
            &[("sec-fetch-site", "cross-site")],
            &[("sec-fetch-site", "same-site")],
            &[("origin", "https://berths.example"), ("origin", "https://evil.example")],
        ] {
            assert!(of(other), "{other:?}");
        }
    }

    #[test]
    fn a_token_in_the_address_is_seen_in_any_spelling() {
        for (uri, seen) in [
            ("/x?access_token=a", true),
            ("/x?a=b&ACCESS_TOKEN", true),
            ("/x?access%5Ftoken=a", true),
            ("/x?b=access_token", false),
            ("/access_token?x", false),
        ] {
            assert_eq!(in_address(&uri.parse().unwrap()), seen, "{uri}");
        }
    }
}
