//! Sign-in routes: which way in somebody takes, decided for them by where they come from, what they ask for, on what device,
//! and by the name they type. [`read`] reads `[[route]]`, [`device`] tells devices apart.
//!
//! A route leads to ways in; it proves nothing about anybody. What a device or a typed name says is believed for this choice
//! and for nothing else. Routes stand in order and the first that fits decides. One that asks about a name cannot be judged
//! before a name was typed: [`choose`] then says so, and which [`Questions`] the name raises. A name that nobody has must not
//! be told from one that somebody has, so [`choose`] sends it along one of the routes that names lead to, by a number that the
//! caller derives from the name alone: always along the same.

pub mod device;
mod sentence;

use std::collections::BTreeMap;
use std::net::IpAddr;

use ipnet::IpNet;
use serde::{Deserialize, Serialize};

pub use device::{Device, Platform};

use crate::condition::Named;
use crate::evidence::LookUpState;
use crate::identity::of_entry;
pub use crate::site::{ByName, Holds, Route};
use crate::site::{Directory, Place, Site};
use crate::step::Phrase;

/// The most reasons that are kept of routes that did not fit.
pub const PASSED_MAX: usize = 12;
/// The most words that are told of one list.
const TOLD_MAX: usize = 6;

/// What routes are judged by.
#[derive(Clone, Copy, Debug)]
pub struct Facts<'a> {
    pub place: &'a Place,
    /// Where the request comes from, as far as it can be believed.
    pub address: Option<IpAddr>,
    pub device: Device,
    /// Ways in that are taken there.
    pub offered: &'a [&'a str],
}

/// What was found out of a name that somebody typed. The name itself is not kept: it may be a password.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Typed {
    /// Its suffix, in lower case; of one that no route names, only that there is one.
    pub suffix: Suffix,
    /// Answers of directories, by directory.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub entries: BTreeMap<String, NameAnswer>,
    /// Attributes that were that name, and ways by which somebody came in of whom they were.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub known: Vec<(String, String)>,
    /// A number that depends on the name and a secret, and on nothing else.
    pub number: u64,
}

/// The suffix of a name, as far as it is told.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Suffix {
    #[default]
    None,
    /// One that some route names.
    Named(String),
    Other,
}

impl Suffix {
    /// Of a name, at these routes.
    pub fn of(routes: &[Route], name: &str) -> Suffix {
        let (_, suffix) = split(name);
        let suffix = suffix.to_lowercase();
        match suffix.as_str() {
            "" => Suffix::None,
            _ if routes.iter().any(|r| r.suffixes.contains(&suffix)) => Suffix::Named(suffix),
            _ => Suffix::Other,
        }
    }

    fn is_one_of(&self, suffixes: &[String]) -> bool {
        match self {
            Suffix::None => suffixes.iter().any(String::is_empty),
            Suffix::Named(s) => suffixes.contains(s),
            Suffix::Other => false,
        }
    }
}

/// What a directory said of a name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum NameAnswer {
    /// Values of the attributes that routes ask about, and those of the groups they ask about that it is in.
    Found {
        attributes: BTreeMap<String, Vec<String>>,
        groups: Vec<String>,
    },
    Nobody,
    /// It did not answer.
    Silent(String),
}

/// What has to be found out of a name before routes can be judged.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Questions {
    /// What is asked of entries, by directory.
    pub entries: BTreeMap<String, Vec<Holds>>,
    pub known: Vec<String>,
}

