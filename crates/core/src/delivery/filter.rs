//! Reach as the filter rules of a RADIUS answer (NAS-Filter-Rule, RFC 4849), in the syntax of IPFilterRule (RFC 6733 section 4.3.1).
//!
//! A gateway that is not ours keeps to them by itself, so that whoever is let in there reaches what rules give, and nothing else: each rule permits
//! one destination on one protocol, and the last one denies all that is left. What a reach leaves out is cut out of its networks beforehand, because
//! in a list where the first match counts a denial would close what another reach opens.

use ipnet::IpNet;

use crate::site::{Destination, RADIUS_FILTERS_MAX, Reach, Service, Transport};

/// What ends each list: without it a gateway lets through what no rule names.
const REST: &str = "deny in ip from any to any";
/// The most networks that one is cut into: an exception of one address in a /8 makes twenty-four.
const PIECES_MAX: usize = 256;

/// Filter rules, with what they cannot say.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Filter {
    pub rules: Vec<String>,
    /// Destinations by name: a gateway knows networks alone.
    pub names: Vec<String>,
}

/// The rules for whoever has these reaches; none where they would be too many for an answer.
pub(super) fn filter<'a>(reaches: impl Iterator<Item = &'a Reach>) -> Option<Filter> {
    let mut out = Filter::default();
    for reach in reaches {
        for to in &reach.to {
            match to {
                Destination::Name(name) => out.names.push(name.to_string()),
                Destination::Network(network) => {
                    let mut pieces = vec![];
                    without(*network, &reach.except, &mut pieces);
                    for rule in pieces.iter().flat_map(|n| reach.services.iter().filter_map(|s| permit(*s, n))) {
                        if !out.rules.contains(&rule) {
                            out.rules.push(rule);
                        }
                        if out.rules.len() >= RADIUS_FILTERS_MAX {
                            return None;
                        }
                    }
                }
            }
        }
    }
    out.names.sort();
    out.names.dedup();
    out.rules.push(REST.to_owned());
    Some(out)
}

/// A rule for one service; none where the service is none of the destination's family.
fn permit(service: Service, to: &IpNet) -> Option<String> {
    // Protocols stand there by number (RFC 6733 section 4.3.1).
    let (protocol, ports) = match (service, to) {
        (Service::All, _) => ("ip", String::new()),
        (Service::Icmp, IpNet::V4(_)) => ("1", String::new()),
        (Service::Icmp, IpNet::V6(_)) => ("58", String::new()),
        (Service::Ports(transport, first, last), _) => {
            let ports = match (first, last) {
                (1, u16::MAX) => String::new(),
                (first, last) if first == last => format!(" {first}"),
                (first, last) => format!(" {first}-{last}"),
            };
            (if transport == Transport::Tcp { "6" } else { "17" }, ports)
        }
    };
    let to = if to.prefix_len() == to.max_prefix_len() { to.addr().to_string() } else { to.trunc().to_string() };
    Some(format!("permit in {protocol} from any to {to}{ports}"))
}

/// What is left of a network without others.
fn without(network: IpNet, except: &[IpNet], out: &mut Vec<IpNet>) {
    if out.len() >= PIECES_MAX || except.iter().any(|e| e.contains(&network)) {
        return;
    }
    if !except.iter().any(|e| network.contains(e)) {
        out.push(network);
        return;
    }
    // An exception lies within, so that the network is wider than one address.
    for half in network.subnets(network.prefix_len() + 1).into_iter().flatten() {
        without(half, except, out);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::site::reach::tests::reach;
    use proptest::prelude::*;

    #[test]
    fn each_service_is_a_rule_and_the_last_one_denies_the_rest() {
        let of = |all: &[Reach]| filter(all.iter()).unwrap();
        let cranes =
            reach(&["10.80.4.0/24", "2001:db8:4::/64", "cranes.example"], &[], &["tcp/22", "udp/5000-5100", "tcp", "icmp"]);
        let said = of(&[cranes.clone(), cranes]);
        assert_eq!(said.names, ["cranes.example"]);
        assert_eq!(
            said.rules,
            [
                "permit in 6 from any to 10.80.4.0/24 22",
                "permit in 17 from any to 10.80.4.0/24 5000-5100",
                "permit in 6 from any to 10.80.4.0/24",
                "permit in 1 from any to 10.80.4.0/24",
                "permit in 6 from any to 2001:db8:4::/64 22",
                "permit in 17 from any to 2001:db8:4::/64 5000-5100",
                "permit in 6 from any to 2001:db8:4::/64",
                "permit in 58 from any to 2001:db8:4::/64",
                REST,
            ]
        );
        assert_eq!(of(&[reach(&["10.0.0.7"], &[], &["all"])]).rules, ["permit in ip from any to 10.0.0.7", REST]);
        assert_eq!(of(&[]).rules, [REST], "whoever reaches nothing is closed in");
    }

    #[test]
    fn an_exception_is_cut_out_and_closes_nothing_that_another_reach_opens() {
        let around = reach(&["10.80.4.0/30"], &["10.80.4.1"], &["all"]);
        let there = reach(&["10.80.4.1"], &[], &["tcp/443"]);
        let said = filter([&around, &there].into_iter()).unwrap();
        assert_eq!(
            said.rules,
            [
                "permit in ip from any to 10.80.4.0",
                "permit in ip from any to 10.80.4.2/31",
                "permit in 6 from any to 10.80.4.1 443",
                REST
            ]
        );
        let all = reach(&["10.80.4.0/24"], &["10.80.0.0/16"], &["all"]);
        assert_eq!(filter([&all].into_iter()).unwrap().rules, [REST]);
        let many: Vec<String> = (0..RADIUS_FILTERS_MAX).map(|n| format!("10.0.{}.{}", n / 256, n % 256)).collect();
        let many: Vec<&str> = many.iter().map(String::as_str).collect();
        assert_eq!(filter([&reach(&many, &[], &["all"])].into_iter()), None);
    }

    proptest! {
        #[test]
        fn what_is_left_holds_exactly_what_no_exception_holds(
            length in 20u8..=30,
            except in prop::collection::vec((0u32..1 << 12, 22u8..=32), 0..4),
            host in 0u32..1 << 12,
        ) {
            let address = |n: u32| std::net::Ipv4Addr::from(0x0a50_0000 + n);
            let net = |n, len| IpNet::new(address(n).into(), len).unwrap().trunc();
            let whole = net(0, length);
            let except: Vec<IpNet> = except.into_iter().map(|(n, len)| net(n, len)).collect();
            let mut left = vec![];
            without(whole, &except, &mut left);
            let host = std::net::IpAddr::from(address(host));
            let wanted = whole.contains(&host) && !except.iter().any(|e| e.contains(&host));
            prop_assert_eq!(left.iter().filter(|n| n.contains(&host)).count(), usize::from(wanted));
        }
    }
}
