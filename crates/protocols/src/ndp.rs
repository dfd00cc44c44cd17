//! Router advertisements (RFC 4861 4.2) with what a captive network says of itself (RFC 8910 2.3), and the solicitations that ask for them.
//! The kernel fills the checksum in.

use std::net::Ipv6Addr;

/// ICMPv6 types (RFC 4861 4.1, 4.2).
const SOLICITATION: u8 = 133;
const ADVERTISEMENT: u8 = 134;
/// The longest address of option 37: it counts in units of eight octets, and has one octet for that.
pub const PORTAL_MAX: usize = 255 * 8 - 2;
/// How long addresses of a prefix are good, and preferred, in seconds (RFC 4861 6.2.1).
const VALID_S: u32 = 86_400;
const PREFERRED_S: u32 = 14_400;

/// What a router says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Advertisement {
    /// For how many seconds it is a default router.
    pub lifetime_s: u16,
    /// Whether more than addresses is to be had by DHCPv6.
    pub other_by_dhcp: bool,
    /// Prefixes of 64 bits, of which machines make their addresses.
    pub prefixes: Vec<Ipv6Addr>,
    /// Resolvers (RFC 8106 5.1).
    pub resolvers: Vec<Ipv6Addr>,
    /// Where a machine's system asks how it stands.
    pub portal: String,
}

/// Why something is no advertisement that could be sent.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotSent {
    #[error("the address of the portal is longer than {PORTAL_MAX} octets")]
    Portal,
    #[error("at most 32 prefixes and 32 resolvers are advertised")]
    Many,
}

impl Advertisement {
    /// The message, with no checksum yet.
    ///
    /// # Errors
    /// It does not fit.
    pub fn octets(&self) -> Result<Vec<u8>, NotSent> {
        if self.portal.len() > PORTAL_MAX {
            return Err(NotSent::Portal);
        }
        if self.prefixes.len() > 32 || self.resolvers.len() > 32 {
            return Err(NotSent::Many);
        }
        let mut out = vec![ADVERTISEMENT, 0, 0, 0, 64, if self.other_by_dhcp { 0x40 } else { 0 }];
        out.extend(self.lifetime_s.to_be_bytes());
        // Reachable time and retransmission: not said.
        out.extend([0; 8]);
        // The hardware address may be left out (RFC 4861 4.2): machines ask for it as for any other.
        for prefix in &self.prefixes {
            // On this link, and for machines to make addresses of.
            out.extend([3, 4, 64, 0xc0]);
            out.extend(VALID_S.to_be_bytes());
            out.extend(PREFERRED_S.to_be_bytes());
            out.extend([0; 4]);
            let mut whole = prefix.octets();
            whole[8..].fill(0);
            out.extend(whole);
        }
        if !self.resolvers.is_empty() {
            out.extend([25, 1 + 2 * self.resolvers.len() as u8, 0, 0]);
            out.extend(u32::from(self.lifetime_s).to_be_bytes());
            self.resolvers.iter().for_each(|r| out.extend(r.octets()));
        }
        if !self.portal.is_empty() {
            let units = (2 + self.portal.len()).div_ceil(8);
            out.extend([37, units as u8]);
            out.extend(self.portal.as_bytes());
            out.resize(out.len() + units * 8 - 2 - self.portal.len(), 0);
        }
        Ok(out)
    }
}

/// Whether a message asks for an advertisement.
pub fn is_solicitation(octets: &[u8]) -> bool {
    octets.len() >= 8 && octets[0] == SOLICITATION && octets[1] == 0
}

/// The captive portal's address in an advertisement; none where it has none, or is none.
pub fn portal_of(octets: &[u8]) -> Option<String> {
    if octets.first() != Some(&ADVERTISEMENT) {
        return None;
    }
    let mut rest = octets.get(16..)?;
    while let [kind, units, ..] = *rest {
        // One without length would be read for ever.
        if units == 0 {
            return None;
        }
        let option = rest.get(..usize::from(units) * 8)?;
        if kind == 37 {
            let text = &option[2..];
            let end = text.iter().position(|b| *b == 0).unwrap_or(text.len());
            return String::from_utf8(text[..end].to_vec()).ok();
        }
        rest = &rest[option.len()..];
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    fn said() -> Advertisement {
        Advertisement {
            lifetime_s: 1_800,
            other_by_dhcp: true,
            prefixes: vec!["fd70:70::1".parse().unwrap()],
            resolvers: vec!["fd70:70::1".parse().unwrap()],
            portal: "https://yard.example/.passeur/captive".into(),
        }
    }

    #[test]
    fn an_advertisement_is_as_the_standards_draw_it() {
        let octets = said().octets().unwrap();
        let hex: String = octets.iter().map(|b| format!("{b:02x}")).collect();
        let expected = [
            "86000000",                                         // type, code, checksum
            "40400708",                                         // hop limit, O, 1800 s
            "0000000000000000",                                 // reachable, retransmission
            "030440c0000151800000384000000000",                 // prefix: 64, L and A, a day, four hours
            "fd700070000000000000000000000000",                 // the prefix itself
            "1903000000000708fd700070000000000000000000000001", // a resolver
            "2505",                                             // option 37, five units of eight
        ];
        assert!(hex.starts_with(&expected.concat()), "{hex}");
        assert_eq!(octets.len() % 8, 0);
        assert_eq!(portal_of(&octets).as_deref(), Some("https://yard.example/.passeur/captive"));
    }

    #[test]
    fn every_length_of_an_address_fits_its_option_and_none_that_does_not() {
        for length in 1..=PORTAL_MAX {
            let octets = Advertisement { portal: "a".repeat(length), ..said() }.octets().unwrap();
            assert_eq!((octets.len() % 8, portal_of(&octets).unwrap().len()), (0, length));
        }
        let long = Advertisement { portal: "a".repeat(PORTAL_MAX + 1), ..said() };
        assert_eq!(long.octets(), Err(NotSent::Portal));
        let many = Advertisement { resolvers: vec![Ipv6Addr::LOCALHOST; 33], ..said() };
        assert_eq!(many.octets(), Err(NotSent::Many));
    }

    #[test]
    fn what_is_cut_short_or_lies_about_its_length_is_read_as_nothing() {
        let octets = said().octets().unwrap();
        for end in 0..octets.len() {
            assert_eq!(portal_of(&octets[..end]), None, "{end}");
        }
        let mut zero = octets.clone();
        zero[17] = 0;
        assert_eq!(portal_of(&zero), None, "an option without length would be read for ever");
        assert!(is_solicitation(&[133, 0, 0, 0, 0, 0, 0, 0]));
        for no in [&[][..], &[133, 0, 0, 0], &[134, 0, 0, 0, 0, 0, 0, 0], &[133, 1, 0, 0, 0, 0, 0, 0]] {
            assert!(!is_solicitation(no), "{no:?}");
        }
    }
}
