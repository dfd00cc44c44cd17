//! Where a request came from, when proxies stand in front: `Forwarded` (RFC 7239) and `X-Forwarded-For`, believed hop by
//! hop. The connection's own address is certain; each further hop is believed only when the one that names it is trusted.

use std::net::{IpAddr, SocketAddr};

use ipnet::IpNet;

/// The most hops that are looked at.
const HOPS_MAX: usize = 16;

/// The way a request came, from the client to the connection's own address. Never empty.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Way(Vec<IpAddr>);

impl Way {
    /// The client: the first address that no trusted proxy vouches beyond.
    pub fn client(&self) -> IpAddr {
        self.0[0]
    }

    /// Every hop from the client on.
    pub fn hops(&self) -> &[IpAddr] {
        &self.0
    }
}

/// Whether an address is one of these networks.
pub fn is_trusted(address: IpAddr, trusted: &[IpNet]) -> bool {
    trusted.iter().any(|n| n.contains(&address))
}

/// The way of a request from the connection's address and what its head says. `forwarded` and `x_forwarded_for` hold the
/// field values in order; where both are there, `Forwarded` counts, being the standard.
pub fn way(peer: IpAddr, trusted: &[IpNet], forwarded: &[&str], x_forwarded_for: &[&str]) -> Way {
    let mut way = vec![peer];
    if !is_trusted(peer, trusted) {
        return Way(way);
    }
    let claimed: Vec<Option<IpAddr>> = if forwarded.is_empty() {
        x_forwarded_for.iter().flat_map(|v| v.split(',')).map(|a| node(a.trim())).collect()
    } else {
        forwarded.iter().flat_map(|v| v.split(',')).map(element).collect()
    };
    for hop in claimed.into_iter().rev().take(HOPS_MAX) {
        // What is not an address (unknown, hidden, or a mistake) ends what can be believed.
        let Some(hop) = hop else { break };
        way.push(hop);
        if !is_trusted(hop, trusted) {
            break;
        }
    }
    way.reverse();
    Way(way)
}

/// The `for` of one element of `Forwarded` (RFC 7239 4).
fn element(text: &str) -> Option<IpAddr> {
    let mut found = text.split(';').filter_map(|pair| pair.split_once('=')).filter(|(k, _)| k.trim().eq_ignore_ascii_case("for"));
    let value = found.next()?.1.trim();
    if found.next().is_some() {
        return None;
    }
    node(value.strip_prefix('"').and_then(|v| v.strip_suffix('"')).unwrap_or(value))
}

/// An address with or without a port, IPv6 in brackets or bare.
fn node(text: &str) -> Option<IpAddr> {
    let bare = text.strip_prefix('[').and_then(|t| t.strip_suffix(']')).unwrap_or(text);
    bare.parse().ok().or_else(|| text.parse::<SocketAddr>().ok().map(|s| s.ip())).map(|a: IpAddr| a.to_canonical())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn ip(s: &str) -> IpAddr {
        s.parse().unwrap()
    }

    #[test]
    fn each_hop_is_believed_only_when_a_trusted_one_names_it() {
        let trusted: Vec<IpNet> = vec!["10.0.0.0/8".parse().unwrap(), "2001:db8::/32".parse().unwrap()];
        for (peer, forwarded, xff, want) in [
            ("192.0.2.1", &["for=1.1.1.1"][..], &["1.1.1.1"][..], &["192.0.2.1"][..]),
            ("10.0.0.1", &[], &[], &["10.0.0.1"]),
            ("10.0.0.1", &[], &["198.51.100.7"], &["198.51.100.7", "10.0.0.1"]),
            ("10.0.0.1", &[], &["6.6.6.6, 198.51.100.7"], &["198.51.100.7", "10.0.0.1"]),
            ("10.0.0.1", &[], &["6.6.6.6", "198.51.100.7, 10.0.0.2"], &["198.51.100.7", "10.0.0.2", "10.0.0.1"]),
            ("10.0.0.1", &["for=198.51.100.7;proto=https"], &["6.6.6.6"], &["198.51.100.7", "10.0.0.1"]),
            ("10.0.0.1", &["For=\"[2001:db9::7]:4711\""], &[], &["2001:db9::7", "10.0.0.1"]),
            ("10.0.0.1", &["for=unknown, for=10.0.0.2"], &[], &["10.0.0.2", "10.0.0.1"]),
            ("10.0.0.1", &["for=_hidden"], &[], &["10.0.0.1"]),
            ("10.0.0.1", &["for=1.1.1.1;for=2.2.2.2"], &[], &["10.0.0.1"]),
            ("10.0.0.1", &[], &["198.51.100.7:9"], &["198.51.100.7", "10.0.0.1"]),
            ("10.0.0.1", &[], &["garbage"], &["10.0.0.1"]),
            ("2001:db8::1", &[], &["::ffff:198.51.100.7"], &["198.51.100.7", "2001:db8::1"]),
        ] {
            let got = way(ip(peer), &trusted, forwarded, xff);
            assert_eq!(got.hops(), want.iter().map(|a| ip(a)).collect::<Vec<_>>(), "{peer} {forwarded:?} {xff:?}");
        }
        let long = vec!["10.0.0.9"; 100].join(",");
        assert_eq!(way(ip("10.0.0.1"), &trusted, &[], &[&long]).hops().len(), HOPS_MAX + 1);
    }

    proptest! {
        #[test]
        fn nobody_untrusted_is_ever_believed(claims in prop::collection::vec("[0-9.,:a-f= ;\"\\[\\]for]{0,40}", 0..4)) {
            let claims: Vec<&str> = claims.iter().map(String::as_str).collect();
            let got = way(ip("192.0.2.1"), &["10.0.0.0/8".parse().unwrap()], &claims, &claims);
            prop_assert_eq!(got.client(), ip("192.0.2.1"));
        }
    }
}
