//! Gateways, switches and access points that ask by RADIUS (RFC 2865): who they are, and which attributes an answer may carry.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::sync::Arc;

use chrono::Duration;
use ipnet::IpNet;

use crate::step::Lang;

/// A RADIUS client: an entrance of a gate of kind `vpn` whose tunnels, ports or cells are not ours.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RadiusClient {
    pub name: String,
    /// What people read.
    pub title: String,
    /// Where it sends from.
    pub addresses: Vec<IpNet>,
    /// What proves that it is this one.
    pub proof: RadiusProof,
    pub takes: Vec<RadiusAsks>,
    /// The way in by whose word it names people whom it signed in itself.
    pub way: Option<String>,
    /// How often it tells what passes.
    pub interim: Duration,
    /// The port at which it takes orders to end or change a session (RFC 5176); none where it takes none.
    pub orders: Option<u16>,
}

/// What proves that a packet is of a RADIUS client.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RadiusProof {
    /// A secret that both share, by its name: each packet is proven with it (RFC 2865).
    Secret(String),
    /// A certificate, over TLS: the connection proves what it carries (RFC 6614, RFC 9765).
    Certificate(Arc<RadiusCertificate>),
}

/// Which certificates are a RADIUS client's.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RadiusCertificate {
    /// These, in DER.
    pub own: Vec<Vec<u8>>,
    /// Those of one of these authorities, in DER, that name the host.
    pub authorities: Vec<Vec<u8>>,
    pub host: Option<String>,
}

/// What a RADIUS client may ask.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RadiusAsks {
    /// Whether a name and a password are somebody's who may come in (RFC 2865 section 5.2).
    Password,
    /// Whether somebody whom it signed in itself may come in (Service-Type Authorize-Only, RFC 5176 section 3.2 and RFC 2865 section 5.6).
    AuthorizeOnly,
    /// Whether a machine may come in, by its hardware address (Service-Type Call-Check, RFC 2865 section 5.6).
    Machine,
}

impl RadiusAsks {
    /// With the words of a site file.
    pub const WORDS: [(&'static str, RadiusAsks); 3] =
        [("password", RadiusAsks::Password), ("authorize-only", RadiusAsks::AuthorizeOnly), ("machine", RadiusAsks::Machine)];

    /// The word of a site file.
    pub fn word(self) -> &'static str {
        match self {
            RadiusAsks::Password => "password",
            RadiusAsks::AuthorizeOnly => "authorize-only",
            RadiusAsks::Machine => "machine",
        }
    }
}

impl RadiusClient {
    /// Whether it sends from an address.
    pub fn sends_from(&self, address: IpAddr) -> bool {
        let address = address.to_canonical();
        self.addresses.iter().any(|n| n.contains(&address))
    }

    /// The name of the secret that both share; none where it has a certificate.
    pub fn secret(&self) -> Option<&str> {
        match &self.proof {
            RadiusProof::Secret(name) => Some(name),
            RadiusProof::Certificate(_) => None,
        }
    }

    /// Its certificates; none where it shares a secret.
    pub fn certificate(&self) -> Option<&Arc<RadiusCertificate>> {
        match &self.proof {
            RadiusProof::Secret(_) => None,
            RadiusProof::Certificate(of) => Some(of),
        }
    }

    /// Where it sends from, in words: a single address stands without its prefix.
    pub fn senders(&self) -> String {
        let one = |n: &IpNet| if n.prefix_len() == n.max_prefix_len() { n.addr().to_string() } else { n.to_string() };
        self.addresses.iter().map(one).collect::<Vec<_>>().join(", ")
    }

    /// In a sentence: from where it asks, and about what.
    pub fn sentence(&self, lang: Lang) -> String {
        let from = self.senders();
        let what = |a: &RadiusAsks| match (a, lang) {
            (RadiusAsks::Password, Lang::En) => "names and passwords",
            (RadiusAsks::Password, Lang::Fr) => "noms et mots de passe",
            (RadiusAsks::AuthorizeOnly, Lang::En) => "people whom it signed in itself",
            (RadiusAsks::AuthorizeOnly, Lang::Fr) => "personnes qu'il a connectées lui-même",
            (RadiusAsks::Machine, Lang::En) => "machines by their hardware addresses",
            (RadiusAsks::Machine, Lang::Fr) => "machines par leur adresse matérielle",
        };
        let asks = self.takes.iter().map(what).collect::<Vec<_>>();
        let by = match (self.certificate().is_some(), lang) {
            (false, _) => "RADIUS",
            (true, Lang::En) => "RADIUS over TLS",
            (true, Lang::Fr) => "RADIUS sur TLS",
        };
        match lang {
            Lang::En => format!("asks by {by}, from {from}, about {}", asks.join(" and ")),
            Lang::Fr => format!("demande par {by}, depuis {from} : {}", asks.join(" et ")),
        }
    }

