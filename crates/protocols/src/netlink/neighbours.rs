//! Which hardware address an address on a link belongs to, as the kernel found by ARP (RFC 826) and neighbour discovery (RFC 4861);
//! rtnetlink(7), RTM_GETNEIGH. Reading and watching need no privilege.

use std::net::IpAddr;

use super::{DUMP, Malformed, REQUEST, Told, Writer, address, attributes, told};

/// The groups that are told of each neighbour that comes, changes or goes (RTMGRP_NEIGH).
pub const GROUPS: u32 = 4;

const NEW: u16 = 28;
const GONE: u16 = 29;
const GET: u16 = 30;
/// NUD_INCOMPLETE, NUD_FAILED and NUD_NOARP: nothing answers there, or nothing was asked.
const UNKNOWN: u16 = 0x01 | 0x20 | 0x40;

/// A neighbour on a link.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Neighbour {
    /// The number of the interface.
    pub interface: u32,
    pub address: IpAddr,
    /// None while nothing answers there.
    pub hardware: Option<[u8; 6]>,
}

/// What the kernel says of neighbours.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Heard {
    Neighbour(Neighbour),
    Gone(Neighbour),
}

/// Asks for every neighbour of both families.
pub fn ask(sequence: u32) -> Vec<u8> {
    let mut w = Writer::default();
    w.message(GET, REQUEST | DUMP, sequence, |w| w.0.extend([0; 12]));
    w.0
}

/// Reads what came from the socket. Families that are not of IP, and links without six-octet addresses, are left out.
///
/// # Errors
/// It is cut short or says lengths that it does not have.
pub fn read(octets: &[u8]) -> Result<Vec<Told<Heard>>, Malformed> {
    told(octets, |message| {
        if !matches!(message.kind, NEW | GONE) {
            return Ok(None);
        }
        let head: &[u8; 12] = message.body.first_chunk().ok_or(Malformed::Short(message.kind))?;
        let state = u16::from_ne_bytes([head[8], head[9]]);
        let all = attributes(&message.body[12..])?;
        let value = |kind| all.iter().find(|(k, _)| *k == kind).map(|(_, v)| *v);
        let Some(address) = value(1).and_then(address) else { return Ok(None) };
        let hardware = value(2).and_then(|v| <[u8; 6]>::try_from(v).ok()).filter(|_| state & UNKNOWN == 0);
        let interface = u32::from_ne_bytes([head[4], head[5], head[6], head[7]]);
        let neighbour = Neighbour { interface, address, hardware };
        Ok(Some(if message.kind == NEW { Heard::Neighbour(neighbour) } else { Heard::Gone(neighbour) }))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn wire(kind: u16, state: u16, address: &[u8], hardware: &[u8]) -> Vec<u8> {
        let mut w = Writer::default();
        w.message(kind, 2, 1, |w| {
            w.0.extend([2, 0, 0, 0]);
            w.0.extend(7u32.to_ne_bytes());
            w.0.extend(state.to_ne_bytes());
            w.0.extend([0, 1]);
            w.attribute(1, address);
            w.attribute(2, hardware);
        });
        w.0
    }

    #[test]
    fn a_neighbour_has_a_hardware_address_only_while_something_answers() {
        let mac = [2, 0, 0, 0, 0, 9];
        let of = |octets: &[u8]| read(octets).unwrap();
        let known = Neighbour { interface: 7, address: IpAddr::from([10, 70, 0, 9]), hardware: Some(mac) };
        assert_eq!(of(&wire(NEW, 0x02, &[10, 70, 0, 9], &mac)), [Told::One(Heard::Neighbour(known.clone()))]);
        let silent = Neighbour { hardware: None, ..known.clone() };
        assert_eq!(of(&wire(NEW, 0x20, &[10, 70, 0, 9], &mac)), [Told::One(Heard::Neighbour(silent))]);
        assert_eq!(of(&wire(GONE, 0x02, &[10, 70, 0, 9], &mac)), [Told::One(Heard::Gone(known))]);
        // Not of IP, and not of six octets.
        assert_eq!(of(&wire(NEW, 0x02, &[1, 2, 3], &mac)), []);
        let six = read(&wire(NEW, 0x02, &[0xfd; 16], &[1, 2])).unwrap();
        assert!(matches!(&six[..], [Told::One(Heard::Neighbour(n))] if n.hardware.is_none()), "{six:?}");
    }

    proptest! {
        #[test]
        fn nothing_that_comes_makes_reading_panic(octets in proptest::collection::vec(any::<u8>(), 0..200)) {
            let _ = read(&octets);
        }
    }
}
