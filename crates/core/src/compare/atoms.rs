//! The smallest parts of conditions, and what one says of another.
//!
//! Two conditions on networks are not two unrelated questions: whoever comes from a part of a network comes from the whole.
//! Without knowing that, a narrower network would be told as a gain for somebody who cannot exist.

use ipnet::IpNet;

use crate::condition::{Compared, Condition, Named, Order, Test};
use crate::path::is_at_or_below;
use crate::site::{AttributeId, Site};
use crate::step::Phrase;

/// What has to be known before an atom can be judged.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) enum Knowing {
    /// Never in doubt.
    Always,
    Groups,
    Attribute(String),
    /// In doubt for itself: an address that nobody passed on, a time that nobody sent.
    Itself(String),
}

/// One question that is answered with yes or no once it is known, without the site it stands in.
#[derive(Clone, Debug)]
pub(super) struct Atom {
    /// Tells it apart; equal for what is the same in two sites.
    pub(super) key: String,
    pub(super) knowing: Knowing,
    pub(super) wanted: Phrase,
    asks: Asks,
}

#[derive(Clone, Debug)]
enum Asks {
    Group(String),
    DirectGroup(String),
    Value(String, Test),
    Present(String),
    /// One of a kind of which somebody has at most one: who they are, how they came in, a method.
    One(&'static str, String),
    Network(Vec<IpNet>),
    Path(String),
    Within(Condition),
    Other,
}

impl Atom {
    fn new(key: String, knowing: Knowing, wanted: Phrase, asks: Asks) -> Atom {
        Atom { key, knowing, wanted, asks }
    }

    /// The single part that a condition asks about; none for what holds parts, and for what is settled at once.
    pub(super) fn of(site: &Site, when: &Condition) -> Option<Atom> {
        let wanted = when.wanted(site);
        let attribute = |id: &AttributeId| site.attribute_name(*id).to_owned();
        Some(match when {
            Condition::Group(g) => {
                let g = g.to_lowercase();
                Atom::new(format!("group {g}"), Knowing::Groups, wanted, Asks::Group(g))
            }
            Condition::DirectGroup(g) => {
                let g = g.to_lowercase();
                Atom::new(format!("direct {g}"), Knowing::Groups, wanted, Asks::DirectGroup(g))
            }
            Condition::Attribute(id, test) => {
                let name = attribute(id);
                let key = format!("value {name} {test:?}");
                // A value that is no number is not known to be anything.
                let knowing = match test {
                    Test::Compared(..) => Knowing::Itself(key.clone()),
                    _ => Knowing::Attribute(name.clone()),
                };
                Atom::new(key, knowing, wanted, Asks::Value(name, test.clone()))
            }
            Condition::Present(id, _) => {
                let name = attribute(id);
                let (key, knowing) = (format!("present {name}"), Knowing::Attribute(name.clone()));
                Atom::new(key, knowing, Phrase::Present { attribute: name.clone() }, Asks::Present(name))
            }
            Condition::Network(list) => {
                let mut members = list.members.clone();
                members.sort_unstable();
                let key = format!("network {members:?}");
                Atom::new(key.clone(), Knowing::Itself("network".to_owned()), wanted, Asks::Network(members))
            }
            Condition::Factor(..) | Condition::SignedIn(_) => {
                let key = format!("{when:?}");
                Atom::new(key.clone(), Knowing::Itself("the time of signing in".to_owned()), wanted, Asks::Within(when.clone()))
            }
            Condition::Hours(_) | Condition::Dates(_) => {
                Atom::new(format!("{when:?}"), Knowing::Always, wanted, Asks::Within(when.clone()))
            }
            _ => Atom::new(format!("{when:?}"), Knowing::Always, wanted, Asks::Other),
        })
    }

    /// One of a kind that excludes all others of it.
    pub(super) fn one(kind: &'static str, of: &str, wanted: Phrase) -> Atom {
        Atom::new(format!("{kind} {of}"), Knowing::Always, wanted, Asks::One(kind, of.to_owned()))
    }

