//! Every finding of Kerberos, provoked on a harbour whose keys, names, clocks and accounts are in order.

use chrono::Duration;
use passeur_core::survey::*;

use crate::harbour::{SITE, read};

const REALM: &str = "HAVRELUNE.EXAMPLE";
const SIGN_IN: &str = "HTTP/pass.havrelune.localhost@HAVRELUNE.EXAMPLE";
const GATEWAY: &str = "HTTP/gateway.havrelune.localhost@HAVRELUNE.EXAMPLE";
const LOCKS: &str = "HTTP/lockhouse.havrelune.localhost@HAVRELUNE.EXAMPLE";

fn key(principal: &str, kvno: u32, enctype: i32) -> KeyFacts {
    let enctype_name = if enctype == 23 { "rc4-hmac" } else { "aes256-cts-hmac-sha1-96" }.to_owned();
    KeyFacts { principal: principal.into(), kvno, enctype, enctype_name, weak: enctype == 23, written: None }
}

fn keytab(secret: &str, keys: Vec<KeyFacts>) -> KeytabFacts {
    KeytabFacts { secret: secret.into(), version: 1, needed_by: vec!["way in ticket".into()], keys: Ok(keys) }
}

fn sealed(kvno: u32, enctype: i32) -> ServiceFound {
    ServiceFound::Sealed { kvno: Some(kvno), enctype, enctype_name: "aes256-cts-hmac-sha384-192".into() }
}

/// Kerberos in order.
pub fn sound() -> KerberosFacts {
    let realm = |realm: &str, answer| RealmFacts { realm: realm.into(), answer, refused: vec![] };
    let answered = KdcAnswer::Answered { by: SIGN_IN.into(), ahead: Duration::seconds(-2) };
    KerberosFacts {
        keytabs: vec![
            keytab("harbour-keytab", vec![key(SIGN_IN, 2, 18), key(SIGN_IN, 3, 18)]),
            keytab("gateway-keytab", vec![key(GATEWAY, 1, 18)]),
        ],
        realms: vec![realm(REALM, answered), realm("AGENTS.EXAMPLE", KdcAnswer::Alive)],
        services: vec![
            ServiceFacts { service: SIGN_IN.into(), of: ServiceOf::Way("ticket".into()), found: sealed(3, 18) },
            ServiceFacts { service: LOCKS.into(), of: ServiceOf::Gate("locks".into()), found: sealed(7, 20) },
        ],
        accounts: vec![AccountFacts { gate: "locks".into(), account: GATEWAY.into(), service: LOCKS.into(), answer: Ok(()) }],
        offers: vec![OfferFacts {
            gate: "locks".into(),
            address: "http://127.0.0.1:8647".into(),
            status: 401,
            schemes: vec!["Basic realm=\"x\"".into(), "Negotiate".into()],
        }],
        hosts: vec![HostFacts { host: "pass.havrelune.localhost".into(), canonical: Some("pass.havrelune.localhost".into()) }],
        config: vec![],
    }
}

fn keys(f: &mut Facts) -> &mut Vec<KeyFacts> {
    f.kerberos.keytabs[0].keys.as_mut().unwrap()
}

fn ahead(f: &mut Facts, seconds: i64) {
    f.kerberos.realms[0].answer = KdcAnswer::Answered { by: SIGN_IN.into(), ahead: Duration::seconds(seconds) };
}

fn line(dead: bool) -> ConfigFacts {
    ConfigFacts { place: "/etc/krb5.conf:7".into(), words: "there is no setting default-realm".into(), dead }
}

type Provoke = (Code, String, fn(&mut Facts));

/// What provokes each code.
pub fn provocations() -> Vec<Provoke> {
    let same = |code: Code, change: fn(&mut Facts)| (code, SITE.to_owned(), change);
    vec![
        same(Code::KeytabUnusable, |f| f.kerberos.keytabs[0].keys = Err("it is cut off or damaged at byte 2".into())),
        same(Code::NoKeyOf, |f| keys(f).clear()),
        same(Code::NoService, |f| f.kerberos.services[1].found = ServiceFound::Unknown),
        same(Code::KeyVersion, |f| f.kerberos.services[0].found = sealed(4, 18)),
        same(Code::KeyEnctype, |f| f.kerberos.services[0].found = sealed(3, 20)),
        same(Code::KeyDiffers, |f| f.kerberos.realms[0].refused = vec![(SIGN_IN.into(), "Preauthentication failed".into())]),
        same(Code::AccountCannot, |f| {
            f.kerberos.accounts[0].answer = Err(AccountTrouble::Own("Preauthentication failed".into()))
        }),
        same(Code::ActsForNobody, |f| f.kerberos.accounts[0].answer = Err(AccountTrouble::ForNobody)),
        same(Code::NotAllowedTo, |f| f.kerberos.accounts[0].answer = Err(AccountTrouble::NotAllowed)),
        same(Code::KdcSilent, |f| {
            f.kerberos.realms[1].answer = KdcAnswer::Silent("Cannot contact any KDC for realm 'AGENTS.EXAMPLE'".into())
        }),
        same(Code::KdcClock, |f| ahead(f, -301)),
        same(Code::KdcClockDrifts, |f| ahead(f, 61)),
        same(Code::NotOffered, |f| drop(f.kerberos.offers[0].schemes.pop())),
        same(Code::ConfigBroken, |f| f.kerberos.config = vec![line(false)]),
        same(Code::ConfigLine, |f| f.kerberos.config = vec![line(true)]),
        same(Code::WeakKeys, |f| keys(f).push(key(SIGN_IN, 3, 23))),
        same(Code::HostAlias, |f| f.kerberos.hosts[0].canonical = Some("front.havrelune.example".into())),
        same(Code::KeysUnused, |f| keys(f).push(key("host/pass.havrelune.localhost@HAVRELUNE.EXAMPLE", 1, 18))),
    ]
}

