//! What a browser sends where it is asked to negotiate (RFC 4559): a token of SPNEGO (RFC 4178) with a ticket in it, or something
//! else, told apart so that an engineer learns what came instead.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

use super::der::{OCTETS, OID, SEQUENCE, each, field, universal};
use super::token::{SPNEGO, Ticket, is_kerberos, unwrap};

/// The longest token that is read, in bytes: a ticket with the groups of somebody who is in very many.
pub const TOKEN_MAX: usize = 48 << 10;
/// The most mechanisms that are read of one offer.
const MECHANISMS_MAX: usize = 16;
const NTLM: &[u8] = b"NTLMSSP\0";
/// NTLM's own identifier within SPNEGO.
const NTLM_OID: &[u8] = &[0x2b, 0x06, 0x01, 0x04, 0x01, 0x82, 0x37, 0x02, 0x02, 0x0a];

/// What was sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Shown {
    /// A ticket, and the token it came in.
    Ticket { ticket: Box<Ticket>, token: Vec<u8> },
    /// NTLM: the machine found no way to a ticket, or is in no realm.
    Ntlm,
    /// An offer of other mechanisms, by their object identifiers.
    Other { mechanisms: Vec<String> },
    /// A later round of a negotiation that nobody here began.
    Later,
    /// Nothing that can be read; where it stopped.
    Unreadable(&'static str),
}

impl Shown {
    /// Reads the value of an Authorization field; none where it is of another scheme.
    pub fn read(field: &[u8]) -> Option<Shown> {
        let text = std::str::from_utf8(field).ok()?;
        let (scheme, rest) = text.split_once(' ').unwrap_or((text, ""));
        if scheme.eq_ignore_ascii_case("ntlm") {
            return Some(Shown::Ntlm);
        }
        if !scheme.eq_ignore_ascii_case("negotiate") {
            return None;
        }
        let rest = rest.trim();
        if rest.len() > TOKEN_MAX * 4 / 3 + 4 {
            return Some(Shown::Unreadable("too-long"));
        }
        Some(match STANDARD.decode(rest) {
            Ok(token) if token.is_empty() => Shown::Unreadable("empty"),
            Ok(token) => Shown::of_token(token),
            Err(_) => Shown::Unreadable("not-base64"),
        })
    }

    /// Reads a token.
    pub fn of_token(token: Vec<u8>) -> Shown {
        if token.starts_with(NTLM) {
            return Shown::Ntlm;
        }
        // NegTokenResp (RFC 4178 4.2.2) stands bare.
        if token.first() == Some(&0xa1) {
            return Shown::Later;
        }
        let Some((oid, inner)) = unwrap(&token) else { return Shown::Unreadable("no-token") };
        let ticket = match oid {
            oid if is_kerberos(oid) => Ticket::read(&token),
            SPNEGO => match offered(inner) {
                Some(Offer { first: Some(first), .. }) if first.starts_with(NTLM) => return Shown::Ntlm,
                Some(Offer { first: Some(first), mechanisms }) if mechanisms.first().is_some_and(|m| is_kerberos(m)) => {
                    Ticket::read(first)
                }
                Some(Offer { mechanisms, .. }) if mechanisms.iter().all(|m| *m == NTLM_OID) && !mechanisms.is_empty() => {
                    return Shown::Ntlm;
                }
                Some(Offer { mechanisms, .. }) => {
                    return Shown::Other { mechanisms: mechanisms.into_iter().map(dotted).collect() };
                }
                None => return Shown::Unreadable("no-offer"),
            },
            other => return Shown::Other { mechanisms: vec![dotted(other)] },
        };
        match ticket {
            Some(ticket) => Shown::Ticket { ticket: Box::new(ticket), token },
            None => Shown::Unreadable("no-ticket"),
        }
    }
}

/// What a NegTokenInit offers (RFC 4178 4.2.1).
struct Offer<'a> {
    mechanisms: Vec<&'a [u8]>,
    /// The token of the first of them.
    first: Option<&'a [u8]>,
}

fn offered(inner: &[u8]) -> Option<Offer<'_>> {
    let inside = universal(field(inner, 0)?, SEQUENCE)?;
    let list = universal(field(inside, 0)?, SEQUENCE)?;
    let mechanisms: Vec<&[u8]> = each(list).take(MECHANISMS_MAX).filter(|e| e.tag == OID).map(|e| e.data).collect();
    let first = field(inside, 2).and_then(|t| universal(t, OCTETS));
    Some(Offer { mechanisms, first })
}

/// An object identifier as it is written with dots.
fn dotted(oid: &[u8]) -> String {
    let mut parts: Vec<u64> = vec![];
    let mut part = 0u64;
    for byte in oid.iter().take(64) {
        part = part.checked_shl(7).unwrap_or(0) | u64::from(byte & 0x7f);
        if byte & 0x80 == 0 {
            match parts.is_empty() {
                true => parts.extend([(part / 40).min(2), part - (part / 40).min(2) * 40]),
                false => parts.push(part),
            }
            part = 0;
        }
    }
    parts.iter().map(u64::to_string).collect::<Vec<_>>().join(".")
}
