//! Reading of `site::reach` and `site::zone` from a document.

use std::net::IpAddr;

use chrono::Duration;
use ipnet::IpNet;

use super::fields::Fields;
use super::gate::name_of;
use super::names::{refer, refer_to_several};
use crate::address::network;
use crate::site::{Destination, FirstReach, HostPattern, Machines, Reach, Service, Zone};

/// The most destinations, exceptions or services of one reach: each is an element of a set in the kernel.
const PARTS_MAX: usize = 1_000;

/// The most reaches and zones of a site, and networks of a zone: each is held against the others.
const REACHES_MAX: usize = 500;
const ZONES_MAX: usize = 100;
const ZONE_NETWORKS_MAX: usize = 32;

/// The tables of a list, as many as there may be.
pub(crate) fn bounded<'r, 'd>(root: &Fields<'r, 'd>, key: &'static str, most: usize) -> Vec<Fields<'r, 'd>> {
    let mut all = root.tables(key);
    if all.len() > most {
        root.error(key, format!("there are {} of [[{key}]]", all.len()), format!("Use at most {most}."));
        all.truncate(most);
    }
    all
}

/// Reads `[[reach]]`.
pub(crate) fn read(root: &Fields<'_, '_>) -> Vec<Reach> {
    let mut taken = vec![];
    let mut out = vec![];
    for f in bounded(root, "reach", REACHES_MAX) {
        let name = name_of(&f, &taken);
        taken.push(name.clone());
        let title = f.text("title").unwrap_or_else(|| name.clone());
        let to: Vec<Destination> =
            several(&f, "to", "\"10.80.4.0/24\", \"cranes.example\"").iter().filter_map(|t| destination(&f, t)).collect();
        let except: Vec<IpNet> = f.text_or_texts("except").unwrap_or_default().iter().filter_map(|t| exception(&f, t)).collect();
        let within = |n: &&IpNet| to.iter().any(|d| matches!(d, Destination::Network(whole) if whole.contains(*n)));
        let by_name = to.iter().any(|d| matches!(d, Destination::Name(_)));
        for n in except.iter().filter(|n| !within(n) && !by_name) {
            f.warn("except", format!("{n} is not within what the reach opens"), "Take it away, or mend the network.");
        }
        let services: Vec<Service> =
            several(&f, "services", "\"tcp/443\", \"udp/443\"").iter().filter_map(|t| service(&f, t)).collect();
        for (key, n) in [("to", to.len()), ("except", except.len()), ("services", services.len())] {
            if n > PARTS_MAX {
                f.error(
                    key,
                    format!("{key} has {n} members"),
                    format!("Use at most {PARTS_MAX}: join networks, or make several reaches."),
                );
            }
        }
        f.finish();
        out.push(Reach { name, title, to, except, services });
    }
    out
}

/// A list that must be there and not be empty.
pub(crate) fn several(f: &Fields<'_, '_>, key: &'static str, example: &str) -> Vec<String> {
    let all = f.text_or_texts(key).unwrap_or_default();
    if all.is_empty() {
        f.error(key, format!("{key} is {}", if f.has(key) { "empty" } else { "missing" }), format!("Write {key} = [{example}]."));
    }
    all
}

fn destination(f: &Fields<'_, '_>, text: &str) -> Option<Destination> {
    if let Some(n) = network(text) {
        return Some(Destination::Network(n));
    }
    let read = HostPattern::parse(text);
    let remedy = "Write networks such as \"10.80.4.0/24\", host names, or \"*.example.org\" for all names below one.";
    read.map_err(|why| f.error("to", format!("\"{text}\" {why}"), remedy)).ok().map(Destination::Name)
}

fn exception(f: &Fields<'_, '_>, text: &str) -> Option<IpNet> {
    let found = network(text);
    if found.is_none() {
        f.error("except", format!("\"{text}\" is no network"), "Write networks or addresses; what a name leads to may change.");
    }
    found
}

fn service(f: &Fields<'_, '_>, text: &str) -> Option<Service> {
    let found = Service::parse(text);
    if found.is_none() {
        let remedy = "Write \"tcp/443\", \"udp/5000-5100\", \"tcp\", \"icmp\", or \"all\".";
        f.error("services", format!("\"{text}\" is no service"), remedy);
    }
    found
}

