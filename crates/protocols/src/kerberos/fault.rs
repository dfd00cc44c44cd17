//! Why a ticket was not taken: from its outside, the keys that we have, and what it holds where one of them opens it.
//!
//! In the order in which an engineer would look: is it for us, have we a key of that realm, name, version and kind; does the key
//! fit; and is it the time.

use chrono::{DateTime, Duration, Utc};

use super::keytab::Keytab;
use super::principal::Principal;
use super::token::Ticket;

/// What is inside, where a key of ours opened it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Opened {
    pub starts: DateTime<Utc>,
    pub ends: DateTime<Utc>,
    /// When the proof was made, by the client's clock; none where it does not open.
    pub made: Option<DateTime<Utc>>,
}

/// What stands against a ticket.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fault {
    /// It is for another service.
    WrongService {
        asked: Principal,
        wanted: Vec<String>,
    },
    /// It is of a realm of which we have no key.
    RealmUnknown {
        realm: String,
        known: Vec<String>,
    },
    /// We have no key of that principal.
    NoKey {
        wanted: Principal,
        has: Vec<String>,
    },
    /// We have keys of other versions only.
    KeyVersion {
        principal: Principal,
        wanted: u32,
        has: Vec<u32>,
    },
    /// We have keys of other kinds only.
    Enctype {
        principal: Principal,
        wanted: i32,
        has: Vec<i32>,
    },
    /// Our key of that version does not open it.
    KeyDiffers {
        principal: Principal,
        kvno: Option<u32>,
    },
    /// Clocks differ, in seconds; more than none means that theirs is ahead.
    Clock {
        seconds: i64,
    },
    NotYet {
        starts: DateTime<Utc>,
    },
    Expired {
        ended: DateTime<Utc>,
    },
}

impl Fault {
    /// The first thing that stands against a ticket; none where nothing does that can be seen here. `hosts` are those as which
    /// tickets are taken, `skew` what clocks may differ by.
    pub fn of(
        ticket: &Ticket,
        keys: &Keytab,
        hosts: &[String],
        opened: Option<&Opened>,
        now: DateTime<Utc>,
        skew: Duration,
    ) -> Option<Fault> {
        let asked = &ticket.service;
        let is_us = asked.components.first().is_some_and(|s| s.eq_ignore_ascii_case("http"))
            && asked.host().is_some_and(|h| hosts.iter().any(|w| w.eq_ignore_ascii_case(h)));
        if !is_us {
            return Some(Fault::WrongService {
                asked: asked.clone(),
                wanted: hosts.iter().map(|h| format!("HTTP/{h}")).collect(),
            });
        }
        let mut theirs = keys.of(asked).peekable();
        if theirs.peek().is_none() {
            let mut known: Vec<String> = keys.keys.iter().map(|k| k.principal.realm.clone()).collect();
            known.sort();
            known.dedup();
            if !known.contains(&asked.realm) {
                return Some(Fault::RealmUnknown { realm: asked.realm.clone(), known });
            }
            return Some(Fault::NoKey { wanted: asked.clone(), has: keys.principals().iter().map(|p| p.to_string()).collect() });
        }
        if let Some(wanted) = ticket.kvno {
            let mut has: Vec<u32> = keys.of(asked).map(|k| k.kvno).collect();
            has.sort_unstable();
            has.dedup();
            if !has.contains(&wanted) {
                return Some(Fault::KeyVersion { principal: asked.clone(), wanted, has });
            }
        }
        let of_version = |k: &&super::keytab::Key| ticket.kvno.is_none_or(|v| k.kvno == v);
        let mut has: Vec<i32> = keys.of(asked).filter(of_version).map(|k| k.enctype).collect();
        has.sort_unstable();
        has.dedup();
        if !has.contains(&ticket.enctype) {
            return Some(Fault::Enctype { principal: asked.clone(), wanted: ticket.enctype, has });
        }
        let Some(opened) = opened else {
            return Some(Fault::KeyDiffers { principal: asked.clone(), kvno: ticket.kvno });
        };
        opened.fault(now, skew)
    }
}

impl Opened {
    /// What stands against the times of a ticket.
    pub fn fault(&self, now: DateTime<Utc>, skew: Duration) -> Option<Fault> {
        if let Some(made) = self.made.filter(|made| (*made - now).abs() > skew) {
            return Some(Fault::Clock { seconds: (made - now).num_seconds() });
        }
        if self.starts > now + skew {
            return Some(Fault::NotYet { starts: self.starts });
        }
        (self.ends < now - skew).then_some(Fault::Expired { ended: self.ends })
    }
}