impl NameAnswer {
    /// What a look-up says to what is asked.
    pub fn of(directory: &Directory, site: &Site, state: &LookUpState, asked: &[Holds]) -> NameAnswer {
        let entry = match state {
            LookUpState::Answered { entry } | LookUpState::Disabled { entry, .. } => entry,
            LookUpState::NoEntry | LookUpState::NoKey { .. } => return NameAnswer::Nobody,
            LookUpState::Several { .. } => return NameAnswer::Silent("several entries".to_owned()),
            LookUpState::BindRefused { detail } | LookUpState::Dead { detail } | LookUpState::Unusable { detail } => {
                return NameAnswer::Silent(detail.clone());
            }
        };
        let in_groups: Vec<String> = directory.known_groups(entry).map(|g| g.name.to_lowercase()).collect();
        let (mut attributes, mut groups) = (BTreeMap::new(), vec![]);
        for holds in asked {
            match holds {
                Holds::Attribute { attribute, .. } => {
                    let source = directory.attributes.iter().find(|(id, _)| site.attribute_name(*id) == attribute);
                    let values =
                        source.and_then(|(id, name)| of_entry(directory, entry, *id, name).values().ok().map(<[_]>::to_vec));
                    attributes.insert(attribute.clone(), few(values.unwrap_or_default()));
                }
                Holds::Group(names) => groups.extend(names.iter().filter(|n| in_groups.contains(&n.to_lowercase())).cloned()),
            }
        }
        NameAnswer::Found { attributes, groups }
    }
}

impl Questions {
    /// Whether there is nothing to find out.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty() && self.known.is_empty()
    }
}

/// Why a route did not decide.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Passed {
    pub route: String,
    pub wanted: Phrase,
    pub seen: Phrase,
}

/// What routes say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Choice {
    /// A name must be typed first. Without one these ways are open.
    NameWanted { ways: Vec<String> },
    /// A way in is decided, or left to the person.
    Decided(Decided),
}

/// The route that decided, and why those before it did not.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Decided {
    /// None where no route fits: then every way in that is taken there is open.
    pub route: Option<String>,
    /// Ways in, the first of which is taken unless people are asked.
    pub ways: Vec<String>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ask: bool,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub strip: bool,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub passed: Vec<Passed>,
    /// Nobody has the name that was typed: it went the way that its number said.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub nobody: bool,
}

/// A user name without its suffix.
pub fn without_suffix(name: &str) -> &str {
    split(name).0
}

/// The name, and the part of it that says where it belongs: what follows the last `@`, or stands before a backslash.
fn split(name: &str) -> (&str, &str) {
    let name = name.trim();
    match name.rsplit_once('@').or_else(|| name.split_once('\\').map(|(domain, user)| (user, domain))) {
        Some((user, suffix)) if !user.is_empty() && !suffix.is_empty() => (user, suffix),
        _ => (name, ""),
    }
}

fn few(all: impl IntoIterator<Item = String>) -> Vec<String> {
    let mut all = all.into_iter();
    let mut out: Vec<String> = all.by_ref().take(TOLD_MAX).collect();
    if all.next().is_some() {
        out.push("…".to_owned());
    }
    out
}

impl Named<IpNet> {
    /// The list's name, or the first of its members.
    fn shown(&self) -> Vec<String> {
        self.list.clone().map_or_else(|| few(self.members.iter().map(ToString::to_string)), |name| vec![name])
    }
}

impl Holds {
    fn wanted(&self) -> Phrase {
        match self {
            Holds::Attribute { attribute, values } => {
                Phrase::Attribute { attribute: attribute.clone(), values: few(values.iter().cloned()) }
            }
            Holds::Group(names) => Phrase::AnyGroup { of: few(names.iter().cloned()) },
        }
    }

    /// What an entry holds instead; none where it holds this.
    fn other(&self, attributes: &BTreeMap<String, Vec<String>>, groups: &[String]) -> Option<Phrase> {
        match self {
            Holds::Attribute { attribute, values } => {
                let held = attributes.get(attribute).map(Vec::as_slice).unwrap_or_default();
                let same = |h: &String| values.iter().any(|v| v.to_lowercase() == h.to_lowercase());
                let attribute = attribute.clone();
                match held {
                    [] => Some(Phrase::Absent { attribute, absence: None }),
                    held if held.iter().any(same) => None,
                    held => Some(Phrase::Attribute { attribute, values: held.to_vec() }),
                }
            }
            Holds::Group(names) if names.iter().any(|n| groups.contains(n)) => None,
            Holds::Group(names) => Some(Phrase::NotInAnyGroup { of: few(names.iter().cloned()) }),
        }
    }
}

