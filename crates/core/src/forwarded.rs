//! Where a request came from, when proxies stand in front: `Forwarded` (RFC 7239) or `X-Forwarded-For`, believed hop by
//! hop. The connection's own address is certain; each further hop is believed only when the one that names it is trusted.
//!
//! The site names the one field that its proxies write. Most write one and pass the other on as it came: whoever believed both
//! would let anybody choose their own address.

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

/// The field in which a site's proxies say where a request came from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ProxyField {
    /// `Forwarded` (RFC 7239).
    Forwarded,
    XForwardedFor,
}

impl ProxyField {
    /// Every field that a proxy may write.
    pub const ALL: [ProxyField; 2] = [ProxyField::Forwarded, ProxyField::XForwardedFor];

    /// The field's name, in lower case.
    pub fn name(self) -> &'static str {
        match self {
            ProxyField::Forwarded => "forwarded",
            ProxyField::XForwardedFor => "x-forwarded-for",
        }
    }

    /// The one that is not believed.
    pub fn other(self) -> ProxyField {
        match self {
            ProxyField::Forwarded => ProxyField::XForwardedFor,
            ProxyField::XForwardedFor => ProxyField::Forwarded,
        }
    }
}

/// Proxies in front of us, and how they say where a request came from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Proxies {
    /// Their addresses and networks.
    pub networks: Vec<IpNet>,
    pub write: ProxyField,
}

/// Whether an address is one of these networks.
pub fn is_trusted(address: IpAddr, trusted: &[IpNet]) -> bool {
    trusted.iter().any(|n| n.contains(&address))
}

/// The way of a request that no proxy is believed about.
pub fn direct(peer: IpAddr) -> Way {
    Way(vec![peer])
}

/// The way of a request from the connection's address and the values, in order, of the field that the site's proxies write.
pub fn way<'v>(peer: IpAddr, proxies: &Proxies, values: impl Iterator<Item = &'v [u8]>) -> Way {
    let trusted = &proxies.networks;
    if !is_trusted(peer, trusted) {
        return direct(peer);
    }
    let mut way = vec![peer];
    let mut claimed: Vec<Option<IpAddr>> = vec![];
    for value in values {
        // A byte that is no text spoils the hop it stands in, and none that a proxy wrote after it.
        for part in String::from_utf8_lossy(value).split(',') {
            claimed.push(match proxies.write {
                ProxyField::Forwarded => element(part),
                ProxyField::XForwardedFor => node(part.trim()),
            });
        }
    }
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
        use ProxyField::{Forwarded, XForwardedFor};
        let networks: Vec<IpNet> = vec!["10.0.0.0/8".parse().unwrap(), "2001:db8::/32".parse().unwrap()];
        for (peer, write, values, want) in [
            ("192.0.2.1", Forwarded, &["for=1.1.1.1"][..], &["192.0.2.1"][..]),
            ("192.0.2.1", XForwardedFor, &["1.1.1.1"], &["192.0.2.1"]),
            ("10.0.0.1", XForwardedFor, &[], &["10.0.0.1"]),
            ("10.0.0.1", XForwardedFor, &["198.51.100.7"], &["198.51.100.7", "10.0.0.1"]),
            ("10.0.0.1", XForwardedFor, &["6.6.6.6, 198.51.100.7"], &["198.51.100.7", "10.0.0.1"]),
            ("10.0.0.1", XForwardedFor, &["6.6.6.6", "198.51.100.7, 10.0.0.2"], &["198.51.100.7", "10.0.0.2", "10.0.0.1"]),
            ("10.0.0.1", Forwarded, &["for=198.51.100.7;proto=https"], &["198.51.100.7", "10.0.0.1"]),
            ("10.0.0.1", Forwarded, &["For=\"[2001:db9::7]:4711\""], &["2001:db9::7", "10.0.0.1"]),
            ("10.0.0.1", Forwarded, &["for=unknown, for=10.0.0.2"], &["10.0.0.2", "10.0.0.1"]),
            ("10.0.0.1", Forwarded, &["for=_hidden"], &["10.0.0.1"]),
            ("10.0.0.1", Forwarded, &["for=1.1.1.1;for=2.2.2.2"], &["10.0.0.1"]),
            ("10.0.0.1", XForwardedFor, &["198.51.100.7:9"], &["198.51.100.7", "10.0.0.1"]),
            ("10.0.0.1", XForwardedFor, &["garbage"], &["10.0.0.1"]),
            ("10.0.0.1", XForwardedFor, &["gärbage, 198.51.100.7"], &["198.51.100.7", "10.0.0.1"]),
            ("2001:db8::1", XForwardedFor, &["::ffff:198.51.100.7"], &["198.51.100.7", "2001:db8::1"]),
        ] {
            let proxies = Proxies { networks: networks.clone(), write };
            let got = way(ip(peer), &proxies, values.iter().map(|v| v.as_bytes()));
            assert_eq!(got.hops(), want.iter().map(|a| ip(a)).collect::<Vec<_>>(), "{peer} {write:?} {values:?}");
        }
        let (proxies, long) = (Proxies { networks, write: XForwardedFor }, vec!["10.0.0.9"; 100].join(","));
        assert_eq!(way(ip("10.0.0.1"), &proxies, [long.as_bytes()].into_iter()).hops().len(), HOPS_MAX + 1);
        // What a client put before a proxy's word, in bytes that are no text.
        let raw = [&b"\xff\xfe, 198.51.100.7"[..]];
        assert_eq!(way(ip("10.0.0.1"), &proxies, raw.into_iter()).client(), ip("198.51.100.7"));
    }

    proptest! {
        #[test]
        fn nobody_untrusted_is_ever_believed(claims in prop::collection::vec("[0-9.,:a-f= ;\"\\[\\]for]{0,40}", 0..4)) {
            for write in ProxyField::ALL {
                let proxies = Proxies { networks: vec!["10.0.0.0/8".parse().unwrap()], write };
                let got = way(ip("192.0.2.1"), &proxies, claims.iter().map(|c| c.as_bytes()));
                prop_assert_eq!(got.client(), ip("192.0.2.1"));
            }
        }
    }
}
