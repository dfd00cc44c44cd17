//! A packet (RFC 2865 section 3): code, identifier, length, authenticator, attributes.

use thiserror::Error;

use super::attribute::{Attribute, Kind};

/// The shortest packet, in octets: one without attributes.
pub const LENGTH_MIN: usize = 20;
/// The longest packet, in octets.
pub const LENGTH_MAX: usize = 4_096;
/// The most attributes that are read: no gateway sends so many.
const ATTRIBUTES_MAX: usize = 300;

/// What a packet is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Code {
    AccessRequest,
    AccessAccept,
    AccessReject,
    AccountingRequest,
    AccountingResponse,
    AccessChallenge,
    /// RFC 5997.
    StatusServer,
    /// RFC 5176.
    DisconnectRequest,
    DisconnectAck,
    DisconnectNak,
    CoaRequest,
    CoaAck,
    CoaNak,
}

impl Code {
    /// With their numbers.
    const ALL: [(u8, Code); 13] = [
        (1, Code::AccessRequest),
        (2, Code::AccessAccept),
        (3, Code::AccessReject),
        (4, Code::AccountingRequest),
        (5, Code::AccountingResponse),
        (11, Code::AccessChallenge),
        (12, Code::StatusServer),
        (40, Code::DisconnectRequest),
        (41, Code::DisconnectAck),
        (42, Code::DisconnectNak),
        (43, Code::CoaRequest),
        (44, Code::CoaAck),
        (45, Code::CoaNak),
    ];

    /// Of a number.
    pub fn of(number: u8) -> Option<Code> {
        Code::ALL.into_iter().find(|(n, _)| *n == number).map(|(_, c)| c)
    }

    /// Its number.
    pub fn number(self) -> u8 {
        Code::ALL.into_iter().find(|(_, c)| *c == self).map_or(0, |(n, _)| n)
    }
}

/// Why octets are no packet. None of them is answered (RFC 2865 section 3: silently discarded).
#[derive(Clone, Copy, Debug, Error, PartialEq, Eq)]
pub enum Malformed {
    #[error("it has {0} octets, and a packet has {LENGTH_MIN} to {LENGTH_MAX}")]
    Length(usize),
    #[error("its length field says {said}, and {came} octets came: a part was lost on the way")]
    Cut { said: usize, came: usize },
    #[error("its code {0} is none that is known")]
    Code(u8),
    #[error("an attribute at octet {0} is longer than what is left, or shorter than an attribute")]
    Attribute(usize),
    #[error("it has more than {ATTRIBUTES_MAX} attributes")]
    TooMany,
}

/// A packet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Packet {
    pub code: Code,
    /// By which an answer is told to belong to a request.
    pub id: u8,
    pub authenticator: [u8; 16],
    pub attributes: Vec<Attribute>,
}

impl Packet {
    /// Reads a datagram. What stands behind the length that it says is padding, and is left.
    ///
    /// # Errors
    /// It is no packet.
    pub fn read(datagram: &[u8]) -> Result<Packet, Malformed> {
        let came = datagram.len();
        let head: [u8; LENGTH_MIN] = datagram.get(..LENGTH_MIN).and_then(|h| h.try_into().ok()).ok_or(Malformed::Length(came))?;
        let said = usize::from(u16::from_be_bytes([head[2], head[3]]));
        if !(LENGTH_MIN..=LENGTH_MAX).contains(&said) {
            return Err(Malformed::Length(said));
        }
        let whole = datagram.get(..said).ok_or(Malformed::Cut { said, came })?;
        let code = Code::of(head[0]).ok_or(Malformed::Code(head[0]))?;
        let mut authenticator = [0; 16];
        authenticator.copy_from_slice(&head[4..]);
        let (mut attributes, mut at) = (vec![], LENGTH_MIN);
        while at < whole.len() {
            let length = whole.get(at + 1).copied().map_or(0, usize::from);
            // An attribute without a value says nothing, and no sender may write one (RFC 2865 section 5).
            let value = whole.get(at + 2..at + length).filter(|v| !v.is_empty()).ok_or(Malformed::Attribute(at))?;
            if attributes.len() >= ATTRIBUTES_MAX {
                return Err(Malformed::TooMany);
            }
            attributes.push(Attribute { kind: whole[at], value: value.to_vec() });
            at += length;
        }
        Ok(Packet { code, id: head[1], authenticator, attributes })
    }