impl Route {
    /// Ways in of it that are taken there.
    fn open<'a>(&'a self, facts: &Facts<'_>) -> Vec<&'a str> {
        self.ways.iter().map(String::as_str).filter(|w| facts.offered.contains(w)).collect()
    }

    /// Whether it asks about the name that somebody types.
    pub fn asks_name(&self) -> bool {
        !self.suffixes.is_empty() || self.by.is_some()
    }

    /// Whether it asks for nothing: then nothing after it is ever reached.
    pub(crate) fn is_last(&self) -> bool {
        !self.asks_name() && self.places.is_empty() && self.networks.is_none() && self.devices.is_empty()
    }

    fn passed(&self, wanted: Phrase, seen: Phrase) -> Passed {
        Passed { route: self.name.clone(), wanted, seen }
    }

    /// What speaks against it, of all that is known before a name is typed.
    fn unfit(&self, facts: &Facts<'_>) -> Option<Passed> {
        if !self.places.is_empty() && !self.places.contains(facts.place) {
            let seen = Phrase::AtGate { of: vec![facts.place.to_string()] };
            return Some(self.passed(Phrase::AtGate { of: few(self.places.iter().map(Place::to_string)) }, seen));
        }
        if let Some(list) = &self.networks {
            let wanted = Phrase::Network { of: list.shown() };
            match facts.address.map(|a| a.to_canonical()) {
                None => return Some(self.passed(wanted, Phrase::NetworkUnknown)),
                Some(a) if !list.members.iter().any(|n| n.contains(&a)) => {
                    return Some(self.passed(wanted, Phrase::Network { of: vec![a.to_string()] }));
                }
                Some(_) => {}
            }
        }
        if !self.devices.is_empty() && !self.devices.iter().any(|d| facts.device.is(d)) {
            let seen = Phrase::Device { of: facts.device.words() };
            return Some(self.passed(Phrase::Device { of: self.devices.clone() }, seen));
        }
        if self.open(facts).is_empty() {
            let seen = Phrase::TakenThere { of: few(facts.offered.iter().map(|w| (*w).to_owned())) };
            return Some(self.passed(Phrase::WayIn { of: few(self.ways.iter().cloned()) }, seen));
        }
        None
    }

    fn other_suffix(&self, suffix: &Suffix) -> Option<Passed> {
        if self.suffixes.is_empty() || suffix.is_one_of(&self.suffixes) {
            return None;
        }
        let seen = match suffix {
            Suffix::None => Phrase::Suffix { of: vec![String::new()] },
            Suffix::Named(s) => Phrase::Suffix { of: vec![s.clone()] },
            Suffix::Other => Phrase::OtherSuffix,
        };
        Some(self.passed(Phrase::Suffix { of: few(self.suffixes.iter().cloned()) }, seen))
    }

    /// What speaks against it, of what was found out of a name.
    fn other_name(&self, typed: &Typed) -> Option<Passed> {
        match self.by.as_ref()? {
            ByName::Entry { directory, holds } => {
                let wanted = holds.wanted();
                let seen = match typed.entries.get(directory) {
                    Some(NameAnswer::Found { attributes, groups }) => holds.other(attributes, groups)?,
                    Some(NameAnswer::Nobody) => Phrase::NobodyNamed,
                    Some(NameAnswer::Silent(how)) => Phrase::Silent { directory: directory.clone(), how: how.clone() },
                    None => Phrase::Silent { directory: directory.clone(), how: "not asked".to_owned() },
                };
                Some(self.passed(wanted, seen))
            }
            ByName::Known { attribute } => {
                let came = |w: &String| typed.known.iter().any(|(a, by)| a == attribute && by == w);
                if self.ways.iter().any(came) {
                    return None;
                }
                let wanted = Phrase::CameBefore { attribute: attribute.clone(), by: few(self.ways.iter().cloned()) };
                let other: Vec<String> = typed.known.iter().filter(|(a, _)| a == attribute).map(|(_, w)| w.clone()).collect();
                let seen = match other.as_slice() {
                    [] => Phrase::NobodyNamed,
                    _ => Phrase::CameBefore { attribute: attribute.clone(), by: few(other) },
                };
                Some(self.passed(wanted, seen))
            }
        }
    }

