//! Reading of `site::radius` from a document.

use std::sync::Arc;

use chrono::Duration;
use ipnet::IpNet;

use super::fields::Fields;
use super::gate::name_of;
use super::names::{only_gate, refer};
use super::provider::certificates;
use super::reach::{bounded, several};
use super::tunnel::TWO_GATES;
use crate::address::network;
use crate::site::{
    Delivery, Gate, HeaderRule, RADIUS_ATTRIBUTES, RadiusAsks, RadiusAttribute, RadiusCertificate, RadiusClient, RadiusPlace,
    RadiusProof, RadiusValue, Reach, ValueOf, Way, WayKind, Zone,
};

/// The most RADIUS clients of a site.
const CLIENTS_MAX: usize = 500;
/// The most attributes of vendors.
const ATTRIBUTES_MAX: usize = 500;

/// Reads `[[radius-client]]`; names of zones and entrances are taken.
pub(crate) fn read(root: &Fields<'_, '_>, zones: &[Zone], gates: &[Gate], ways: &[Way]) -> Vec<RadiusClient> {
    let mut taken: Vec<String> = zones.iter().map(|z| z.name.clone()).collect();
    let mut out: Vec<RadiusClient> = vec![];
    let words: Vec<String> = ways.iter().filter(|w| matches!(w.kind, WayKind::Gateway)).map(|w| w.name.clone()).collect();
    for f in bounded(root, "radius-client", CLIENTS_MAX) {
        let name = name_of(&f, &taken);
        taken.push(name.clone());
        let addresses = read_addresses(&f, &out);
        let takes = read_takes(&f);
        let way = refer(&f, "way", "way of kind gateway", &words);
        let authorizes = takes.contains(&RadiusAsks::AuthorizeOnly);
        if authorizes && way.is_none() && !f.has("way") {
            let remedy = "Add a [[way]] of kind gateway, and name it: way = \"gateway-word\".";
            f.error("way", "the client names people itself, and no way in says so".into(), remedy);
        }
        if way.is_some() && !authorizes {
            f.warn("way", "the client names nobody itself".into(), "Write takes = [\"authorize-only\"], or take the line away.");
        }
        // Less than a minute is forbidden, and less than ten is much for its network (RFC 2869 section 5.16).
        let interim = f.duration("interim", Duration::minutes(10), Duration::minutes(1), Duration::hours(24));
        let proof = read_proof(&f);
        // RFC 5176 section 2 and RFC 6614 section 2.1 say which ports are theirs.
        let usual = if matches!(proof, RadiusProof::Certificate(_)) { 2_083 } else { 3_799 };
        let orders = u16::try_from(f.number("dynamic-authorization", usual, 0..=65_535)).ok().filter(|port| *port != 0);
        let title = f.text("title").unwrap_or_else(|| name.clone());
        f.finish();
        out.push(RadiusClient { name, title, addresses, proof, takes, way, interim, orders });
    }
    check(root, &out, gates, ways);
    out
}

/// What proves that a client is this one: a secret, or certificates over TLS.
fn read_proof(f: &Fields<'_, '_>) -> RadiusProof {
    let by_certificate = ["certificates", "authorities", "host"].into_iter().find(|key| f.has(key));
    let Some(by) = by_certificate else {
        return RadiusProof::Secret(f.need("secret", "\"quay-gateway\"").unwrap_or_default());
    };
    if f.text("secret").is_some() {
        f.error(
            "secret",
            format!("the client shares a secret, and has {by}"),
            "Keep one of them: a client that asks over TLS is proven by its certificate, and shares no secret.",
        );
    }
    let (own, authorities, host) = (certificates(f, "certificates"), certificates(f, "authorities"), f.text("host"));
    match (authorities.is_empty(), &host) {
        (false, None) => f.error(
            "authorities",
            "every certificate of these authorities would be this client's".into(),
            "Write the name that its certificate says: host = \"switch-3.havrelune.example\".",
        ),
        (true, Some(_)) if !f.has("authorities") => {
            f.error(
                "host",
                "nothing says who may certify that name".into(),
                "Paste the certificate of the authority: authorities = [\"…\"].",
            );
        }
        (true, None) if own.is_empty() && !f.has("authorities") => {
            f.error("certificates", "no certificate is this client's".into(), "Paste the one that the client shows.");
        }
        _ => {}
    }
    let host = host.map(|h| h.to_ascii_lowercase());
    RadiusProof::Certificate(Arc::new(RadiusCertificate { own, authorities, host }))
}

fn read_addresses(f: &Fields<'_, '_>, others: &[RadiusClient]) -> Vec<IpNet> {
    let mut out: Vec<IpNet> = vec![];
    for text in several(f, "addresses", "\"192.0.2.10\"") {
        let Some(net) = network(&text) else {
            f.error(
                "addresses",
                format!("\"{text}\" is no address or network"),
                "Write where the client sends from: \"192.0.2.10\".",
            );
            continue;
        };
        if net.prefix_len() == 0 {
            f.error("addresses", format!("\"{text}\" is everybody"), "Write the addresses of the client alone.");
        } else if let Some(other) = others.iter().find(|o| o.addresses.iter().any(|n| n.contains(&net) || net.contains(n))) {
            let what = format!("{net} is also where {} sends from", other.name);
            f.error("addresses", what, "An address tells which client asks, and which secret proves it: give each its own.");
        } else {
            out.push(net);
        }
    }
    out
}

