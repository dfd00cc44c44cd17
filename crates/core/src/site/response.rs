//! Edits on what an application answers, so that it can live behind another name than its own.

use url::Url;

use crate::address::PublicAddress;

/// `SameSite` of a cookie (RFC 6265bis 5.6.7).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SameSite {
    Lax,
    Strict,
    None,
}

/// Flags put on the application's cookies. A `Domain` is always taken away: the cookie is for the gate's host alone.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct CookieFlags {
    pub secure: bool,
    pub http_only: bool,
    /// Put in the place of what the application says; none leaves that.
    pub same_site: Option<SameSite>,
}

/// What is edited.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ResponseEdits {
    /// Origins by which the application knows itself, in lower case: its addresses and whatever `inside` names.
    pub inside: Vec<String>,
    /// Whether `Location`, `Content-Location` and `Refresh` are turned to the gate's address.
    pub location: bool,
    /// Whether links in HTML are.
    pub links: bool,
    /// Whether pages get a bar by which people sign out.
    pub bar: bool,
    /// Fields set on every answer.
    pub headers: Vec<(String, String)>,
    pub cookies: CookieFlags,
}

/// `scheme://host[:port]` in lower case, the port only where it is not the scheme's own.
pub(crate) fn origin(text: &str) -> Option<String> {
    let url = Url::parse(text).ok().filter(|u| matches!(u.scheme(), "http" | "https") && matches!(u.path(), "" | "/"))?;
    Some(url.origin().ascii_serialization().to_lowercase())
}

impl ResponseEdits {
    /// An address of the application as the gate's, where it is one: the part after the origin is kept. Relative ones are
    /// left as they are.
    pub fn outside(&self, address: &str, gate: &PublicAddress) -> Option<String> {
        let rest = self.inside.iter().find_map(|o| after_origin(address, o))?;
        Some(format!("{}{rest}", gate.origin()))
    }
}

/// What follows an origin in an address, when the address is of that origin; without a scheme it may be of either.
fn after_origin<'a>(address: &'a str, origin: &str) -> Option<&'a str> {
    let host = origin.split_once("://").map_or(origin, |(_, h)| h);
    let own_port = if origin.starts_with("https:") { ":443" } else { ":80" };
    let after = |prefix: &str| {
        let (head, rest) = (address.get(..prefix.len())?, address.get(prefix.len()..)?);
        head.eq_ignore_ascii_case(prefix).then_some(rest)
    };
    let rest = after(origin).or_else(|| after(&format!("//{host}")))?;
    let rest = rest.strip_prefix(own_port).unwrap_or(rest);
    // `http://ledger.example` must not match `http://ledger.example.evil.example`.
    (rest.is_empty() || rest.starts_with(['/', '?', '#'])).then_some(rest)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_addresses_of_the_application_itself_are_turned() {
        let edits = ResponseEdits {
            inside: vec!["http://ledger.internal:8080".into(), "https://ledger.example".into()],
            location: true,
            links: true,
            bar: false,
            headers: vec![],
            cookies: CookieFlags::default(),
        };
        let gate = PublicAddress::parse("https://berths.example").unwrap();
        for (inside, outside) in [
            ("http://ledger.internal:8080/a?b#c", Some("https://berths.example/a?b#c")),
            ("HTTP://Ledger.Internal:8080", Some("https://berths.example")),
            ("//ledger.example/x", Some("https://berths.example/x")),
            ("https://ledger.example:443/x", Some("https://berths.example/x")),
            ("https://ledger.example?x", Some("https://berths.example?x")),
            ("https://ledger.example.evil.example/", None),
            ("https://ledger.example@evil.example/", None),
            ("http://ledger.internal:80801/", None),
            ("http://ledger.internal/", None),
            ("/a", None),
            ("é", None),
            ("", None),
        ] {
            assert_eq!(edits.outside(inside, &gate).as_deref(), outside, "{inside}");
        }
    }
}
