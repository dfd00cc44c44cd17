//! The harbour of Havrelune as evidence: what a provider and a directory would have said of a person.

use std::collections::BTreeMap;

use chrono::DateTime;
use passeur_core::Moment;
use passeur_core::circumstances::Circumstances;
use passeur_core::document::{Severity, compile};
use passeur_core::evidence::{Entry, Evidence, Factors, GroupFound, LookUp, LookUpState, UserInfo, WayIn};
use passeur_core::site::Site;
use serde_json::{Map, Value, json};

pub const SITE: &str = include_str!("../../../../demo/site.toml");

pub fn moment() -> Moment {
    DateTime::from_timestamp(1_800_000_000, 0).unwrap()
}

/// A plain request at that moment, from an address of the harbour's own.
pub fn now() -> Circumstances<'static> {
    Circumstances::at(moment()).from([10, 20, 0, 7].into())
}

/// The demo's site with one piece of its text replaced, which must be there.
pub fn site_with(old: &str, new: &str) -> Site {
    assert!(SITE.contains(old), "{old}");
    read(&SITE.replacen(old, new, 1))
}

pub fn site() -> Site {
    read(SITE)
}

pub fn read(text: &str) -> Site {
    let (site, findings) = compile(text);
    let errors: Vec<_> = findings.iter().filter(|f| f.severity == Severity::Error).collect();
    site.unwrap_or_else(|| panic!("{errors:#?}"))
}

fn object(value: Value) -> Map<String, Value> {
    value.as_object().cloned().unwrap_or_default()
}

/// A pilot with a second factor, a staff number, and nothing out of the ordinary.
pub fn anouk() -> Evidence {
    Evidence {
        claims: object(json!({"sub": "p-1001", "preferred_username": "anouk", "name": "Anouk Maren", "acr": "2"})),
        userinfo: UserInfo::Answered { claims: object(json!({"email": "anouk@havrelune.example"})) },
        factors: Factors { acr: Some("2".into()), amr: vec!["pwd".into(), "mfa".into()], auth_time: Some(moment()), own: vec![] },
        look_ups: vec![look_up(LookUpState::Answered { entry: entry(&[("pilots", None), ("berth-access", Some("pilots"))]) })],
        ..Evidence::of(WayIn::Oidc, "pilotage", "p-1001", "http://bureau-pilotage.localhost:8641")
    }
}

pub fn look_up(state: LookUpState) -> LookUp {
    LookUp {
        directory: "harbour".into(),
        key: "uid".into(),
        value: Some("anouk".into()),
        at: moment(),
        millis: 4,
        cached: false,
        tried: vec![],
        asked: None,
        state,
    }
}

/// An entry in these groups, each with the group it is in them through.
pub fn entry(groups: &[(&str, Option<&str>)]) -> Entry {
    Entry {
        dn: "uid=anouk,ou=people,dc=havrelune,dc=example".into(),
        attributes: BTreeMap::from([
            ("employeenumber".into(), vec!["4711".into()]),
            ("departmentnumber".into(), vec!["pilotage".into()]),
        ]),
        groups: groups
            .iter()
            .map(|(name, via)| GroupFound {
                name: (*name).into(),
                dn: format!("cn={name},ou=groups,dc=havrelune,dc=example"),
                via: via.map(str::to_owned),
            })
            .collect(),
        ..Entry::default()
    }
}

/// The same person in other groups.
pub fn in_groups(groups: &[&str]) -> Evidence {
    let groups: Vec<_> = groups.iter().map(|g| (*g, None)).collect();
    found(LookUpState::Answered { entry: entry(&groups) })
}

/// The same person, for whom the directory said this.
pub fn found(state: LookUpState) -> Evidence {
    Evidence { look_ups: vec![look_up(state)], ..anouk() }
}

/// Every way a look-up can end without an entry.
pub fn failures() -> Vec<LookUpState> {
    vec![
        LookUpState::NoEntry,
        LookUpState::Several { dns: vec!["uid=a".into(), "uid=b".into()] },
        LookUpState::BindRefused { detail: "invalid credentials".into() },
        LookUpState::Dead { detail: "no answer within 3 s".into() },
        LookUpState::NoKey { absence: "not-released".into() },
    ]
}

/// A document with changes, each of which has to find its place.
pub fn changed(mut document: String, change: &[(&str, &str)]) -> String {
    for (old, new) in change {
        assert!(document.contains(old), "{old}");
        document = document.replacen(old, new, 1);
    }
    document
}
