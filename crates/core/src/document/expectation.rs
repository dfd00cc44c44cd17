//! Reading of `site::expectation` from a document.

use std::sync::Arc;

use super::fields::Fields;
use super::names::{device_check, refer};
use crate::site::{Described, DeviceCheck, Expectation, Place, Wanted};

/// Reads `[[expectation]]`. `gates` are names with the provider of each, `networks` those of them that open networks, by whatever kind.
pub(crate) fn read(
    root: &Fields<'_, '_>,
    gates: &[(String, String)],
    networks: &[String],
    (providers, entrances, devices): (&[String], &[String], &[Arc<DeviceCheck>]),
) -> Vec<Expectation> {
    let mut out: Vec<Expectation> = vec![];
    let known: Vec<String> = gates.iter().map(|(n, _)| n.clone()).collect();
    for f in root.tables("expectation") {
        let name = f.need("name", "\"pilots come in\"").unwrap_or_default();
        if out.iter().any(|o| o.name == name) && !name.is_empty() {
            f.error("name", format!("two expectations are named \"{name}\""), "Give each its own name.");
        }
        if !f.has("gate") {
            f.error("gate", "gate is missing".into(), "Name the gate, or \"console\".");
        }
        let gate = refer(&f, "gate", "gate", &known);
        if !f.has("enter") {
            f.error("enter", "enter is missing".into(), "Say what must happen: enter = true, or enter = false.");
        }
        let enter = f.flag("enter", false);
        let person = read_person(&f, gate.as_deref(), gates, (providers, devices));
        let is_network = gate.as_ref().is_some_and(|g| networks.contains(g));
        let paths = |key: &'static str| {
            let all = f.texts(key).unwrap_or_default();
            for p in &all {
                match (is_network, Wanted::parse(p)) {
                    (true, Err(why)) => f.error(key, format!("\"{p}\" {why}"), "At a network gate, write \"10.80.4.7:22\"."),
                    (false, _) if !p.starts_with('/') => f.error(key, format!("\"{p}\" is no path"), "Begin it with /."),
                    _ => {}
                }
            }
            all
        };
        if is_network && f.has("headers") {
            f.error("headers", "a network is told no headers".into(), "Expect what it opens: reaches = [\"10.80.4.7:22\"].");
        }
        let made = Expectation {
            name,
            line: f.line,
            place: Place::parse(gate.as_deref().unwrap_or_default()),
            person,
            from: f.text("from").and_then(|t| {
                let found = t.parse().ok();
                if found.is_none() {
                    f.error("from", format!("\"{t}\" is no address"), "Write an address, such as \"10.20.0.7\".");
                }
                found
            }),
            at: f.text("at").and_then(|t| {
                let found = chrono::DateTime::parse_from_rfc3339(&t).ok().map(|t| t.to_utc());
                if found.is_none() {
                    f.error("at", format!("\"{t}\" is no moment"), "Write it as \"2026-12-31T08:00:00Z\" (RFC 3339).");
                }
                found
            }),
            method: f.text("method"),
            tunnel: super::tunnel::read_facts(&f, entrances),
            enter,
            roles: f.texts("roles"),
            headers: f.values("headers").into_iter().map(|(n, v)| (n, v.join(","))).collect(),
            reaches: paths("reaches"),
            closed: paths("closed"),
        };
        for key in ["roles", "headers", "reaches", "closed"] {
            if !enter && f.has(key) {
                f.error(key, format!("who does not enter has no {key}"), "Take it away, or write enter = true.");
            }
        }
        if gate.as_deref().map(Place::parse) == Some(Place::Console) {
            for key in ["headers", "reaches", "closed"].into_iter().filter(|k| f.has(k)) {
                f.error(key, format!("the console has no {key}"), "Expect roles there.");
            }
        }
        f.finish();
        if gate.is_some() {
            out.push(made);
        }
    }
    out
}

fn read_person(
    f: &Fields<'_, '_>,
    gate: Option<&str>,
    gates: &[(String, String)],
    (providers, devices): (&[String], &[Arc<DeviceCheck>]),
) -> Described {
    let default = gates.iter().find(|(n, _)| Some(n.as_str()) == gate).map(|(_, p)| p.clone()).unwrap_or_default();
    let Some(p) = f.table("person") else {
        if !f.has("person") {
            f.error("person", "person is missing".into(), "Describe somebody: person = { groups = [\"…\"], claims = { … } }.");
        }
        return Described::default();
    };
    let provider = if p.has("provider") { refer(&p, "provider", "provider", providers) } else { None };
    let out = Described {
        provider: provider.unwrap_or(default),
        claims: p.values("claims").into_iter().collect(),
        amr: p.texts("amr"),
        acr: p.text("acr"),
        groups: p.texts("groups").unwrap_or_default(),
        attributes: p.values("attributes").into_iter().collect(),
        device: p.texts("device"),
    };
    out.device.iter().flatten().for_each(|name| drop(device_check(&p, "device", name, devices)));
    p.finish();
    out
}
