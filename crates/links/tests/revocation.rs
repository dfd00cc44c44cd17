//! What authorities say of certificates (RFC 5280 section 5, RFC 6960), read from answers that another implementation made on 2026-12-01 for an
//! authority of these tests: its laptop has the serial number 0A17, and each answer counts for a day.

use chrono::{DateTime, Duration, Utc};
use passeur_links::revocation::{List, Says, answer, question};

const CA: &[u8] = include_bytes!("revocation/ca.der");
/// An authority of the same name with another key.
const OTHER: &[u8] = include_bytes!("revocation/other.der");
const GOOD: &[u8] = include_bytes!("revocation/good.der");
const REVOKED: &[u8] = include_bytes!("revocation/revoked.der");
/// Signed by somebody whom the authority has answer, and by a laptop of the same authority.
const DELEGATE: &[u8] = include_bytes!("revocation/delegate.der");
const LEAF: &[u8] = include_bytes!("revocation/leaf.der");
/// Of somebody who knows nothing of the laptop.
const UNKNOWN: &[u8] = include_bytes!("revocation/unknown.der");
/// The laptop is on it.
const LIST: &[u8] = include_bytes!("revocation/list.der");
const LAPTOP: &[u8] = &[0x0a, 0x17];

fn then() -> DateTime<Utc> {
    // 2026-12-02T00:00:00Z
    DateTime::from_timestamp(1_796_169_600, 0).unwrap_or_default()
}

fn says(der: &[u8], authority: &[u8], serial: &[u8], now: DateTime<Utc>) -> Result<Says, String> {
    answer(der, authority, serial, now).map(|w| w.says)
}

#[test]
fn an_answer_counts_where_the_authority_or_whom_it_has_answer_signed_it_for_this_certificate_and_moment() {
    let now = then();
    assert_eq!(says(GOOD, CA, LAPTOP, now), Ok(Says::Good));
    assert_eq!(says(REVOKED, CA, LAPTOP, now), Ok(Says::Revoked));
    assert_eq!(says(DELEGATE, CA, LAPTOP, now), Ok(Says::Good));
    for (der, authority, serial, now, why) in [
        (LEAF, CA, LAPTOP, now, "neither the authority nor anybody whom it has answer signed"),
        (GOOD, OTHER, LAPTOP, now, "neither the authority nor anybody"),
        (GOOD, CA, &[0x0a, 0x18][..], now, "about another certificate"),
        (UNKNOWN, CA, LAPTOP, now, "it knows nothing of this certificate"),
        (GOOD, CA, LAPTOP, now + Duration::days(2), "of another time"),
        (GOOD, CA, LAPTOP, now - Duration::days(2), "of another time"),
        (&GOOD[..GOOD.len() - 1], CA, LAPTOP, now, "cannot be read"),
        (b"", CA, LAPTOP, now, "cannot be read"),
        (b"<html>", CA, LAPTOP, now, "cannot be read"),
        (GOOD, b"no certificate", LAPTOP, now, "cannot be read"),
    ] {
        let found = says(der, authority, serial, now);
        assert!(found.as_ref().is_err_and(|e| e.contains(why)), "{why}: {found:?}");
    }
    assert!(question(CA, LAPTOP).is_some_and(|q| q.len() > 60) && question(b"no certificate", LAPTOP).is_none());
}

#[test]
fn no_changed_octet_makes_a_revoked_certificate_good() {
    for at in 0..REVOKED.len() {
        for flip in [1u8, 0x80, 0xff] {
            let mut der = REVOKED.to_vec();
            der[at] ^= flip;
            assert_ne!(says(&der, CA, LAPTOP, then()), Ok(Says::Good), "octet {at} ^ {flip}");
        }
    }
    for at in 0..LIST.len() {
        let mut der = LIST.to_vec();
        der[at] ^= 1;
        let found = List::read(&der, CA, then()).and_then(|l| l.says(LAPTOP));
        assert_ne!(found, Ok(Says::Good), "octet {at}");
    }
}

#[test]
fn a_list_counts_where_the_authority_signed_it_and_until_it_says() {
    let list = List::read(LIST, CA, then()).unwrap();
    assert_eq!((list.says(LAPTOP), list.says(&[0x0b])), (Ok(Says::Revoked), Ok(Says::Good)));
    for (der, authority, now, why) in [
        (LIST, OTHER, then(), "the authority did not sign the list"),
        (LIST, CA, then() + Duration::days(2), "out of date since 2026-12-02"),
        (LIST, CA, then() - Duration::days(2), "of a time that has not come"),
        (GOOD, CA, then(), "cannot be used"),
        (b"", CA, then(), "cannot be used"),
    ] {
        let found = List::read(der, authority, now).map(|l| l.until);
        assert!(found.as_ref().is_err_and(|e| e.contains(why)), "{why}: {found:?}");
    }
    let long = [LIST, b"x"].concat();
    assert!(List::read(&long, CA, then()).is_err());
}
