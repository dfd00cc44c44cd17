//! Reading of `site::tunnel` from a document, and whether what rules open is led into the tunnel.

use std::net::IpAddr;

use chrono::Duration;
use ipnet::IpNet;

use super::fields::Fields;
use super::gate::name_of;
use super::names::only_gate;
use super::reach::{bounded, guarded, read_interface, several};
use crate::address::network;
use crate::site::{
    Browser, Destination, Gate, HostPattern, Machines, Profiles, PushedOption, Reach, Server, Service, Transport, Tunnel, Zone,
};
use crate::tunnel::{ADDRESS_MAX, ASK_LEN, TunnelFacts};

const ENTRANCES_MAX: usize = 50;
/// The most that one entrance pushes of each kind: what is pushed has to fit into a few messages.
const PUSHED_MAX: usize = 200;
const DNS_MAX: usize = 4;

/// What is said where two gates have an entrance.
pub(super) const TWO_GATES: (&str, &str) = ("have the entrance", "Let one gate have it; its rules may tell people apart.");

/// Networks that many people have at home or on their telephone, and that a route through a tunnel would meet.
const HOMES: [&str; 9] = [
    "192.168.0.0/24",
    "192.168.1.0/24",
    "192.168.2.0/24",
    "192.168.8.0/24",
    "192.168.43.0/24",
    "192.168.178.0/24",
    "10.0.0.0/24",
    "10.0.1.0/24",
    "172.20.10.0/28",
];

/// Reads `[[entrance]]`; `zones` are those that were read already, whose names, interfaces and networks are taken.
pub(crate) fn read(root: &Fields<'_, '_>, zones: &[Zone]) -> Vec<Zone> {
    let mut taken: Vec<String> = zones.iter().map(|z| z.name.clone()).collect();
    let mut out: Vec<Zone> = vec![];
    for f in bounded(root, "entrance", ENTRANCES_MAX) {
        let name = name_of(&f, &taken);
        taken.push(name.clone());
        let title = f.text("title").unwrap_or_else(|| name.clone());
        let interface = read_interface(&f);
        let others = || zones.iter().chain(&out);
        if let Some(other) = others().find(|z| z.interface == interface) {
            let remedy = "Each VPN server has a tun interface of its own: write dev in its configuration, and here.";
            f.error("interface", format!("{interface} is already that of {}", other.name), remedy);
        }
        let networks = read_networks(&f);
        for n in &networks {
            if let Some(other) = others().find(|z| z.networks.iter().any(|o| o.contains(n) || n.contains(o))) {
                f.error("networks", format!("{n} is also in {}", other.name), "An address belongs to one zone or entrance.");
            }
        }
        let servers: Vec<Server> =
            several(&f, "servers", "\"vpn.example.org:1194/udp\"").iter().filter_map(|t| server(&f, t)).collect();
        let tunnel = Tunnel {
            servers,
            routes: read_routes(&f),
            whole: f.flag("whole", false),
            dns: read_dns(&f),
            domains: read_domains(&f),
            options: read_options(&f),
            patience: f.duration("sign-in-within", Duration::minutes(2), Duration::seconds(30), Duration::minutes(10)),
            roam: f.duration("come-back-within", Duration::minutes(10), Duration::seconds(30), Duration::hours(24)),
            browser: f.choice("browser", Browser::Anywhere, &Browser::WORDS),
            profiles: f.choice("profiles", Profiles::Shared, &Profiles::WORDS),
            trial: f.flag("trial", false),
        };
        if tunnel.whole && !tunnel.routes.is_empty() {
            f.warn(
                "routes",
                "everything goes into the tunnel, so that routes say nothing".into(),
                "Take one of routes and whole away.",
            );
        }
        if tunnel.profiles == Profiles::Shared && tunnel.browser == Browser::Anywhere && !tunnel.trial {
            f.warn(
                "browser",
                "somebody else's machine could ask, and a person be talked into signing in for it from afar".into(),
                "Write profiles = \"personal\", or browser = \"same-address\" where browser and tunnel come from one network.",
            );
        }
        f.finish();
        let machines = Machines::InTunnels(Box::new(tunnel));
        out.push(Zone {
            name,
            title,
            interface,
            networks,
            machines,
            before: vec![],
            led: vec![],
            resolver: vec![],
            ways: vec![],
            first: None,
        });
    }
    out
}

