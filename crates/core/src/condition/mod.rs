//! Conditions of rules: TOML tables, no expression language.
//!
//! Truth has three values. What cannot be known (the directory did not answer, nothing maps to the attribute, a value is no
//! number where numbers are compared) is neither yes nor no: it never grants entry, and a refusing rule that cannot be
//! judged refuses. [`read`] reads the tables, [`tell`] says what a condition wants and what it saw, [`compare`] and [`time`]
//! hold what is compared with.

mod device;
mod need;
mod tell;

use chrono::Duration;

use crate::Moment;
use crate::attribute::Absence;
use crate::circumstances::Circumstances;
use crate::identity::{Groups, Identity};
use crate::path;

use crate::site::condition::truth;
pub use crate::site::{Compared, Condition, Dates, Hours, Named, Order, Pattern, Test, Truth, Version};
pub use need::Need;

/// Whether a moment lies at most so long ago. A moment that lies ahead is no proof of anything.
fn within(then: Option<Moment>, limit: Duration, now: Moment) -> Truth {
    match then {
        None => Truth::Unknown,
        Some(t) => truth(t <= now + Duration::minutes(5) && now < t + limit),
    }
}

impl Condition {
    /// Judges the condition for a person at a gate, under circumstances.
    pub fn judge(&self, who: &Identity, at: &Circumstances<'_>, gate: Option<&str>) -> Truth {
        match self {
            Condition::Everyone => Truth::Yes,
            Condition::Group(name) => in_group(who, |g| g.contains(name)),
            Condition::DirectGroup(name) => in_group(who, |g| g.found(name).is_some_and(|f| f.via.is_none())),
            Condition::AnyGroup(list) => in_group(who, |g| list.members.iter().any(|name| g.contains(name))),
            Condition::Attribute(id, test) => match who.attribute(*id).values() {
                Ok(values) => test.judge(values, at.now),
                Err(absence) => absent_truth(absence),
            },
            Condition::Present(id, wanted) => match who.attribute(*id).values() {
                Ok(_) => truth(*wanted),
                Err(absence) => match absent_truth(absence) {
                    Truth::No => truth(!*wanted),
                    unknown => unknown,
                },
            },
            Condition::Person(list) => truth(list.members.contains(&who.person)),
            Condition::WayIn(ways) => truth(ways.contains(&who.way)),
            Condition::Factor(wanted, limit) => {
                let fresh = |then: Option<Moment>| limit.map_or(Truth::Yes, |limit| within(then, limit, at.now));
                let used = truth(who.factors.amr.iter().any(|m| wanted.contains(m)));
                let own = who.factors.own.iter().filter(|f| wanted.contains(&f.amr)).map(|f| fresh(Some(f.at)));
                // Where the method was not used at all, how fresh the sign-in is says nothing.
                let there = if used == Truth::Yes { fresh(who.factors.auth_time) } else { used };
                own.max().unwrap_or(Truth::No).max(there)
            }
            Condition::SignedIn(limit) => within(who.factors.auth_time, *limit, at.now),
            Condition::Context(wanted) => truth(who.factors.acr.as_ref().is_some_and(|a| wanted.contains(a))),
            Condition::Network(_)
            | Condition::Path(_)
            | Condition::Method(_)
            | Condition::Entrance(_)
            | Condition::Platform(_)
            | Condition::ClientVersion(_)
            | Condition::Profile(_) => self.judge_request(at),
            Condition::Hours(hours) => truth(hours.holds(at.now)),
            Condition::Dates(dates) => truth(dates.holds(at.now)),
            Condition::Gate(gates) => truth(gate.is_some_and(|gate| gates.iter().any(|g| g == gate))),
            Condition::Device(of) => of.iter().map(|c| c.judge(who.device.as_ref(), at.now)).max().unwrap_or(Truth::No),
            Condition::DeviceFails(check) => truth(check.judge(who.device.as_ref(), at.now) != Truth::Yes),
            Condition::All(parts) => parts.iter().map(|p| p.judge(who, at, gate)).min().unwrap_or(Truth::Yes),
            Condition::Any(parts) => parts.iter().map(|p| p.judge(who, at, gate)).max().unwrap_or(Truth::No),
            Condition::None(parts) => !parts.iter().map(|p| p.judge(who, at, gate)).max().unwrap_or(Truth::No),
        }
    }

