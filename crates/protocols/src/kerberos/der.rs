//! The few pieces of DER (X.690) that tokens are made of. Everything borrows; nothing nests deeper than it is asked to.

use asn1_rs::{Any, Class, FromDer};

/// One element: its class, tag and what it holds.
pub(super) struct Element<'a> {
    pub(super) class: Class,
    pub(super) tag: u32,
    pub(super) data: &'a [u8],
    /// With its header.
    pub(super) whole: &'a [u8],
}

/// The first element of some bytes, and what follows it.
pub(super) fn first(bytes: &[u8]) -> Option<(Element<'_>, &[u8])> {
    let (rest, any) = Any::from_der(bytes).ok()?;
    let whole = bytes.get(..bytes.len() - rest.len())?;
    Some((Element { class: any.class(), tag: any.tag().0, data: any.data, whole }, rest))
}

/// The elements of a sequence's inside, each in turn; ends early at the first that is none.
pub(super) fn each(mut bytes: &[u8]) -> impl Iterator<Item = Element<'_>> {
    std::iter::from_fn(move || {
        let (element, rest) = first(bytes)?;
        bytes = rest;
        Some(element)
    })
}

/// What stands under an explicit tag [n] of a sequence's inside.
pub(super) fn field(inside: &[u8], n: u32) -> Option<&[u8]> {
    each(inside).find(|e| e.class == Class::ContextSpecific && e.tag == n).map(|e| e.data)
}

/// The inside of the universal element with this tag that these bytes begin with.
pub(super) fn universal(bytes: &[u8], tag: u32) -> Option<&[u8]> {
    first(bytes).filter(|(e, _)| e.class == Class::Universal && e.tag == tag).map(|(e, _)| e.data)
}

/// The inside of an application element.
pub(super) fn application(bytes: &[u8], tag: u32) -> Option<&[u8]> {
    first(bytes).filter(|(e, _)| e.class == Class::Application && e.tag == tag).map(|(e, _)| e.data)
}

pub(super) const INTEGER: u32 = 2;
pub(super) const OCTETS: u32 = 4;
pub(super) const OID: u32 = 6;
pub(super) const SEQUENCE: u32 = 16;
const GENERALIZED_TIME: u32 = 24;
const GENERAL_STRING: u32 = 27;

/// A whole number of at most 64 bits.
pub(super) fn integer(bytes: &[u8]) -> Option<i64> {
    let data = universal(bytes, INTEGER)?;
    if data.is_empty() || data.len() > 8 {
        return None;
    }
    let negative = data.first().is_some_and(|b| b & 0x80 != 0);
    Some(data.iter().fold(if negative { -1i64 } else { 0 }, |n, b| (n << 8) | i64::from(*b)))
}

/// A KerberosString (RFC 4120 5.2.1), which is of UTF-8 or refused.
pub(super) fn text(bytes: &[u8]) -> Option<String> {
    std::str::from_utf8(universal(bytes, GENERAL_STRING)?).ok().filter(|t| t.len() <= 1024).map(str::to_owned)
}

/// A KerberosTime (RFC 4120 5.2.3).
pub(super) fn time(bytes: &[u8]) -> Option<chrono::DateTime<chrono::Utc>> {
    let text = std::str::from_utf8(universal(bytes, GENERALIZED_TIME)?).ok()?;
    chrono::NaiveDateTime::parse_from_str(text, "%Y%m%d%H%M%SZ").ok().map(|t| t.and_utc())
}