/// Reads `[[zone]]`; `ways` are names of ways in, `reaches` of reaches.
pub(crate) fn read_zones(root: &Fields<'_, '_>, ways: &[String], reaches: &[String]) -> Vec<Zone> {
    let mut taken = vec![];
    let mut out: Vec<Zone> = vec![];
    for f in bounded(root, "zone", ZONES_MAX) {
        let name = name_of(&f, &taken);
        taken.push(name.clone());
        let title = f.text("title").unwrap_or_else(|| name.clone());
        let interface = read_interface(&f);
        if let Some(other) = out.iter().find(|z| z.interface == interface) {
            f.error(
                "interface",
                format!("{interface} is already that of zone {}", other.name),
                "A zone is the whole of its interface.",
            );
        }
        let mut networks: Vec<IpNet> =
            several(&f, "networks", "\"10.70.0.0/24\", \"fd70::/64\"").iter().filter_map(|t| guarded(&f, t)).collect();
        if networks.len() > ZONE_NETWORKS_MAX {
            f.error("networks", format!("networks has {} members", networks.len()), format!("Use at most {ZONE_NETWORKS_MAX}."));
            networks.truncate(ZONE_NETWORKS_MAX);
        }
        for n in &networks {
            let meets = |z: &&Zone| z.networks.iter().any(|o| o.contains(n) || n.contains(o));
            if let Some(other) = out.iter().find(meets) {
                f.error("networks", format!("{n} is also in zone {}", other.name), "An address belongs to one zone.");
            }
        }
        let is_routed = f.choice("machines", false, &[("on-link", false), ("routed", true)]);
        let machines = if is_routed { Machines::Routed } else { Machines::OnLink };
        let before = refer_to_several(&f, "before", "reach", reaches);
        let led = read_led(&f);
        let resolver = read_resolver(&f);
        let ways = refer_to_several(&f, "ways-in", "way in", ways);
        let first = f.table("first").and_then(|first| {
            let reach = first.need("reach", "\"mail\"").and_then(|_| refer(&first, "reach", "reach", reaches));
            let lasts = first.duration("lasts", Duration::minutes(5), Duration::minutes(1), Duration::minutes(30));
            first.finish();
            Some(FirstReach { reach: reach?, lasts })
        });
        f.finish();
        out.push(Zone { name, title, interface, networks, machines, before, led, resolver, ways, first });
    }
    out
}

/// A name of an interface: at most 15 letters, digits, hyphens and dots. The kernel takes more, and nobody uses it.
pub(crate) fn read_interface(f: &Fields<'_, '_>) -> String {
    let text = f.need("interface", "\"eth1\"").unwrap_or_default();
    let of = |b: u8| b.is_ascii_alphanumeric() || b"-_.".contains(&b);
    let fits = text.len() <= 15 && text.bytes().all(of) && text.bytes().next().is_some_and(|b| b.is_ascii_alphanumeric());
    if !text.is_empty() && (!fits || text == "lo") {
        f.error(
            "interface",
            format!("\"{text}\" is no interface of a zone"),
            "Write the name that `ip link` shows, such as \"eth1\".",
        );
    }
    text
}

pub(crate) fn guarded(f: &Fields<'_, '_>, text: &str) -> Option<IpNet> {
    let found = network(text).filter(|n| n.prefix_len() > 0);
    if found.is_none() {
        f.error(
            "networks",
            format!("\"{text}\" is no network of a zone"),
            "Write networks such as \"10.70.0.0/24\" or \"fd70::/64\".",
        );
    }
    found
}

/// At most one address of each family: a question has to go somewhere.
fn read_resolver(f: &Fields<'_, '_>) -> Vec<IpAddr> {
    let mut out: Vec<IpAddr> = vec![];
    for text in f.text_or_texts("resolver").unwrap_or_default() {
        match text.parse::<IpAddr>() {
            Ok(a) if a.is_unspecified() || a.is_loopback() || a.is_multicast() => f.error(
                "resolver",
                format!("{a} is the address of no resolver that a machine may ask"),
                "Write the resolver's address in the zone, such as \"10.70.0.1\".",
            ),
            Ok(a) if out.iter().any(|o| o.is_ipv4() == a.is_ipv4()) => f.error(
                "resolver",
                format!("{a} is a second address of its family"),
                "Write one address of each family; questions are led to it.",
            ),
            Ok(a) => out.push(a),
            Err(_) => f.error(
                "resolver",
                format!("\"{text}\" is no address"),
                "Write an address of each family, such as \"10.70.0.1\" and \"fd70:70::1\".",
            ),
        }
    }
    out
}

fn read_led(f: &Fields<'_, '_>) -> Vec<u16> {
    let Some(all) = f.text_or_texts("led") else { return vec![80] };
    let mut out = vec![];
    for text in all {
        match Service::parse(&text) {
            Some(Service::Ports(crate::site::Transport::Tcp, a, b)) if a == b && a != 443 => out.push(a),
            _ => f.error(
                "led",
                format!("\"{text}\" is no port of plain HTTP"),
                "Write \"tcp/80\". TLS cannot be led anywhere: it is refused at once, and the system finds the portal by itself.",
            ),
        }
    }
    out
}
