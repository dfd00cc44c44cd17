//! What a gate of kind `network` has: the zones it guards, what is accepted before it opens, and machines that no person sits at.

use std::fmt;

use chrono::NaiveDate;

/// Networks that open after sign-in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OpenNetwork {
    /// Names of the zones it guards.
    pub zones: Vec<String>,
    /// Names of RADIUS clients that are entrances of it; only of kind `vpn`.
    pub radius: Vec<String>,
    /// What people accept before the network opens to them.
    pub terms: Option<TermsOfUse>,
    /// How many machines a person may have at once, where no rule says.
    pub devices: u16,
    /// What happens with one more.
    pub when_full: WhenFull,
    /// Machines that no person sits at.
    pub machines: Vec<Machine>,
    /// The secret that holds the gate's own authority, which certifies personal profiles; only of kind `vpn`.
    pub authority: Option<String>,
}

/// Terms of use, of one version.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TermsOfUse {
    /// Changing it makes everybody accept anew.
    pub version: String,
    pub text: String,
    /// The text for who reads French; the other one unless set.
    pub text_fr: Option<String>,
}

/// What happens when a person comes with one machine too many.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WhenFull {
    /// The new one is refused, with words that say so.
    Refuse,
    /// The one that was used last longest ago goes.
    EndOldest,
}

impl WhenFull {
    /// With the words of a site file.
    pub const WORDS: [(&'static str, WhenFull); 2] = [("refuse", WhenFull::Refuse), ("end-oldest", WhenFull::EndOldest)];
}

/// A machine without a person: it is let in by its hardware address, which anybody on the link can copy.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Machine {
    pub name: String,
    pub hardware: HardwareAddress,
    /// Who answers for it.
    pub owner: String,
    pub purpose: String,
    /// The last day on which it is let in.
    pub until: NaiveDate,
    /// Names of what it may reach.
    pub reach: Vec<String>,
}

/// A hardware address of one machine (IEEE 802 EUI-48).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct HardwareAddress(pub [u8; 6]);

impl HardwareAddress {
    /// From six pairs of hexadecimal digits with colons or hyphens between. None for anything else, and for addresses that mean several
    /// machines or none.
    pub fn parse(text: &str) -> Option<HardwareAddress> {
        let separator = if text.contains('-') { '-' } else { ':' };
        let mut octets = [0u8; 6];
        let mut parts = text.split(separator);
        for octet in &mut octets {
            let part = parts.next().filter(|p| p.len() == 2 && p.bytes().all(|b| b.is_ascii_hexdigit()))?;
            *octet = u8::from_str_radix(part, 16).ok()?;
        }
        let one = parts.next().is_none() && octets[0] & 1 == 0 && octets != [0; 6];
        one.then_some(HardwareAddress(octets))
    }

    /// From the ways in which switches and access points write one: twelve hexadecimal digits, with hyphens, colons, dots or nothing between
    /// (RFC 3580 section 3.20 has hyphens; some add the name of a network behind a colon, which is left to them).
    pub fn of_any(text: &str) -> Option<HardwareAddress> {
        let digits: String = text.chars().filter(|c| !matches!(c, ':' | '-' | '.')).collect();
        if digits.len() != 12 || !digits.is_ascii() || text.len() > 17 {
            return None;
        }
        let pairs: Vec<&str> = (0..6).filter_map(|n| digits.get(2 * n..2 * n + 2)).collect();
        HardwareAddress::parse(&pairs.join(":"))
    }

    /// Whether it was made up by the machine itself, as phones do for each network (the locally administered bit).
    pub fn is_made_up(self) -> bool {
        self.0[0] & 2 != 0
    }
}

impl fmt::Display for HardwareAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [a, b, c, d, e, g] = self.0;
        write!(f, "{a:02x}:{b:02x}:{c:02x}:{d:02x}:{e:02x}:{g:02x}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn switches_write_hardware_addresses_in_many_ways() {
        for text in ["00:1b:44:11:3a:b7", "00-1B-44-11-3A-B7", "001b44113ab7", "001b.4411.3ab7", "001B44-113AB7"] {
            assert_eq!(HardwareAddress::of_any(text).map(|h| h.to_string()).as_deref(), Some("00:1b:44:11:3a:b7"), "{text}");
        }
        for text in ["", "anouk", "001b44113ab", "001b44113ab7f", "0011b44113ab7é", "ffffffffffff", "0-0-1-b-4-4-1-1-3-a-b-7"] {
            assert_eq!(HardwareAddress::of_any(text), None, "{text}");
        }
    }

    #[test]
    fn only_the_address_of_one_machine_is_a_hardware_address() {
        for (text, wanted) in [
            ("00:1b:44:11:3a:b7", Some("00:1b:44:11:3a:b7")),
            ("00-1B-44-11-3A-B7", Some("00:1b:44:11:3a:b7")),
            ("02:00:00:00:00:01", Some("02:00:00:00:00:01")),
            ("01:00:5e:00:00:01", None),
            ("ff:ff:ff:ff:ff:ff", None),
            ("00:00:00:00:00:00", None),
            ("00:1b:44:11:3a", None),
            ("00:1b:44:11:3a:b7:00", None),
            ("0:1b:44:11:3a:b7", None),
            ("00:1b:44-11:3a:b7", None),
            ("+0:1b:44:11:3a:b7", None),
            ("", None),
        ] {
            assert_eq!(HardwareAddress::parse(text).map(|a| a.to_string()).as_deref(), wanted, "{text}");
        }
        assert!(HardwareAddress([2, 0, 0, 0, 0, 1]).is_made_up() && !HardwareAddress([0, 1, 2, 3, 4, 5]).is_made_up());
    }
}