/// One network of a family: each machine has the same place in both.
fn read_networks(f: &Fields<'_, '_>) -> Vec<IpNet> {
    let mut out: Vec<IpNet> = vec![];
    for n in several(f, "networks", "\"10.71.0.0/24\", \"fd71::/64\"").iter().filter_map(|t| guarded(f, t)) {
        let fits = match n {
            IpNet::V4(n) => (8..=29).contains(&n.prefix_len()),
            IpNet::V6(n) => (32..=125).contains(&n.prefix_len()),
        };
        if !fits {
            let remedy = "Use a prefix of /8 to /29, or /32 to /125 of IPv6.";
            f.error("networks", format!("{n} has no room for a tunnel's machines, or too much"), remedy);
        } else if out.iter().any(|o| o.addr().is_ipv4() == n.addr().is_ipv4()) {
            f.error("networks", format!("{n} is a second network of its family"), "Write one of each family at most.");
        } else {
            out.push(n);
        }
    }
    if !out.is_empty() && !out.iter().any(|n| n.addr().is_ipv4()) {
        f.error("networks", "there is no IPv4 network".into(), "Write one: a machine's place in it is how it is told apart.");
    }
    out
}

fn server(f: &Fields<'_, '_>, text: &str) -> Option<Server> {
    let remedy = "Write host:port, host:port/udp or host:port/tcp, as clients reach it.";
    Server::parse(text).map_err(|why| f.error("servers", format!("\"{text}\" {why}"), remedy)).ok()
}

/// A list of at most so many members.
fn listed<T>(f: &Fields<'_, '_>, key: &'static str, most: usize, read: impl Fn(&str) -> Option<T>) -> Vec<T> {
    let all = f.text_or_texts(key).unwrap_or_default();
    if all.len() > most {
        f.error(key, format!("{key} has {} members", all.len()), format!("Use at most {most}."));
    }
    all.iter().take(most).filter_map(|t| read(t)).collect()
}

fn read_routes(f: &Fields<'_, '_>) -> Vec<IpNet> {
    listed(f, "routes", PUSHED_MAX, |text| {
        let found = network(text).filter(|n| n.prefix_len() > 0);
        if found.is_none() {
            let remedy = "Write networks such as \"10.80.0.0/16\"; whole = true leads everything into the tunnel.";
            f.error("routes", format!("\"{text}\" is no network of a route"), remedy);
        }
        found
    })
}

fn read_dns(f: &Fields<'_, '_>) -> Vec<IpAddr> {
    listed(f, "dns", DNS_MAX, |text| {
        let found = text.parse::<IpAddr>().ok().filter(|a| !a.is_unspecified() && !a.is_loopback() && !a.is_multicast());
        if found.is_none() {
            f.error("dns", format!("\"{text}\" is the address of no resolver"), "Write an address, such as \"10.88.0.2\".");
        }
        found
    })
}

fn read_domains(f: &Fields<'_, '_>) -> Vec<String> {
    listed(f, "domains", PUSHED_MAX, |text| match HostPattern::parse(text).ok().and_then(|p| p.host().map(str::to_owned)) {
        Some(name) => Some(name),
        None => {
            f.error("domains", format!("\"{text}\" is no domain"), "Write names such as \"havrelune.example\".");
            None
        }
    })
}

fn read_options(f: &Fields<'_, '_>) -> Vec<PushedOption> {
    listed(f, "options", PUSHED_MAX, |text| {
        let found = PushedOption::parse(text);
        if found.is_none() {
            let known = PushedOption::known().collect::<Vec<_>>().join(", ");
            f.error("options", format!("\"{text}\" is pushed to no client"), format!("Write one of {known}, with its numbers."));
        }
        found
    })
}

/// Reads the tunnel by which somebody comes in an expectation.
pub(crate) fn read_facts(f: &Fields<'_, '_>, entrances: &[String]) -> Option<TunnelFacts> {
    let t = f.table("tunnel")?;
    if !t.has("entrance") {
        t.error("entrance", "entrance is missing".into(), "Name the entrance: tunnel = { entrance = \"pilots\" }.");
    }
    let entrance = super::names::refer(&t, "entrance", "entrance", entrances);
    let (platform, version, profile) = (t.text("platform"), t.text("version"), t.flag("profile", false));
    t.finish();
    Some(TunnelFacts::described(&entrance?, platform.as_deref(), version.as_deref(), profile))
}

