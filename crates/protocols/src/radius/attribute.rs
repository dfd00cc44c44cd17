//! Attributes (RFC 2865 section 5): a number with up to 253 octets.

use std::net::{Ipv4Addr, Ipv6Addr};

/// An attribute.
#[derive(Clone, PartialEq, Eq)]
pub struct Attribute {
    pub kind: u8,
    pub value: Vec<u8>,
}

/// A password may be among them.
impl std::fmt::Debug for Attribute {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match Kind::of(self.kind) {
            Some(kind) if kind.is_secret() => write!(f, "{kind:?}(…)"),
            Some(kind) => write!(f, "{kind:?}({})", self.value.escape_ascii()),
            None => write!(f, "{}({})", self.kind, self.value.escape_ascii()),
        }
    }
}

macro_rules! kinds {
    ($($name:ident = $number:literal $says:literal;)*) => {
        /// Attributes that are known here, by their standard names without hyphens.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
        pub enum Kind { $(#[doc = $says] $name,)* }

        impl Kind {
            /// All of them.
            pub const ALL: &[Kind] = &[$(Kind::$name),*];

            /// Of a number.
            pub fn of(number: u8) -> Option<Kind> {
                match number { $($number => Some(Kind::$name),)* _ => None }
            }

            /// Its number.
            pub fn number(self) -> u8 {
                match self { $(Kind::$name => $number,)* }
            }

            /// Its name in the standard.
            pub fn name(self) -> &'static str {
                match self { $(Kind::$name => $says,)* }
            }
        }
    };
}

kinds! {
    UserName = 1 "User-Name";
    UserPassword = 2 "User-Password";
    ChapPassword = 3 "CHAP-Password";
    NasIpAddress = 4 "NAS-IP-Address";
    NasPort = 5 "NAS-Port";
    ServiceType = 6 "Service-Type";
    FramedIpAddress = 8 "Framed-IP-Address";
    FilterId = 11 "Filter-Id";
    ReplyMessage = 18 "Reply-Message";
    FramedRoute = 22 "Framed-Route";
    State = 24 "State";
    Class = 25 "Class";
    VendorSpecific = 26 "Vendor-Specific";
    SessionTimeout = 27 "Session-Timeout";
    IdleTimeout = 28 "Idle-Timeout";
    CalledStationId = 30 "Called-Station-Id";
    CallingStationId = 31 "Calling-Station-Id";
    NasIdentifier = 32 "NAS-Identifier";
    ProxyState = 33 "Proxy-State";
    AcctStatusType = 40 "Acct-Status-Type";
    AcctDelayTime = 41 "Acct-Delay-Time";
    AcctInputOctets = 42 "Acct-Input-Octets";
    AcctOutputOctets = 43 "Acct-Output-Octets";
    AcctSessionId = 44 "Acct-Session-Id";
    AcctSessionTime = 46 "Acct-Session-Time";
    AcctTerminateCause = 49 "Acct-Terminate-Cause";
    AcctMultiSessionId = 50 "Acct-Multi-Session-Id";
    AcctInputGigawords = 52 "Acct-Input-Gigawords";
    AcctOutputGigawords = 53 "Acct-Output-Gigawords";
    EventTimestamp = 55 "Event-Timestamp";
    ChapChallenge = 60 "CHAP-Challenge";
    NasPortType = 61 "NAS-Port-Type";
    TunnelType = 64 "Tunnel-Type";
    TunnelMediumType = 65 "Tunnel-Medium-Type";
    EapMessage = 79 "EAP-Message";
    MessageAuthenticator = 80 "Message-Authenticator";
    TunnelPrivateGroupId = 81 "Tunnel-Private-Group-ID";
    AcctInterimInterval = 85 "Acct-Interim-Interval";
    NasPortId = 87 "NAS-Port-Id";
    NasFilterRule = 92 "NAS-Filter-Rule";
    NasIpv6Address = 95 "NAS-IPv6-Address";
    FramedIpv6Prefix = 97 "Framed-IPv6-Prefix";
    ErrorCause = 101 "Error-Cause";
    FramedIpv6Address = 168 "Framed-IPv6-Address";
}

/// The most octets of a value (RFC 2865 section 5).
const VALUE_MAX: usize = 253;
/// Tunnel-Type of a VLAN (RFC 3580 section 3.31).
pub const TUNNEL_VLAN: u32 = 13;
/// Tunnel-Medium-Type of IEEE 802 (RFC 3580 section 3.31).
pub const TUNNEL_802: u32 = 6;

impl Kind {
    /// Whether its value is a secret, or proves one.
    pub fn is_secret(self) -> bool {
        matches!(self, Kind::UserPassword | Kind::ChapPassword | Kind::ChapChallenge | Kind::EapMessage | Kind::State)
    }
}

impl Attribute {
    /// Of octets.
    pub fn octets(kind: Kind, value: impl Into<Vec<u8>>) -> Attribute {
        Attribute { kind: kind.number(), value: value.into() }
    }

    /// Of a number of 32 bits.
    pub fn number(kind: Kind, value: u32) -> Attribute {
        Attribute::octets(kind, value.to_be_bytes())
    }

    /// Of an IPv4 address.
    pub fn v4(kind: Kind, value: Ipv4Addr) -> Attribute {
        Attribute::octets(kind, value.octets())
    }

    /// Of an IPv6 address.
    pub fn v6(kind: Kind, value: Ipv6Addr) -> Attribute {
        Attribute::octets(kind, value.octets())
    }

    /// The three that put somebody into a VLAN (RFC 3580 section 3.31), with the tag that holds them together (RFC 2868).
    pub fn vlan(name: &str) -> [Attribute; 3] {
        let tagged = |kind, value: u32| {
            let mut octets = value.to_be_bytes();
            octets[0] = 0;
            Attribute::octets(kind, octets)
        };
        [
            tagged(Kind::TunnelType, TUNNEL_VLAN),
            tagged(Kind::TunnelMediumType, TUNNEL_802),
            Attribute::octets(Kind::TunnelPrivateGroupId, name.as_bytes()),
        ]
    }

    /// Filter rules (RFC 4849 section 2): all of them are one text, a NUL between two, which is cut wherever an attribute is full.
    pub fn filters(rules: &[String]) -> Vec<Attribute> {
        let text = rules.join("\0");
        text.as_bytes().chunks(VALUE_MAX).map(|part| Attribute::octets(Kind::NasFilterRule, part)).collect()
    }

    /// Of a vendor's own (RFC 2865 section 5.26): its number, the attribute's, and the value.
    pub fn vendor(vendor: u32, kind: u8, value: &[u8]) -> Option<Attribute> {
        let length = u8::try_from(value.len() + 2).ok().filter(|l| *l > 2 && usize::from(*l) <= 249)?;
        let octets = [&vendor.to_be_bytes()[..], &[kind, length], value].concat();
        Some(Attribute::octets(Kind::VendorSpecific, octets))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_have_numbers_and_names_of_their_own() {
        let mut numbers: Vec<u8> = Kind::ALL.iter().map(|k| k.number()).collect();
        assert!(Kind::ALL.iter().all(|k| Kind::of(k.number()) == Some(*k)));
        numbers.sort_unstable();
        numbers.dedup();
        assert_eq!(numbers.len(), Kind::ALL.len());
    }

    #[test]
    fn passwords_are_not_shown_and_other_octets_are_shown_as_text() {
        let shown =
            format!("{:?}", [Attribute::octets(Kind::UserPassword, *b"tide"), Attribute::octets(Kind::UserName, *b"an\x1bna")]);
        assert_eq!(shown, "[UserPassword(…), UserName(an\\x1bna)]");
    }

    #[test]
    fn filter_rules_are_one_text_over_as_many_attributes_as_it_takes() {
        let rules: Vec<String> = (0..9).map(|n| format!("permit in 6 from any to 10.80.{n}.0/24 443")).collect();
        let said = Attribute::filters(&rules);
        assert_eq!(said.iter().map(|a| (a.kind, a.value.len())).collect::<Vec<_>>(), [(92, 253), (92, 115)]);
        let text = said.iter().flat_map(|a| a.value.clone()).collect::<Vec<_>>();
        assert_eq!(String::from_utf8(text).unwrap().split('\0').collect::<Vec<_>>(), rules);
        assert!(Attribute::filters(&[]).is_empty());
    }

    #[test]
    fn a_vlan_is_three_attributes_and_a_vendors_own_stands_within_one() {
        let vlan = Attribute::vlan("crews");
        assert_eq!(vlan[0].value, [0, 0, 0, 13]);
        assert_eq!(vlan[1].value, [0, 0, 0, 6]);
        assert_eq!(vlan[2].value, b"crews");
        assert_eq!(Attribute::vendor(311, 7, b"x").unwrap().value, [0, 0, 1, 55, 7, 3, b'x']);
        assert!(Attribute::vendor(311, 7, &[0; 247]).is_some());
        assert!(Attribute::vendor(311, 7, &[0; 248]).is_none() && Attribute::vendor(311, 7, &[]).is_none());
    }
}