    /// Whether it may ask something.
    pub fn may_ask(&self, what: RadiusAsks) -> bool {
        self.takes.contains(&what)
    }
}

/// How the value of an attribute is written (RFC 2865 section 5, RFC 3162, RFC 6911).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RadiusValue {
    /// Text of up to 253 octets; what a vendor's attribute holds is six octets shorter.
    Text,
    /// A number of 32 bits.
    Number,
    /// An IPv4 address.
    Address,
    /// An IPv6 address.
    Address6,
    /// The name or number of a VLAN, which travels as three attributes (RFC 3580 section 3.31).
    Vlan,
    /// A filter rule (RFC 4849): several travel as one text, cut wherever an attribute is full.
    Filter,
}

impl RadiusValue {
    /// With the words of a site file, for vendors' attributes.
    pub const WORDS: [(&'static str, RadiusValue); 4] = [
        ("text", RadiusValue::Text),
        ("number", RadiusValue::Number),
        ("address", RadiusValue::Address),
        ("address6", RadiusValue::Address6),
    ];
}

/// Where an attribute stands in a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RadiusPlace {
    /// Under its own number.
    Own(u8),
    /// Within Vendor-Specific: the vendor's number, and the attribute's there.
    Vendor(u32, u8),
}

/// An attribute that an answer may carry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RadiusAttribute {
    pub name: String,
    pub place: RadiusPlace,
    pub value: RadiusValue,
    /// Whether an answer may carry it more than once (RFC 2865 section 5.44).
    pub repeats: bool,
}

/// Attributes of the standards that a delivery may name: name, number, how it is written, whether it repeats. The lifetimes, Class and the
/// proofs of a packet are not among them: these the service sets itself.
pub const RADIUS_ATTRIBUTES: [(&str, u8, RadiusValue, bool); 9] = [
    ("Framed-IP-Address", 8, RadiusValue::Address, false),
    ("Filter-Id", 11, RadiusValue::Text, true),
    ("Reply-Message", 18, RadiusValue::Text, true),
    ("Framed-Route", 22, RadiusValue::Text, true),
    ("NAS-Filter-Rule", 92, RadiusValue::Filter, true),
    ("Framed-Pool", 88, RadiusValue::Text, false),
    ("Framed-IPv6-Route", 99, RadiusValue::Text, true),
    ("Framed-IPv6-Address", 168, RadiusValue::Address6, true),
    ("VLAN", 81, RadiusValue::Vlan, false),
];

/// The most filter rules of an answer: with many it would be longer than a packet (RFC 2865 section 3).
pub const RADIUS_FILTERS_MAX: usize = 60;
/// The most octets of all filter rules of an answer, which has 4,096 for everything.
pub const RADIUS_FILTER_OCTETS: usize = 3_000;

/// Whether a text is a filter rule as far as it can be told without the gateway: an action, a direction, a protocol, and two ends (RFC 6733
/// section 4.3.1).
fn is_filter_rule(text: &str) -> bool {
    let words: Vec<&str> = text.split(' ').collect();
    let (is_action, is_direction) = (|w: &str| ["permit", "deny"].contains(&w), |w: &str| ["in", "out"].contains(&w));
    let is_protocol = |w: &str| w == "ip" || w.parse::<u8>().is_ok();
    match words.as_slice() {
        [action, direction, protocol, "from", ends @ ..] => {
            let to = ends.iter().position(|w| *w == "to");
            let two = to.is_some_and(|at| at > 0 && at + 1 < ends.len());
            is_action(action) && is_direction(direction) && is_protocol(protocol) && two
        }
        _ => false,
    }
}

impl RadiusAttribute {
    /// An attribute of a standard, by its name there, in any case.
    pub fn standard(name: &str) -> Option<RadiusAttribute> {
        let of = RADIUS_ATTRIBUTES.iter().find(|(n, ..)| n.eq_ignore_ascii_case(name));
        of.map(|(name, number, value, repeats)| RadiusAttribute {
            name: (*name).to_owned(),
            place: RadiusPlace::Own(*number),
            value: *value,
            repeats: *repeats,
        })
    }