/// Whether each destination that rules of its gate open is led into the tunnel, and the other way round; and whether a route meets what people
/// have at home.
pub(crate) fn check(root: &Fields<'_, '_>, entrances: &[Zone], gates: &[Gate], reaches: &[Reach]) {
    for (f, zone) in root.tables("entrance").iter().zip(entrances) {
        let Some(tunnel) = zone.tunnel() else { continue };
        let has = |g: &Gate| g.is_vpn() && g.network().is_some_and(|n| n.zones.contains(&zone.name));
        let none = ("no gate takes people in at the entrance", "Name it in the entrances of a gate of kind vpn.");
        let Some(gate) = only_gate(f, gates, has, none, TWO_GATES) else { continue };
        if tunnel.profiles == Profiles::Personal && gate.network().is_some_and(|n| n.authority.is_none()) {
            let what = format!("the gate {} names no authority, so that nobody can have a profile", gate.name);
            let remedy =
                "Write authority = \"tunnel-authority\" there, and make it: passeur secret make-key tunnel-authority --authority";
            f.error("profiles", what, remedy);
        }
        let length = gate.address.origin().len() + ASK_LEN;
        if length > ADDRESS_MAX {
            let what = format!("the address of the gate {} is too long: clients are told one of {length} octets", gate.name);
            f.error("name", what, format!("Give the gate a shorter host name: {ADDRESS_MAX} octets reach a client."));
        }
        let opened: Vec<&Reach> =
            reaches.iter().filter(|r| gate.access.rules.iter().any(|rule| rule.effect.opens(&r.name))).collect();
        check_routes(f, tunnel, &opened);
        check_dns(f, tunnel, &opened);
        check_homes(f, tunnel, &opened);
    }
}

fn networks_of(reach: &Reach) -> impl Iterator<Item = &IpNet> {
    reach.to.iter().filter_map(|d| if let Destination::Network(n) = d { Some(n) } else { None })
}

fn check_routes(f: &Fields<'_, '_>, tunnel: &Tunnel, opened: &[&Reach]) {
    if tunnel.whole {
        return;
    }
    if tunnel.routes.is_empty() {
        for r in opened.iter().filter(|r| r.has_names()) {
            let what = format!("the reach {} leads to names, to which clients have no route", r.name);
            f.warn("routes", what, "Write the networks that these names are in: routes = [\"10.80.0.0/16\"].");
        }
        return;
    }
    let leads = |n: &IpNet| tunnel.routes.iter().any(|route| route.contains(n));
    for (r, n) in opened.iter().flat_map(|r| networks_of(r).map(move |n| (r, n))).filter(|(_, n)| !leads(n)) {
        let what = format!("the reach {} opens {n}, and no route leads there: clients send it past the tunnel", r.name);
        f.warn("routes", what, format!("Add \"{n}\" to routes, or a network that holds it."));
    }
    let named = opened.iter().any(|r| r.has_names());
    let meets = |route: &IpNet| opened.iter().flat_map(|r| networks_of(r)).any(|n| n.contains(route) || route.contains(n));
    for route in tunnel.routes.iter().filter(|r| !named && !meets(r)) {
        let what = format!("clients send {route} into the tunnel, and no rule of the gate opens anything there");
        f.warn("routes", what, "Take the route away, or grant a reach that leads there.");
    }
}

fn check_dns(f: &Fields<'_, '_>, tunnel: &Tunnel, opened: &[&Reach]) {
    let asks = crate::site::Wanted { name: None, addresses: vec![], service: Service::Ports(Transport::Udp, 53, 53) };
    for resolver in &tunnel.dns {
        let wanted = crate::site::Wanted { addresses: vec![*resolver], ..asks.clone() };
        if !opened.iter().any(|r| r.covers(&wanted) == crate::site::Covers::Yes) {
            let what = format!("clients are told to ask {resolver} for names, and no rule of the gate opens it on udp/53");
            f.warn("dns", what, "Grant everybody a reach that leads there, with services = [\"udp/53\", \"tcp/53\"].");
        }
    }
}

fn check_homes(f: &Fields<'_, '_>, tunnel: &Tunnel, opened: &[&Reach]) {
    if tunnel.whole {
        return;
    }
    let routes: Vec<&IpNet> = match tunnel.routes.as_slice() {
        [] => opened.iter().flat_map(|r| networks_of(r)).collect(),
        some => some.iter().collect(),
    };
    let homes: Vec<IpNet> = HOMES.iter().filter_map(|h| h.parse().ok()).collect();
    for route in routes.into_iter().filter(|r| r.prefix_len() > 0) {
        let met: Vec<String> =
            homes.iter().filter(|h| h.contains(route) || route.contains(*h)).map(ToString::to_string).collect();
        if !met.is_empty() {
            let what = format!("the route {route} meets networks that people have at home: {}", met.join(", "));
            let remedy = "Write narrower routes, around these; a host in such a network is not reached from a home that uses it.";
            f.warn("routes", what, remedy);
        }
    }
}
