//! The outside of a ticket, as anybody on the way may read it: which service it is for, and by which of its keys it is sealed.

use chrono::{DateTime, Utc};

use super::der::{OCTETS, OID, SEQUENCE, application, each, field, first, integer, text, time, universal};
use super::principal::Principal;

/// Object identifiers in DER (RFC 4121 1, RFC 4178 A, and the one that an early client counts as Kerberos).
pub(super) const KERBEROS: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x12, 0x01, 0x02, 0x02];
pub(super) const KERBEROS_EARLY: &[u8] = &[0x2a, 0x86, 0x48, 0x82, 0xf7, 0x12, 0x01, 0x02, 0x02];
pub(super) const SPNEGO: &[u8] = &[0x2b, 0x06, 0x01, 0x05, 0x05, 0x02];
/// What stands before an AP-REQ (RFC 4121 4.1).
const AP_REQ: &[u8] = &[0x01, 0x00];

/// A ticket as it was shown (AP-REQ, RFC 4120 5.5.1).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ticket {
    /// The service it is for.
    pub service: Principal,
    /// By which kind of key it is sealed.
    pub enctype: i32,
    /// The version of that key; none where the KDC does not say.
    pub kvno: Option<u32>,
    /// The ticket itself, in DER.
    pub der: Vec<u8>,
    /// What proves that whoever shows it may, still encrypted: its enctype and bytes. Another one for each time.
    pub proof: (i32, Vec<u8>),
}

/// The outside of a ticket by itself (RFC 4120 5.3): for which service, and by which of its keys it is sealed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Outside {
    pub service: Principal,
    pub enctype: i32,
    pub kvno: Option<u32>,
}

impl Outside {
    /// Reads a Ticket.
    pub fn read(der: &[u8]) -> Option<Outside> {
        let inside = universal(application(der, 1)?, SEQUENCE)?;
        let realm = text(field(inside, 1)?)?;
        let name = universal(field(inside, 2)?, SEQUENCE)?;
        let components: Option<Vec<String>> = each(universal(field(name, 1)?, SEQUENCE)?).map(|e| text(e.whole)).collect();
        let components = components.filter(|c| (1..=8).contains(&c.len()))?;
        let (enctype, kvno, _) = encrypted(field(inside, 3)?)?;
        Some(Outside { service: Principal { components, realm }, enctype, kvno })
    }
}

/// What a proof holds (Authenticator, RFC 4120 5.5.1).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Proof {
    /// By whose clock it was made, and when.
    pub made: DateTime<Utc>,
}

impl Proof {
    /// Reads an Authenticator.
    pub fn read(der: &[u8]) -> Option<Proof> {
        let inside = universal(application(der, 2)?, SEQUENCE)?;
        Some(Proof { made: time(field(inside, 5)?)? })
    }
}

/// Takes off the wrapping of a first token (RFC 2743 3.1): the mechanism, and what it is given.
pub(super) fn unwrap(bytes: &[u8]) -> Option<(&[u8], &[u8])> {
    let (oid, rest) = first(application(bytes, 0)?)?;
    (oid.tag == OID).then_some((oid.data, rest))
}

pub(super) fn is_kerberos(oid: &[u8]) -> bool {
    oid == KERBEROS || oid == KERBEROS_EARLY
}

impl Ticket {
    /// Reads what Kerberos is given, wrapped as the first token of it.
    pub fn read(token: &[u8]) -> Option<Ticket> {
        let (_, inner) = unwrap(token).filter(|(oid, _)| is_kerberos(oid))?;
        Ticket::of_request(inner.strip_prefix(AP_REQ)?)
    }

    /// Reads an AP-REQ (RFC 4120 5.5.1).
    fn of_request(der: &[u8]) -> Option<Ticket> {
        let inside = universal(application(der, 14)?, SEQUENCE)?;
        if (integer(field(inside, 0)?)?, integer(field(inside, 1)?)?) != (5, 14) {
            return None;
        }
        let wrapped = field(inside, 3)?;
        let (ticket, _) = first(wrapped)?;
        let Outside { service, enctype, kvno } = Outside::read(wrapped)?;
        let (of_proof, _, cipher) = encrypted(field(inside, 4)?)?;
        Some(Ticket { service, enctype, kvno, der: ticket.whole.to_vec(), proof: (of_proof, cipher.to_vec()) })
    }
}

/// EncryptedData (RFC 4120 5.2.9): enctype, key version, bytes.
fn encrypted(bytes: &[u8]) -> Option<(i32, Option<u32>, &[u8])> {
    let inside = universal(bytes, SEQUENCE)?;
    let enctype = i32::try_from(integer(field(inside, 0)?)?).ok()?;
    let kvno = match field(inside, 1) {
        // Some KDCs write large versions as negative numbers.
        Some(v) => Some(integer(v)? as u32),
        None => None,
    };
    Some((enctype, kvno, universal(field(inside, 2)?, OCTETS)?))
}