    /// What values it takes, as the rest of a remedy.
    pub fn takes(&self) -> String {
        match self.value {
            RadiusValue::Number => "a number from 0 to 4294967295".to_owned(),
            RadiusValue::Address => "an IPv4 address".to_owned(),
            RadiusValue::Address6 => "an IPv6 address".to_owned(),
            RadiusValue::Filter => {
                "a rule such as \"permit in 6 from any to 10.80.4.0/24 443\" (RFC 6733 section 4.3.1)".to_owned()
            }
            RadiusValue::Text | RadiusValue::Vlan => format!("a text of at most {} octets", self.longest()),
        }
    }

    /// The most octets that a text may have.
    pub fn longest(&self) -> usize {
        match (self.place, self.value) {
            (RadiusPlace::Vendor(..), _) => 247,
            // One octet may be taken for a tag.
            (_, RadiusValue::Vlan) => 252,
            (RadiusPlace::Own(_), _) => 253,
        }
    }

    /// What of a text is sent; none where it cannot be sent in this attribute. A text that is too long is cut where `cuts` says so.
    pub fn fit(&self, text: &str, cuts: bool) -> Option<String> {
        match self.value {
            RadiusValue::Number => text.trim().parse::<u32>().ok().map(|n| n.to_string()),
            RadiusValue::Address => text.trim().parse::<Ipv4Addr>().ok().map(|a| a.to_string()),
            RadiusValue::Address6 => text.trim().parse::<Ipv6Addr>().ok().map(|a| a.to_string()),
            RadiusValue::Filter => {
                let is_one = is_filter_rule(text) && text.len() <= self.longest() && text.chars().all(|c| !c.is_control());
                is_one.then(|| text.to_owned())
            }
            RadiusValue::Text | RadiusValue::Vlan => {
                let most = self.longest();
                if text.is_empty() || (text.len() > most && !cuts) || text.contains('\0') {
                    return None;
                }
                let end = text.floor_char_boundary(most);
                // A VLAN is told apart from a tag by its first octet (RFC 2868 section 3.6).
                let is_tagged = self.value == RadiusValue::Vlan && text.as_bytes().first().is_some_and(|b| *b <= 0x1f);
                (!is_tagged).then(|| text.get(..end).map(str::to_owned)).flatten()
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_that_does_not_fit_is_not_sent_or_cut_between_characters() {
        let of = |name: &str| RadiusAttribute::standard(name).unwrap();
        let long = "é".repeat(127);
        let fit = |name: &str, text: &str, cuts| of(name).fit(text, cuts);
        assert_eq!(fit("filter-id", "crews", false).as_deref(), Some("crews"));
        assert_eq!(fit("Filter-Id", &long, false), None);
        assert_eq!(fit("Filter-Id", &long, true).unwrap(), "é".repeat(126));
        for (name, good, bad) in [
            ("Framed-IP-Address", "10.0.0.7", "10.0.0"),
            ("Framed-IPv6-Address", "fd71::7", "10.0.0.7"),
            ("VLAN", "crews", "\u{1}crews"),
            ("NAS-Filter-Rule", "permit in 6 from any to 10.80.4.0/24 443", "permit tcp from any to 10.80.4.0/24"),
            ("NAS-Filter-Rule", "deny out ip from 10.0.0.0/8 to any", "deny out ip from to any"),
            ("NAS-Filter-Rule", "deny in ip from any to any", "deny in ip from any to any\0"),
            ("Reply-Message", "come in", ""),
        ] {
            assert_eq!(fit(name, good, false).as_deref(), Some(good), "{name}");
            assert_eq!(fit(name, bad, true), None, "{name}");
        }
        let vendors = RadiusAttribute { place: RadiusPlace::Vendor(14_988, 8), ..of("Filter-Id") };
        assert_eq!((vendors.fit(&"x".repeat(247), false).is_some(), vendors.fit(&"x".repeat(248), false)), (true, None));
        let number = RadiusAttribute { value: RadiusValue::Number, ..vendors };
        assert_eq!((number.fit("4294967295", false).as_deref(), number.fit("4294967296", true)), (Some("4294967295"), None));
        assert!(RadiusAttribute::standard("Class").is_none() && RadiusAttribute::standard("Message-Authenticator").is_none());
    }
}
