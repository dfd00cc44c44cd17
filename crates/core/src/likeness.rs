//! Whether two sign-ins may be of one human being, for rules that ask for two of them. A person in records is who vouches for them and
//! what they are called there; somebody with two ways in is two such persons. What both are known by tells it: a mail address, an
//! entry of a directory, an account name, a name. It errs towards one: two people of one name are taken for one, never one for two.

use std::collections::BTreeSet;

use serde::Deserialize;
use serde_json::Value;

use crate::evidence::{Entry, Evidence, PersonKey};

/// The longest value that is compared as a mail address.
const ADDRESS_MAX: usize = 200;

/// What somebody is known by, in lower case.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(transparent)]
pub struct Likeness(BTreeSet<String>);

/// Claims that hold an account or a name of the person.
const NAMES: [&str; 9] = [
    "preferred_username",
    "upn",
    "name",
    "uid",
    "displayName",
    "cn",
    "urn:oid:0.9.2342.19200300.100.1.1",
    "urn:oid:2.16.840.1.113730.3.1.241",
    "urn:oid:2.5.4.3",
];

impl Likeness {
    /// Of somebody: by their key and name, and by what evidence tells of them, where there is any.
    pub fn of(key: &PersonKey, name: &str, evidence: Option<&Evidence>) -> Likeness {
        let mut out = Likeness::default();
        out.add(&format!("{} {}", key.authority, key.subject));
        out.add(&key.subject);
        out.add(name);
        match evidence {
            Some(e) => out.with(e),
            None => out,
        }
    }

    /// As it was kept with [`Likeness::to_stored`]; nothing is known of what cannot be read.
    pub fn from_stored(stored: &Value) -> Likeness {
        Likeness::deserialize(stored).unwrap_or_default()
    }

    /// For keeping beside what somebody did.
    pub fn to_stored(&self) -> Value {
        self.0.iter().map(String::as_str).collect()
    }

    /// With everything that evidence tells of them.
    fn with(mut self, evidence: &Evidence) -> Likeness {
        for name in NAMES {
            match evidence.claims.get(name) {
                Some(Value::String(s)) => self.add(s),
                Some(Value::Array(all)) => all.iter().filter_map(Value::as_str).for_each(|s| self.add(s)),
                _ => {}
            }
        }
        for entry in evidence.look_ups.iter().filter_map(|l| l.state.entry()) {
            self.add(&entry.dn);
            let own = ["uid", "samaccountname", "userprincipalname", "displayname", "cn"];
            let values = entry.attributes.iter().filter(|(n, _)| own.contains(&n.to_lowercase().as_str()));
            values.flat_map(|(_, v)| v).for_each(|v| self.add(v));
        }
        addresses(evidence).iter().for_each(|a| self.add(a));
        self
    }

    fn add(&mut self, value: &str) {
        let value = value.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase();
        if !value.is_empty() {
            self.0.insert(value);
        }
    }

    /// Whether these are things that this very person is known by, in this very way.
    pub fn is_of(&self, key: &PersonKey) -> bool {
        self.is_known_by(&format!("{} {}", key.authority, key.subject))
    }

    /// Whether nothing is known: then nobody can be told apart from them.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// What both are known by, if anything.
    pub fn shares<'a>(&'a self, other: &'a Likeness) -> Option<&'a str> {
        self.0.intersection(&other.0).next().map(String::as_str)
    }

    /// Whether a text is one of the things they are known by. Case does not count.
    pub fn is_known_by(&self, text: &str) -> bool {
        let mut one = Likeness::default();
        one.add(text);
        self.shares(&one).is_some()
    }
}

/// Whether a text has the form of a mail address.
pub fn is_address(text: &str) -> bool {
    text.len() <= ADDRESS_MAX && text.split_once('@').is_some_and(|(a, b)| !a.is_empty() && b.contains('.') && !b.contains('@'))
}

/// Mail addresses that somebody's provider or directory knows of them.
pub fn addresses(evidence: &Evidence) -> Vec<String> {
    fn of(value: &Value, out: &mut Vec<String>) {
        match value {
            Value::String(s) if is_address(s) => out.push(s.clone()),
            Value::Array(all) => all.iter().for_each(|v| of(v, out)),
            _ => {}
        }
    }
    let mut out = vec![];
    evidence.claims.values().for_each(|v| of(v, &mut out));
    out.extend(evidence.look_ups.iter().filter_map(|l| l.state.entry()).flat_map(addresses_in));
    out
}

/// Mail addresses in an entry of a directory.
pub fn addresses_in(entry: &Entry) -> impl Iterator<Item = String> {
    entry.attributes.values().flatten().filter(|v| is_address(v)).cloned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::evidence::{LookUp, LookUpState, WayIn};

    #[test]
    fn only_addresses_lead_from_one_identity_to_another() {
        assert!(is_address("anouk@havrelune.example"));
        for no in ["anouk", "@havrelune.example", "a@b", "a@b@c.d", "", "http://x/@y"] {
            assert!(!is_address(no), "{no}");
        }
    }

    fn of(authority: &str, subject: &str, name: &str) -> Likeness {
        Likeness::of(&PersonKey { authority: authority.into(), subject: subject.into() }, name, None)
    }

    #[test]
    fn one_human_being_with_two_ways_in_is_one() {
        let base = || Evidence::of(WayIn::Oidc, "pilotage", "8c1", "https://op.example");
        let mut claims = base();
        claims.claims.insert("preferred_username".into(), "lucie".into());
        claims.claims.insert("mails".into(), serde_json::json!(["Lucie@Havrelune.example"]));
        let by_provider = of("oidc:https://op.example", "8c1", "Lucie Morvan").with(&claims);
        let mut entry = base();
        let found = Entry {
            dn: "uid=lm,ou=people,dc=havrelune".into(),
            attributes: [("mail".to_owned(), vec!["lucie@havrelune.example".to_owned()])].into(),
            ..Entry::default()
        };
        entry.look_ups.push(LookUp {
            directory: "harbour".into(),
            key: "uid".into(),
            value: Some("lm".into()),
            at: Default::default(),
            millis: 1,
            cached: false,
            tried: vec![],
            asked: None,
            state: LookUpState::Answered { entry: found },
        });
        for (what, other, shared) in [
            ("an account", of("way:harbour-password", "LUCIE", "lm"), Some("lucie")),
            ("a name", of("way:x", "1", "lucie  MORVAN"), Some("lucie morvan")),
            ("the same person", of("oidc:https://op.example", "8c1", ""), Some("8c1")),
            ("a mail address", of("way:x", "1", "lm").with(&entry), Some("lucie@havrelune.example")),
            ("somebody else", of("way:harbour-password", "marc", "Marc Olivier"), None),
            ("nothing", Likeness::default(), None),
        ] {
            assert_eq!(by_provider.shares(&other), shared, "{what}");
        }
        assert!(by_provider.is_known_by("LUCIE morvan") && !by_provider.is_known_by("Marc Olivier"));
        assert!(Likeness::default().is_empty() && !by_provider.is_empty());
        assert_eq!(Likeness::from_stored(&by_provider.to_stored()), by_provider, "it is kept whole");
        assert!(Likeness::from_stored(&serde_json::json!({"a": 1})).is_empty(), "what cannot be read tells nobody apart");
    }
}
