//! Reading of `site::response` from a document.

use super::fields::Fields;
use crate::address::PublicAddress;
use crate::site::response::origin;
use crate::site::{CookieFlags, ResponseEdits, SameSite, Upstreams};
use crate::text::is_token;

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
