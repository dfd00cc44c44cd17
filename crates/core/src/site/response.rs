//! Edits on what an application answers, so that it can live behind another name than its own.

use url::Url;

use super::read::Fields;
use crate::address::PublicAddress;
use crate::site::Upstreams;
use crate::text::is_token;

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
#[derive(Clone, Debug, PartialEq, Eq)]
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

/// Fields that frame a message or carry cookies and addresses: no edit may set them.
const RESERVED: &[&str] = &[
    "connection",
    "content-encoding",
    "content-length",
    "content-location",
    "date",
    "keep-alive",
    "location",
    "set-cookie",
    "te",
    "trailer",
    "transfer-encoding",
    "upgrade",
    "www-authenticate",
];

/// Reads `[gate.response]`; a gate without it gets what is on unless said.
pub(crate) fn read(gate: &Fields<'_, '_>, address: Option<&PublicAddress>, upstreams: Option<&Upstreams>) -> ResponseEdits {
    let own = upstreams.map(|u| u.members.iter().map(ToString::to_string).collect::<Vec<_>>()).unwrap_or_default();
    let secure = address.is_some_and(|a| a.https);
    let mut out = ResponseEdits {
        inside: own.iter().filter_map(|o| origin(o)).collect(),
        location: true,
        links: false,
        bar: false,
        headers: vec![],
        cookies: CookieFlags { secure, ..CookieFlags::default() },
    };
    let Some(f) = gate.table("response") else { return out };
    for text in f.texts("inside").unwrap_or_default() {
        match origin(&text) {
            Some(o) => out.inside.push(o),
            None => f.error(
                "inside",
                format!("\"{text}\" is no address"),
                "Write the application's own name, such as \"http://ledger.internal:8080\".",
            ),
        }
    }
    out.location = f.flag("location", true);
    out.links = f.flag("links", false);
    out.bar = f.flag("sign-out-bar", false);
    for (name, value, _) in f.pairs("headers") {
        if !is_token(&name) {
            f.error("headers", format!("\"{name}\" is no header name"), "Use letters, digits and hyphens (RFC 9110 5.1).");
        } else if RESERVED.contains(&name.to_ascii_lowercase().as_str()) {
            f.error(
                "headers",
                format!("{name} has a meaning of its own and cannot be set"),
                "Set fields such as Content-Security-Policy.",
            );
        }
        if value.chars().any(char::is_control) {
            f.error("headers", format!("the value of {name} holds a control character"), "Write it on one line.");
        }
        out.headers.push((name, value));
    }
    if let Some(c) = f.table("cookies") {
        out.cookies = CookieFlags {
            secure: c.flag("secure", secure),
            http_only: c.flag("http-only", false),
            same_site: c.choice(
                "same-site",
                None,
                &[("lax", Some(SameSite::Lax)), ("strict", Some(SameSite::Strict)), ("none", Some(SameSite::None))],
            ),
        };
        if out.cookies.same_site == Some(SameSite::None) && !out.cookies.secure {
            c.error(
                "same-site",
                "same-site = \"none\" needs secure cookies".into(),
                "Add secure = true, on a gate whose address is https.",
            );
        }
        if out.cookies.secure && !secure {
            c.error(
                "secure",
                "the gate's address is plain http, where no secure cookie would come back".into(),
                "Take secure away.",
            );
        }
        c.finish();
    }
    f.finish();
    out
}

/// `scheme://host[:port]` in lower case, the port only where it is not the scheme's own.
fn origin(text: &str) -> Option<String> {
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