    /// As it travels; none where it is longer than a packet may be, or a value longer than an attribute.
    pub fn wire(&self) -> Option<Vec<u8>> {
        let mut out = vec![self.code.number(), self.id, 0, 0];
        out.extend(self.authenticator);
        for a in &self.attributes {
            let length = u8::try_from(a.value.len() + 2).ok().filter(|l| *l > 2)?;
            out.extend([a.kind, length]);
            out.extend(&a.value);
        }
        let length = u16::try_from(out.len()).ok().filter(|l| usize::from(*l) <= LENGTH_MAX)?;
        out[2..4].copy_from_slice(&length.to_be_bytes());
        Some(out)
    }

    /// The first attribute of a kind.
    pub fn first(&self, kind: Kind) -> Option<&[u8]> {
        self.all(kind).next()
    }

    /// All attributes of a kind, in order.
    pub fn all(&self, kind: Kind) -> impl Iterator<Item = &[u8]> {
        self.attributes.iter().filter(move |a| a.kind == kind.number()).map(|a| a.value.as_slice())
    }

    /// The first attribute of a kind as text; none where it is none.
    pub fn text(&self, kind: Kind) -> Option<&str> {
        std::str::from_utf8(self.first(kind)?).ok()
    }

    /// The first attribute of a kind as a number of 32 bits.
    pub fn number(&self, kind: Kind) -> Option<u32> {
        Some(u32::from_be_bytes(self.first(kind)?.try_into().ok()?))
    }

    /// The addresses in attributes of a kind: of four octets IPv4, of sixteen IPv6. Others are passed over.
    pub fn addresses(&self, kind: Kind) -> impl Iterator<Item = std::net::IpAddr> {
        self.all(kind).filter_map(|v| {
            let v4 = <[u8; 4]>::try_from(v).map(std::net::IpAddr::from);
            v4.or_else(|_| <[u8; 16]>::try_from(v).map(std::net::IpAddr::from)).ok()
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn head(code: u8, length: u16) -> Vec<u8> {
        [&[code, 7][..], &length.to_be_bytes(), &[9; 16]].concat()
    }

    #[test]
    fn octets_that_are_no_packet_are_told_apart() {
        let mut many = head(1, 20 + 301 * 3);
        (0..301).for_each(|_| many.extend([1, 3, b'x']));
        for (octets, why) in [
            (vec![], Malformed::Length(0)),
            (vec![1; 19], Malformed::Length(19)),
            (head(1, 19), Malformed::Length(19)),
            (head(1, 4_097), Malformed::Length(4_097)),
            (head(1, 21), Malformed::Cut { said: 21, came: 20 }),
            (head(99, 20), Malformed::Code(99)),
            ([head(1, 21), vec![1]].concat(), Malformed::Attribute(20)),
            ([head(1, 22), vec![1, 0]].concat(), Malformed::Attribute(20)),
            ([head(1, 22), vec![1, 2]].concat(), Malformed::Attribute(20)),
            ([head(1, 23), vec![1, 4, 0]].concat(), Malformed::Attribute(20)),
            (many, Malformed::TooMany),
        ] {
            assert_eq!(Packet::read(&octets), Err(why));
        }
        let padded = [head(1, 23), vec![1, 3, b'a', 0xff, 0xff]].concat();
        assert_eq!(Packet::read(&padded).unwrap().attributes, [Attribute { kind: 1, value: vec![b'a'] }]);
    }

    #[test]
    fn what_is_too_long_is_not_written() {
        let of = |values: &[usize]| {
            let attributes = values.iter().map(|n| Attribute { kind: 18, value: vec![b'x'; *n] }).collect();
            Packet { code: Code::AccessAccept, id: 0, authenticator: [0; 16], attributes }.wire().map(|w| w.len())
        };
        assert_eq!(of(&[253]), Some(275));
        assert_eq!((of(&[254]), of(&[0])), (None, None));
        assert_eq!(of(&[253; 15]), Some(3_845));
        assert_eq!(of(&[253; 16]), Some(4_100).filter(|n| *n <= LENGTH_MAX));
    }

    proptest! {
        #[test]
        fn whatever_comes_is_read_or_refused_and_what_is_read_is_written_again(octets in prop::collection::vec(any::<u8>(), 0..200)) {
            if let Ok(packet) = Packet::read(&octets) {
                let wire = packet.wire().unwrap();
                prop_assert_eq!(&wire[..], &octets[..wire.len()]);
                prop_assert_eq!(Packet::read(&wire), Ok(packet));
            }
        }
    }
}
