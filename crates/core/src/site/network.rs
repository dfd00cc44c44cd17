//! Networks on which sessions are kept otherwise: machines that people share, or that nobody watches.

use std::net::IpAddr;

use chrono::Duration;
use ipnet::IpNet;

use super::Site;
use super::access::Names;
use super::parts::Gate;
use super::read::Fields;
use crate::condition::{self, Named};
use crate::session::Lifetimes;

/// What counts for sessions that begin on a network.
#[derive(Clone, Debug, PartialEq)]
pub struct Network {
    pub name: String,
    pub within: Named<IpNet>,
    /// Whether people share its machines: everybody proves anew who they are, and nothing is remembered of anybody.
    pub shared: bool,
    pub limits: Limits,
}

/// Lifetimes that are shorter than those around them; what is not said is as there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Limits {
    pub idle: Option<Duration>,
    pub absolute: Option<Duration>,
}

impl Limits {
    /// The shorter of each.
    pub fn within(&self, around: Lifetimes) -> Lifetimes {
        Lifetimes {
            idle: self.idle.map_or(around.idle, |d| d.min(around.idle)),
            absolute: self.absolute.map_or(around.absolute, |d| d.min(around.absolute)),
        }
    }

    /// Reads `idle` and `absolute`.
    pub(crate) fn read(f: &Fields<'_, '_>) -> Limits {
        let span = |key: &'static str| f.span(key, Duration::minutes(1), Duration::days(90));
        Limits { idle: span("idle"), absolute: span("absolute") }
    }
}

impl Site {
    /// The network that an address is on: the first that holds it.
    pub fn network_of(&self, address: IpAddr) -> Option<&Network> {
        let address = address.to_canonical();
        self.networks.iter().find(|n| n.within.members.iter().any(|m| m.contains(&address)))
    }

    /// Whether people share machines at an address.
    pub fn is_shared(&self, address: IpAddr) -> bool {
        self.network_of(address).is_some_and(|n| n.shared)
    }

    /// Lifetimes of a session that began at an address: the site's, or shorter ones of the network and of the gate.
    pub fn lifetimes_at(&self, began: Option<IpAddr>, gate: Option<&Gate>) -> Lifetimes {
        let on = began.and_then(|a| self.network_of(a)).map_or(self.lifetimes, |n| n.limits.within(self.lifetimes));
        gate.map_or(on, |g| g.session.within(on))
    }
}

/// Reads `[[network]]`.
pub(crate) fn read(root: &Fields<'_, '_>, names: &Names<'_>) -> Vec<Network> {
    let mut out: Vec<Network> = vec![];
    for f in root.tables("network") {
        let name = f.need("name", "\"quay terminals\"").unwrap_or_default();
        if out.iter().any(|n| n.name == name) && !name.is_empty() {
            f.error("name", format!("two networks are named \"{name}\""), "Give each its own name.");
        }
        if !f.has("network") {
            f.error("network", "network is missing".into(), "Write network = \"10.20.9.0/24\", or the name of a list.");
        }
        let within = if f.has("network") { condition::read_networks(&f, names.lists) } else { None };
        let (shared, limits) = (f.flag("shared", false), Limits::read(&f));
        if !shared && limits == Limits::default() {
            f.warn("name", "the network changes nothing".into(), "Add shared = true, idle or absolute, or take it away.");
        }
        f.finish();
        out.extend(within.map(|within| Network { name, within, shared, limits }));
    }
    out
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_shortest_of_site_network_and_gate_counts() {
        let text = include_str!("../../../../demo/site.toml")
            .replacen("[[gate]]", "[[network]]\nname = \"a\"\nnetwork = \"10.20.9.0/24\"\nshared = true\nidle = \"5m\"\n\n[[network]]\nname = \"b\"\nnetwork = [\"10.20.0.0/16\"]\nabsolute = \"2h\"\n\n[[gate]]", 1)
            .replacen("name = \"berths\"", "name = \"berths\"\nsession = { idle = \"20m\", absolute = \"3h\" }", 1);
        let (site, findings) = super::super::compile(&text);
        let site = site.unwrap_or_else(|| panic!("{findings:#?}"));
        let at = |address: &str, gate: Option<&str>| {
            let l = site.lifetimes_at(address.parse().ok(), gate.and_then(|g| site.gate(g)));
            (l.idle.num_minutes(), l.absolute.num_minutes())
        };
        assert_eq!(at("192.0.2.1", None), (60, 600));
        assert_eq!(at("192.0.2.1", Some("berths")), (20, 180));
        assert_eq!(at("10.20.9.7", Some("berths")), (5, 180));
        assert_eq!(at("::ffff:10.20.9.7", None), (5, 600));
        assert_eq!(at("10.20.1.1", Some("berths")), (20, 120));
        assert_eq!(at("no address", None), (60, 600));
        let shared = |a: &str| site.is_shared(a.parse().unwrap());
        assert!(shared("10.20.9.7") && !shared("10.20.1.1"));
    }
}