    /// A path, which can be in doubt when it is spelt oddly.
    pub(super) fn path(of: &str) -> Atom {
        let folded = of.to_lowercase();
        let wanted = Phrase::AtPath { of: vec![of.to_owned()] };
        Atom::new(format!("path {folded}"), Knowing::Itself("path".to_owned()), wanted, Asks::Path(folded))
    }

    /// Whether whatever this holds for, another holds for.
    pub(super) fn implies(&self, other: &Atom) -> bool {
        match (&self.asks, &other.asks) {
            (Asks::DirectGroup(a), Asks::Group(b)) => a == b,
            (Asks::Value(a, _), Asks::Present(b)) => a == b,
            (Asks::Value(a, x), Asks::Value(b, y)) => a == b && test_implies(x, y),
            (Asks::Network(a), Asks::Network(b)) => a.iter().all(|x| b.iter().any(|y| y.contains(x))),
            (Asks::Path(a), Asks::Path(b)) => is_at_or_below(a, b),
            (Asks::Within(a), Asks::Within(b)) => time_implies(a, b),
            _ => false,
        }
    }

    /// Whether both cannot hold at once.
    pub(super) fn excludes(&self, other: &Atom) -> bool {
        match (&self.asks, &other.asks) {
            (Asks::One(a, x), Asks::One(b, y)) => a == b && x != y,
            (Asks::Network(a), Asks::Network(b)) => !a.iter().any(|x| b.iter().any(|y| x.contains(y) || y.contains(x))),
            (Asks::Path(a), Asks::Path(b)) => !is_at_or_below(a, b) && !is_at_or_below(b, a),
            (Asks::Within(Condition::Dates(a)), Asks::Within(Condition::Dates(b))) => {
                let apart = |x: &crate::condition::Dates, y: &crate::condition::Dates| {
                    x.zone == y.zone && x.until.zip(y.from).is_some_and(|(u, f)| u < f)
                };
                apart(a, b) || apart(b, a)
            }
            _ => false,
        }
    }
}

/// Whether a value that passes one test passes another.
fn test_implies(a: &Test, b: &Test) -> bool {
    let one = |t: &[String]| match t {
        [v] => Some(v.clone()),
        _ => None,
    };
    match (a, b) {
        (Test::OneOf(v), Test::StartsWith(w)) => one(v).zip(one(w)).is_some_and(|(v, w)| v.starts_with(&w)),
        (Test::OneOf(v), Test::EndsWith(w)) => one(v).zip(one(w)).is_some_and(|(v, w)| v.ends_with(&w)),
        (Test::OneOf(v), Test::Matches(p)) => one(v).is_some_and(|v| p.matches(&v)),
        (Test::StartsWith(v), Test::StartsWith(w)) => one(v).zip(one(w)).is_some_and(|(v, w)| v.starts_with(&w)),
        (Test::EndsWith(v), Test::EndsWith(w)) => one(v).zip(one(w)).is_some_and(|(v, w)| v.ends_with(&w)),
        (Test::Compared(o, x), Test::Compared(p, y)) => compared_implies((*o, x), (*p, y)),
        _ => false,
    }
}

fn compared_implies((o, x): (Order, &Compared), (p, y): (Order, &Compared)) -> bool {
    let stands = match (x, y) {
        (Compared::Number(a), Compared::Number(b)) => a.partial_cmp(b),
        (Compared::Version(a), Compared::Version(b)) => Some(a.cmp(b)),
        (Compared::Time(a), Compared::Time(b)) => Some(a.cmp(b)),
        _ => None,
    };
    let Some(stands) = stands else { return false };
    match (o, p) {
        (Order::AtLeast, Order::AtLeast) | (Order::MoreThan, Order::MoreThan | Order::AtLeast) => stands.is_ge(),
        (Order::AtLeast, Order::MoreThan) => stands.is_gt(),
        (Order::AtMost, Order::AtMost) | (Order::LessThan, Order::LessThan | Order::AtMost) => stands.is_le(),
        (Order::AtMost, Order::LessThan) => stands.is_lt(),
        _ => false,
    }
}

fn time_implies(a: &Condition, b: &Condition) -> bool {
    match (a, b) {
        (Condition::SignedIn(x), Condition::SignedIn(y)) => x <= y,
        (Condition::Factor(of, x), Condition::Factor(or, y)) => {
            let shorter = match (x, y) {
                (_, None) => true,
                (Some(x), Some(y)) => x <= y,
                (None, Some(_)) => false,
            };
            shorter && of.iter().all(|m| or.contains(m))
        }
        (Condition::Hours(x), Condition::Hours(y)) => {
            // Hours that go over midnight are compared with none but their own.
            let plain = x.from < x.until && y.from < y.until;
            let days = y.days.is_empty() || (!x.days.is_empty() && x.days.iter().all(|d| y.days.contains(d)));
            x.zone == y.zone && plain && y.from <= x.from && x.until <= y.until && days
        }
        (Condition::Dates(x), Condition::Dates(y)) => {
            let begins = y.from.is_none_or(|y| x.from.is_some_and(|x| y <= x));
            let ends = y.until.is_none_or(|y| x.until.is_some_and(|x| x <= y));
            x.zone == y.zone && begins && ends
        }
        _ => false,
    }
}

/// Conditions that ask the same of several members, one by one: what differs is then told by member.
pub(super) fn members(when: &Condition) -> Option<Vec<Condition>> {
    let attribute = |id: AttributeId, make: fn(Vec<String>) -> Test, of: &[String]| {
        Some(of.iter().map(|v| Condition::Attribute(id, make(vec![v.clone()]))).collect())
    };
    match when {
        Condition::AnyGroup(list) => Some(list.members.iter().cloned().map(Condition::Group).collect()),
        Condition::Person(list) if list.members.len() != 1 || list.list.is_some() => {
            let one = |p| Condition::Person(Named { list: None, members: vec![p] });
            Some(list.members.iter().cloned().map(one).collect())
        }
        Condition::Attribute(id, Test::OneOf(v)) if v.len() != 1 => attribute(*id, Test::OneOf, v),
        Condition::Attribute(id, Test::StartsWith(v)) if v.len() != 1 => attribute(*id, Test::StartsWith, v),
        Condition::Attribute(id, Test::EndsWith(v)) if v.len() != 1 => attribute(*id, Test::EndsWith, v),
        Condition::Factor(of, within) if of.len() != 1 => {
            Some(of.iter().map(|m| Condition::Factor(vec![m.clone()], *within)).collect())
        }
        _ => None,
    }
}

/// The members of a condition of which somebody has exactly one, with the kind and what asks for each.
pub(super) fn ones(when: &Condition) -> Option<(&'static str, Vec<(String, Phrase)>)> {
    let each = |kind, of: &[String], ask: fn(Vec<String>) -> Phrase| {
        Some((kind, of.iter().map(|o| (o.clone(), ask(vec![o.clone()]))).collect()))
    };
    match when {
        Condition::WayIn(of) => each("way", of, |of| Phrase::WayIn { of }),
        Condition::Method(of) => each("method", of, |of| Phrase::ByMethod { of }),
        Condition::Entrance(of) => each("entrance", of, |of| Phrase::AtEntrance { of }),
        Condition::Platform(of) => each("platform", of, |of| Phrase::ClientPlatform { of }),
        Condition::Context(of) => each("context", of, |of| Phrase::Factors { any_acr: of, amr: vec![] }),
        Condition::Person(list) if list.members.len() == 1 && list.list.is_none() => {
            let of: Vec<String> = list.members.iter().map(|p| format!("{}/{}", p.provider, p.subject)).collect();
            each("person", &of, |of| Phrase::OnePerson { of })
        }
        _ => None,
    }
}
