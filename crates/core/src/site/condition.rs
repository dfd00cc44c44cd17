//! When a rule applies: the tables of a site file as types. What they say of somebody is judged in [`crate::condition`].

use super::attribute_id::AttributeId;
use super::comparison::{Compared, Test, Version};
use super::device::DeviceCheck;
use super::time::{Dates, Hours};
use crate::person::Person;
use std::sync::Arc;

use chrono::Duration;
use ipnet::IpNet;

/// When a rule applies.
#[derive(Clone, Debug, PartialEq)]
pub enum Condition {
    /// Whoever signed in.
    Everyone,
    /// Member of the group, directly or through others. Names compare without regard to case.
    Group(String),
    /// Member of the group itself, not through another.
    DirectGroup(String),
    /// Member of any of these groups; the list's name, where they come from one.
    AnyGroup(Named<String>),
    /// A value of the attribute passes the test.
    Attribute(AttributeId, Test),
    /// The attribute has a value (true) or is known to have none (false).
    Present(AttributeId, bool),
    /// One of these people.
    Person(Named<Person>),
    /// Came in by one of these ways.
    WayIn(Vec<String>),
    /// One of these authentication methods was used, and not longer ago than this.
    Factor(Vec<String>, Option<Duration>),
    /// The person proved who they are not longer ago than this.
    SignedIn(Duration),
    /// The authentication context is one of these.
    Context(Vec<String>),
    /// Comes from one of these networks.
    Network(Named<IpNet>),
    /// Within these hours of these days.
    Hours(Hours),
    /// Within these dates.
    Dates(Dates),
    /// At one of these gates; for rules of the whole site.
    Gate(Vec<String>),
    /// At or below one of these paths, in whatever spelling.
    Path(Vec<String>),
    /// One of these request methods.
    Method(Vec<String>),
    /// Comes by a tunnel, at one of these entrances.
    Entrance(Vec<String>),
    /// Comes by a tunnel, from a client that says it runs on one of these platforms.
    Platform(Vec<String>),
    /// Comes by a tunnel, from a client that says it is of this version or a later one.
    ClientVersion(Version),
    /// Comes by a tunnel whose client proved with a certificate of the gate that it is the person's (true), or did not (false).
    Profile(bool),
    /// On a device that passes one of these checks.
    Device(Vec<Arc<DeviceCheck>>),
    /// On a device that does not pass a check, or of which that is not known.
    DeviceFails(Arc<DeviceCheck>),
    All(Vec<Condition>),
    Any(Vec<Condition>),
    /// None of these holds.
    None(Vec<Condition>),
}

/// Members, with the name of the list they come from.
#[derive(Clone, Debug, PartialEq)]
pub struct Named<T> {
    pub list: Option<String>,
    pub members: Vec<T>,
}

/// Yes, no, or not known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Truth {
    No,
    Unknown,
    Yes,
}

impl std::ops::Not for Truth {
    type Output = Truth;

    fn not(self) -> Truth {
        match self {
            Truth::No => Truth::Yes,
            Truth::Unknown => Truth::Unknown,
            Truth::Yes => Truth::No,
        }
    }
}

pub(crate) fn truth(b: bool) -> Truth {
    if b { Truth::Yes } else { Truth::No }
}

impl Condition {
    /// Whether time alone may change what the condition says of somebody.
    pub fn is_timed(&self) -> bool {
        match self {
            Condition::Factor(_, Some(_)) | Condition::SignedIn(_) | Condition::Hours(_) | Condition::Dates(_) => true,
            Condition::Device(of) => of.iter().any(|c| c.certificate.is_some()),
            Condition::DeviceFails(check) => check.certificate.is_some(),
            Condition::Attribute(_, Test::Compared(_, with)) => *with == Compared::Now,
            Condition::All(p) | Condition::Any(p) | Condition::None(p) => p.iter().any(Condition::is_timed),
            _ => false,
        }
    }

    /// Whether any part asks where the request comes from.
    pub fn asks_for_network(&self) -> bool {
        match self {
            Condition::Network(_) => true,
            Condition::All(p) | Condition::Any(p) | Condition::None(p) => p.iter().any(Condition::asks_for_network),
            _ => false,
        }
    }

    /// Whether it is a part that depends on the single request, or on the tunnel that asks.
    pub fn is_of_request(&self) -> bool {
        matches!(
            self,
            Condition::Network(_)
                | Condition::Path(_)
                | Condition::Method(_)
                | Condition::Entrance(_)
                | Condition::Platform(_)
                | Condition::ClientVersion(_)
                | Condition::Profile(_)
        )
    }

    /// The parts that depend on the single request, each once.
    pub fn of_request<'a>(&'a self, out: &mut Vec<&'a Condition>) {
        match self {
            one if one.is_of_request() && !out.contains(&one) => out.push(one),
            Condition::All(p) | Condition::Any(p) | Condition::None(p) => p.iter().for_each(|c| c.of_request(out)),
            _ => {}
        }
    }

    /// Every check of devices that it asks about.
    pub fn device_checks(&self) -> Vec<&DeviceCheck> {
        match self {
            Condition::Device(of) => of.iter().map(|c| &**c).collect(),
            Condition::DeviceFails(check) => vec![check],
            Condition::All(p) | Condition::Any(p) | Condition::None(p) => p.iter().flat_map(Condition::device_checks).collect(),
            _ => vec![],
        }
    }

    /// Every group the condition names.
    pub fn groups(&self) -> Vec<&str> {
        match self {
            Condition::Group(g) | Condition::DirectGroup(g) => vec![g],
            Condition::AnyGroup(list) => list.members.iter().map(String::as_str).collect(),
            Condition::All(p) | Condition::Any(p) | Condition::None(p) => p.iter().flat_map(|c| c.groups()).collect(),
            _ => vec![],
        }
    }

    /// Whether it asks for one of these ways in, so that somebody who came by it is meant.
    pub fn means_way(&self, ways: &[&str]) -> bool {
        match self {
            Condition::WayIn(of) => of.iter().any(|w| ways.contains(&w.as_str())),
            Condition::All(p) | Condition::Any(p) => p.iter().any(|c| c.means_way(ways)),
            _ => false,
        }
    }

    /// Whether it can hold of nobody, where these groups have no members: a group that is not there cannot be joined.
    pub fn fails_without(&self, missing: &dyn Fn(&str) -> bool) -> bool {
        match self {
            Condition::Group(g) | Condition::DirectGroup(g) => missing(g),
            Condition::AnyGroup(list) => list.members.iter().all(|g| missing(g)),
            Condition::All(p) => p.iter().any(|c| c.fails_without(missing)),
            Condition::Any(p) => p.iter().all(|c| c.fails_without(missing)),
            _ => false,
        }
    }

    /// Every attribute the condition looks at.
    pub fn attributes(&self) -> Vec<AttributeId> {
        match self {
            Condition::Attribute(id, _) | Condition::Present(id, _) => vec![*id],
            Condition::All(p) | Condition::Any(p) | Condition::None(p) => p.iter().flat_map(|c| c.attributes()).collect(),
            _ => vec![],
        }
    }
}