    /// The next moment at which time alone may change what the condition says of a person.
    pub fn next_edge(&self, who: &Identity, now: Moment) -> Option<Moment> {
        let later = |at: Option<Moment>| at.filter(|at| *at > now);
        match self {
            Condition::Factor(_, Some(limit)) => {
                let own = who.factors.own.iter().map(|f| f.at);
                own.chain(who.factors.auth_time).filter_map(|t| later(Some(t + *limit))).min()
            }
            Condition::SignedIn(limit) => later(who.factors.auth_time.map(|t| t + *limit)),
            Condition::Hours(hours) => hours.next_edge(now),
            Condition::Dates(dates) => dates.next_edge(now),
            Condition::Device(of) => of.iter().filter_map(|c| c.next_edge(who.device.as_ref(), now)).min(),
            Condition::DeviceFails(check) => check.next_edge(who.device.as_ref(), now),
            Condition::Attribute(id, test) => who.attribute(*id).values().ok().and_then(|v| test.next_edge(v, now)),
            Condition::All(p) | Condition::Any(p) | Condition::None(p) => p.iter().filter_map(|c| c.next_edge(who, now)).min(),
            _ => None,
        }
    }

    /// What a part that depends on the request says of it, whoever sends it.
    pub fn judge_request(&self, at: &Circumstances<'_>) -> Truth {
        match self {
            Condition::Network(list) => match at.address {
                None => Truth::Unknown,
                Some(address) => {
                    let address = address.to_canonical();
                    truth(list.members.iter().any(|n| n.contains(&address)))
                }
            },
            Condition::Path(paths) => paths.iter().map(|p| judge_path(at.path, p)).max().unwrap_or(Truth::No),
            Condition::Method(methods) => truth(methods.iter().any(|m| m == at.method)),
            Condition::Entrance(of) => truth(at.tunnel.is_some_and(|t| of.contains(&t.entrance))),
            Condition::Profile(wanted) => truth(at.tunnel.is_some_and(|t| t.profile.is_some() == *wanted)),
            // What a client does not say of itself is not known; where no tunnel asks, it is no.
            Condition::Platform(of) => match at.tunnel.map(|t| &t.platform) {
                None => Truth::No,
                Some(None) => Truth::Unknown,
                Some(Some(platform)) => truth(of.contains(platform)),
            },
            Condition::ClientVersion(least) => match at.tunnel.map(|t| t.version.as_deref().and_then(Version::parse)) {
                None => Truth::No,
                Some(None) => Truth::Unknown,
                Some(Some(version)) => truth(version >= *least),
            },
            _ => Truth::Unknown,
        }
    }
}

/// An upstream might read the path in several ways: yes where all readings lie there, no where none does.
fn judge_path(raw: &str, place: &str) -> Truth {
    if path::is_plainly_below(raw, place) {
        Truth::Yes
    } else if path::may_be_below(raw, &place.to_lowercase()) {
        Truth::Unknown
    } else {
        Truth::No
    }
}

fn in_group(who: &Identity, holds: impl Fn(&Groups) -> bool) -> Truth {
    match &who.groups {
        Groups::Known { .. } => truth(holds(&who.groups)),
        Groups::Unknown { .. } => Truth::Unknown,
    }
}

/// An attribute whose source answered without it, or of which a mapping left nothing, is known to be absent; any other absence is not knowing.
fn absent_truth(absence: &Absence) -> Truth {
    match absence {
        Absence::NotReleased | Absence::NotInEntry | Absence::DroppedBy { .. } | Absence::NotGiven => Truth::No,
        _ => Truth::Unknown,
    }
}