    fn decided(&self, facts: &Facts<'_>, passed: Vec<Passed>) -> Decided {
        let ways = self.open(facts).into_iter().map(str::to_owned).collect();
        Decided { route: Some(self.name.clone()), ways, ask: self.ask, strip: self.strip, passed, nobody: false }
    }
}

/// What a name raises at these routes: of each that could still decide.
pub fn questions(routes: &[Route], facts: &Facts<'_>, suffix: &Suffix) -> Questions {
    let mut out = Questions::default();
    for route in routes.iter().filter(|r| r.unfit(facts).is_none() && r.other_suffix(suffix).is_none()) {
        match &route.by {
            Some(ByName::Entry { directory, holds }) => {
                let of = out.entries.entry(directory.clone()).or_default();
                if !of.contains(holds) {
                    of.push(holds.clone());
                }
            }
            Some(ByName::Known { attribute }) if !out.known.contains(attribute) => out.known.push(attribute.clone()),
            Some(ByName::Known { .. }) => {}
            None => break,
        }
    }
    out
}

/// Which way in somebody takes. `typed` is the name they typed, where they did.
pub fn choose(routes: &[Route], facts: &Facts<'_>, typed: Option<&Typed>) -> Choice {
    let mut passed = vec![];
    // Routes that hang on who has the name: where nobody does, any of them may be the one.
    let (mut by_name, mut silent) = (vec![], false);
    let mut open: Vec<String> = vec![];
    let mut wanted = false;
    let mut found = None;
    for route in routes {
        if let Some(why) = route.unfit(facts) {
            passed.push(why);
            continue;
        }
        match typed {
            None if route.asks_name() => wanted = true,
            None if wanted => {}
            Some(typed) => {
                if let Some(why) = route.other_suffix(&typed.suffix) {
                    passed.push(why);
                    continue;
                }
                if let Some(why) = route.other_name(typed) {
                    silent |= matches!(why.seen, Phrase::Silent { .. });
                    by_name.push((route, passed.len()));
                    passed.push(why);
                    continue;
                }
                found = Some(route);
                break;
            }
            None => {
                found = Some(route);
                break;
            }
        }
        // A name is wanted: what could come of it is open to those who type none.
        for way in route.open(facts) {
            if !open.iter().any(|o| o == way) {
                open.push(way.to_owned());
            }
        }
        if !route.asks_name() {
            return Choice::NameWanted { ways: open };
        }
    }
    if wanted {
        let rest = facts.offered.iter().map(|w| (*w).to_owned()).filter(|w| !open.contains(w)).collect::<Vec<_>>();
        open.extend(rest);
        return Choice::NameWanted { ways: open };
    }
    let nobody = typed.is_some_and(|t| is_nobody(t) && !silent) && !by_name.is_empty();
    if let (true, Some(typed)) = (nobody, typed) {
        let n = (typed.number % (by_name.len() as u64 + 1)) as usize;
        // The last number is the route that would have decided otherwise.
        if let Some((route, place)) = by_name.get(n) {
            passed.truncate(*place);
            return Choice::Decided(Decided { nobody, ..route.decided(facts, shortened(passed)) });
        }
    }
    let passed = shortened(passed);
    Choice::Decided(match found {
        Some(route) => Decided { nobody, ..route.decided(facts, passed) },
        None => {
            let ways: Vec<String> = facts.offered.iter().map(|w| (*w).to_owned()).collect();
            Decided { ask: ways.len() > 1, ways, passed, nobody, ..Decided::default() }
        }
    })
}

/// Whether nobody has the name, as far as was asked.
fn is_nobody(typed: &Typed) -> bool {
    typed.known.is_empty() && !typed.entries.values().any(|e| matches!(e, NameAnswer::Found { .. }))
}

fn shortened(mut passed: Vec<Passed>) -> Vec<Passed> {
    passed.truncate(PASSED_MAX);
    passed
}

#[cfg(test)]
mod tests;