fn read_takes(f: &Fields<'_, '_>) -> Vec<RadiusAsks> {
    let Some(texts) = f.some_texts("takes") else { return vec![RadiusAsks::Password] };
    let known = || RadiusAsks::WORDS.map(|(w, _)| w).join(", ");
    let one = |text: &String| {
        let found = RadiusAsks::WORDS.into_iter().find(|(w, _)| w == text).map(|(_, a)| a);
        if found.is_none() {
            f.error("takes", format!("no client asks \"{text}\""), format!("There are: {}.", known()));
        }
        found
    };
    texts.iter().filter_map(one).collect()
}

/// Reads `[[vendor-attribute]]`: what vendors call attributes of their own.
pub(crate) fn read_vendors(root: &Fields<'_, '_>) -> Vec<RadiusAttribute> {
    let mut out: Vec<RadiusAttribute> = vec![];
    for f in bounded(root, "vendor-attribute", ATTRIBUTES_MAX) {
        let name = f.need("name", "\"Berth-Profile\"").unwrap_or_default();
        let plain = !name.is_empty() && name.len() <= 60 && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-');
        if !plain && f.has("name") {
            f.error("name", format!("\"{name}\" is no attribute name"), "Use letters, digits and hyphens.");
        }
        let is_taken = RADIUS_ATTRIBUTES.iter().map(|(n, ..)| *n).chain(out.iter().map(|a| a.name.as_str()));
        if is_taken.into_iter().any(|n| n.eq_ignore_ascii_case(&name)) {
            f.error("name", format!("{name} is there already"), "Give it a name of its own.");
        }
        for key in ["vendor", "number"] {
            if !f.has(key) {
                f.error(key, format!("{key} is missing"), "Write both numbers, as the vendor's dictionary has them.");
            }
        }
        // SMI Network Management Private Enterprise Codes have three octets here (RFC 2865 section 5.26).
        let vendor = u32::try_from(f.number("vendor", 1, 1..=0x00ff_ffff)).unwrap_or(1);
        let number = u8::try_from(f.number("number", 1, 1..=255)).unwrap_or(1);
        let value = f.choice("type", RadiusValue::Text, &RadiusValue::WORDS);
        let repeats = f.flag("repeats", false);
        f.finish();
        out.push(RadiusAttribute { name, place: RadiusPlace::Vendor(vendor, number), value, repeats });
    }
    out
}

/// What a gateway has to be told of reach, and cannot be: it knows networks, and nothing but what an answer says.
pub(crate) fn check_reach(root: &Fields<'_, '_>, (gates, deliveries): (&[Gate], &[Delivery]), reaches: &[Reach]) {
    for (f, gate) in root.tables("gate").iter().zip(gates) {
        if gate.network().is_none_or(|n| n.radius.is_empty()) {
            continue;
        }
        let opened = reaches.iter().filter(|r| gate.access.rules.iter().any(|rule| rule.effect.opens(&r.name)));
        let told: Vec<_> =
            deliveries.iter().filter(|d| gate.delivery.as_ref() == Some(&d.name)).flat_map(|d| &d.headers).collect();
        let takes_filters = |h: &&HeaderRule| h.fit.as_ref().is_some_and(|f| f.attribute.value == RadiusValue::Filter);
        let by_rules = told.iter().any(|h| h.value == ValueOf::Reach && takes_filters(h));
        let at_all = told.iter().any(|h| h.value == ValueOf::Reach || takes_filters(h));
        for reach in opened {
            if by_rules && reach.has_names() {
                let what = format!("the reach {} leads to names, which no gateway can be told", reach.name);
                f.warn("delivery", what, format!("Write the networks that these names are in: to of [[reach]] {}.", reach.name));
            } else if !at_all {
                let what = format!("rules give the reach {}, and no RADIUS client is told of it", reach.name);
                let remedy = "Deliver it: [[delivery.attribute]] with name = \"NAS-Filter-Rule\" and reach = true.";
                f.warn("delivery", what, remedy);
            }
        }
    }
}

/// What a client cannot be beside the gates: it is an entrance of one, which takes the ways in by which it asks.
fn check(root: &Fields<'_, '_>, clients: &[RadiusClient], gates: &[Gate], ways: &[Way]) {
    for (f, client) in root.tables("radius-client").iter().zip(clients) {
        let has = |g: &Gate| g.network().is_some_and(|n| n.radius.contains(&client.name));
        let none = ("no gate takes people in by it", "Name it in the entrances of a gate of kind vpn.");
        let Some(gate) = only_gate(f, gates, has, none, TWO_GATES) else { continue };
        let by_password = |w: &&Way| w.password().is_some();
        let passwords = ways.iter().filter(by_password).filter(|w| gate.access.ways.contains(&w.name)).count();
        if client.may_ask(RadiusAsks::Password) && passwords != 1 {
            let what = match passwords {
                0 => format!("it asks about passwords, and gate {} takes nobody in by one", gate.name),
                _ => format!("it asks about passwords, and gate {} takes those of several ways in", gate.name),
            };
            let remedy = "Name one [[way]] of kind password, or of kind ticket with password = true, in the gate's ways-in; or write takes = [\"authorize-only\"].";
            f.error("takes", what, remedy);
        }
        let machines = ways.iter().filter(|w| w.is_of_machines() && gate.access.ways.contains(&w.name)).count();
        if client.may_ask(RadiusAsks::Machine) && machines != 1 {
            let what = match machines {
                0 => format!("it asks about machines, and gate {} takes none in", gate.name),
                _ => format!("it asks about machines, and gate {} takes those of several ways in", gate.name),
            };
            f.error("takes", what, "Name one [[way]] of kind machine in the gate's ways-in.");
        }
        if let Some(way) = client.way.as_ref().filter(|w| !gate.access.ways.contains(w)) {
            let what = format!("gate {} does not take the way in {way}", gate.name);
            f.error("way", what, format!("Add \"{way}\" to the ways-in of gate {}.", gate.name));
        }
    }
}
