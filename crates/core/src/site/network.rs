//! Networks on which sessions are kept otherwise: machines that people share, or that nobody watches.

use chrono::Duration;
use ipnet::IpNet;

use super::condition::Named;

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

#[cfg(test)]
mod tests {
    #[test]
    fn the_shortest_of_site_network_and_gate_counts() {
        let text = include_str!("../../../../demo/site.toml")
            .replacen("[[gate]]", "[[network]]\nname = \"a\"\nnetwork = \"10.20.9.0/24\"\nshared = true\nidle = \"5m\"\n\n[[network]]\nname = \"b\"\nnetwork = [\"10.20.0.0/16\"]\nabsolute = \"2h\"\n\n[[gate]]", 1)
            .replacen("name = \"berths\"", "name = \"berths\"\nsession = { idle = \"20m\", absolute = \"3h\" }", 1);
        let (site, findings) = crate::document::compile(&text);
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