fn told(change: impl Fn(&mut KerberosFacts)) -> Vec<Code> {
    let mut facts = sound();
    change(&mut facts);
    survey_kerberos(&read(SITE), &facts).iter().map(|f| f.code).collect()
}

#[test]
fn keys_are_compared_with_what_the_kdc_seals_by() {
    let found = |kvno, enctype| told(|f| f.services[0].found = ServiceFound::Sealed { kvno, enctype, enctype_name: "x".into() });
    // A key that stands by already, and one that is still there of before.
    assert_eq!(found(Some(2), 18), []);
    assert_eq!(found(Some(3), 18), []);
    // A KDC that tells no version leaves the kind to compare.
    assert_eq!(found(None, 18), []);
    assert_eq!(found(None, 20), [Code::KeyEnctype]);
    assert_eq!(found(Some(1), 18), [Code::KeyVersion]);
    // The key of an application is its own affair.
    assert_eq!(told(|f| f.services[1].found = sealed(99, 23)), []);
    // What could not be asked is no finding by itself.
    assert_eq!(told(|f| f.services[0].found = ServiceFound::NotAsked("no key".into())), []);
    // A key of the same host in another realm is no key of this one.
    let other = "HTTP/pass.havrelune.localhost@AGENTS.EXAMPLE";
    let all = told(|f| f.keytabs[0].keys = Ok(vec![key(other, 3, 18)]));
    assert_eq!(all, [Code::NoKeyOf], "{all:?}");
}

#[test]
fn clocks_are_told_before_they_do_harm() {
    for (seconds, wanted) in [
        (0, None),
        (60, None),
        (-60, None),
        (61, Some(Code::KdcClockDrifts)),
        (-300, Some(Code::KdcClockDrifts)),
        (301, Some(Code::KdcClock)),
    ] {
        let all = told(|f| f.realms[0].answer = KdcAnswer::Answered { by: SIGN_IN.into(), ahead: Duration::seconds(seconds) });
        assert_eq!(all.first().copied(), wanted, "{seconds}");
    }
}

#[test]
fn an_alias_is_no_harm_where_its_own_name_is_taken_too() {
    let alias = |f: &mut KerberosFacts| f.hosts[0].canonical = Some("front.havrelune.example".into());
    assert_eq!(told(alias), [Code::HostAlias]);
    let site = SITE.replacen(
        "password = true\n\n[[way.realm]]",
        "password = true\nhosts = [\"pass.havrelune.localhost\", \"front.havrelune.example\"]\n\n[[way.realm]]",
        1,
    );
    let mut facts = sound();
    alias(&mut facts);
    facts.keytabs[0].keys.as_mut().unwrap().push(key("HTTP/front.havrelune.example@HAVRELUNE.EXAMPLE", 1, 18));
    assert!(survey_kerberos(&read(&site), &facts).is_empty());
    // The name is taken, and no key opens what is shown.
    facts.keytabs[0].keys.as_mut().unwrap().pop();
    assert_eq!(survey_kerberos(&read(&site), &facts)[0].code, Code::HostAlias);
    assert_eq!(told(|f| f.hosts[0].canonical = None), []);
}

#[test]
fn an_application_offers_negotiate_in_any_spelling_and_need_not_on_a_page_for_everybody() {
    let offers = |status, scheme: &str| {
        told(|f| {
            f.offers[0].status = status;
            f.offers[0].schemes = vec![scheme.to_owned()];
        })
    };
    assert_eq!(offers(401, "negotiate"), []);
    assert_eq!(offers(401, "Basic realm=\"a\", Negotiate"), []);
    assert_eq!(offers(401, "Bearer"), [Code::NotOffered]);
    assert_eq!(offers(401, "X-Negotiated"), [Code::NotOffered]);
    assert_eq!(offers(200, ""), []);
}
