//! Reading of `site::upstream` from a document.

use super::fields::Fields;
use crate::site::{Health, Upstream, UpstreamTls, Upstreams};
use chrono::Duration;
use url::Url;

fn parse(f: &Fields<'_, '_>, key: &'static str, text: &str) -> Option<Upstream> {
    let url = Url::parse(text).ok().filter(|u| {
        matches!(u.scheme(), "http" | "https")
            && matches!(u.path(), "/" | "")
            && u.query().is_none()
            && u.fragment().is_none()
            && u.username().is_empty()
            && u.password().is_none()
    });
    let out = url.and_then(|u| {
        Some(Upstream { https: u.scheme() == "https", host: u.host_str()?.to_owned(), port: u.port_or_known_default()? })
    });
    if out.is_none() {
        f.error(
            key,
            format!("\"{text}\" is not the address of an application"),
            "Write http://host:port or https://host:port without a path.",
        );
    }
    out
}

/// Reads `upstream` or `upstreams`, `draining`, `[gate.upstream-tls]` and `[gate.health]`.
pub(crate) fn read(f: &Fields<'_, '_>) -> Option<Upstreams> {
    let (key, written) = match (f.has("upstream"), f.has("upstreams")) {
        (true, true) => {
            f.error("upstreams", "upstream and upstreams stand side by side".into(), "Keep one: upstreams = [\"…\", \"…\"].");
            return None;
        }
        (false, true) => ("upstreams", f.texts("upstreams").unwrap_or_default()),
        _ => ("upstream", f.need("upstream", "\"http://127.0.0.1:8080\"").into_iter().collect()),
    };
    let mut members: Vec<Upstream> = vec![];
    for text in &written {
        let Some(m) = parse(f, key, text) else { continue };
        if members.contains(&m) {
            f.error(key, format!("{m} stands twice"), "Name each address once.");
        }
        members.push(m);
    }
    if written.is_empty() && f.has(key) {
        f.error(key, format!("{key} names no address"), "Write upstreams = [\"http://127.0.0.1:8080\"].");
    }
    let draining: Vec<Upstream> =
        f.texts("draining").unwrap_or_default().iter().filter_map(|t| parse(f, "draining", t)).collect();
    for d in draining.iter().filter(|d| !members.contains(d)) {
        f.error("draining", format!("{d} is no address of this gate"), "Name one that stands in upstreams.");
    }
    if !members.is_empty() && members.iter().all(|m| draining.contains(m)) {
        f.error("draining", "every address is draining, so nothing would be served".into(), "Leave one address out of draining.");
    }
    let tls = f.table("upstream-tls").map(|t| read_tls(&t, &members)).unwrap_or_default();
    let health = f.table("health").and_then(|h| read_health(&h));
    (!members.is_empty()).then_some(Upstreams { members, draining, tls, health })
}

fn read_tls(t: &Fields<'_, '_>, members: &[Upstream]) -> UpstreamTls {
    let (certificate, key) = (t.text("certificate-file"), t.text("key-file"));
    if certificate.is_some() != key.is_some() {
        t.error("certificate-file", "certificate-file and key-file belong together".into(), "Write both, or neither.");
    }
    if !members.iter().any(|m| m.https) {
        t.warn(
            "ca-file",
            "no address of this gate is https, so this has no meaning".into(),
            "Write https:// addresses, or take the table away.",
        );
    }
    let out = UpstreamTls { ca_file: t.text("ca-file"), client: certificate.zip(key) };
    t.finish();
    out
}

fn read_health(h: &Fields<'_, '_>) -> Option<Health> {
    let path = h.need("path", "\"/healthz\"").unwrap_or_default();
    if !path.is_empty() && (!path.starts_with('/') || path.bytes().any(|b| !(0x21..0x7f).contains(&b))) {
        h.error("path", format!("\"{path}\" is no path"), "Write a path such as /healthz.");
    }
    let s = Duration::seconds;
    let every = h.duration("every", s(5), s(1), s(300));
    h.finish();
    Some(Health { path, every })
}
