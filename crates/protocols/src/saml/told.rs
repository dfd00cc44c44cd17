//! A response as it may be shown to engineers: what came, with nothing left in it that could be used again. Nothing here is checked.

use super::ASSERTION;
use super::encryption::Opener;
use super::response::short;
use super::xml::Xml;

/// A response as it may be told: what is encrypted in it opened where it can be, and nothing left with which it could be used
/// again. It is not checked.
pub fn response(text: &str, opener: &Opener) -> String {
    let opened = || {
        let xml = Xml::read(text).ok()?;
        let node = xml.child(xml.root(), ASSERTION, "EncryptedAssertion").ok()??;
        opener.open(&xml, node).ok()
    };
    let mut out = masked(text);
    if let Some(inner) = opened() {
        out.push_str("\n<!-- encrypted for us: -->\n");
        out.push_str(&masked(&inner));
    }
    out
}

/// Values of signatures and ciphers left out: they tell nothing, and without them nobody believes it.
fn masked(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    // Tag by tag, whatever its prefix and attributes.
    while let Some(start) = rest.find('<') {
        let end = rest[start..].find('>').map_or(rest.len(), |i| start + i + 1);
        out.push_str(&rest[..end]);
        let name = rest[start + 1..end].split([' ', '\t', '\r', '\n', '>', '/']).next().unwrap_or_default();
        rest = &rest[end..];
        if matches!(name.rsplit(':').next(), Some("SignatureValue" | "CipherValue")) {
            out.push('…');
            rest = rest.find('<').map_or("", |i| &rest[i..]);
        }
    }
    out.push_str(rest);
    out
}

/// The request that a response says it answers. It is not checked: for words only.
pub fn said_to_answer(text: &str) -> Option<String> {
    let xml = Xml::read(text).ok()?;
    xml.attribute(xml.root(), "InResponseTo").map(short)
}
