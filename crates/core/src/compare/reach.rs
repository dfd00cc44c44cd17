//! Reach compared as compiled: what it leads to besides, and what no more, whatever the order and the words of the document.

use ipnet::IpNet;

use super::{Bearing, Change, What};
use crate::site::{Destination, Gate, Place, Reach, Service, Site};

/// The most destinations that are named; the number stands for the rest.
const NAMED_MAX: usize = 5;

pub(super) fn changes(before: &Site, after: &Site) -> Vec<Change> {
    let mut out = vec![];
    for new in &after.reaches {
        let Some(old) = before.reach(&new.name) else { continue };
        let users: Vec<Place> = after.gates_opening(&new.name).map(Gate::place).collect();
        let place = format!("reach {}", new.name);
        let mut add = |bearing, of: Vec<String>| {
            if !of.is_empty() {
                let what = if bearing == Bearing::Wider {
                    What::ReachWider { of: few(of), users: users.clone() }
                } else {
                    What::ReachNarrower { of: few(of), users: users.clone() }
                };
                out.push(Change { bearing, place: place.clone(), what });
            }
        };
        add(Bearing::Narrower, beyond(old, new));
        add(Bearing::Wider, beyond(new, old));
    }
    out
}

/// What one reach leads to and the other does not: destinations and services, each for itself, and what the other leaves out besides.
fn beyond(one: &Reach, other: &Reach) -> Vec<String> {
    let networks = |r: &Reach| -> Vec<IpNet> {
        let of = r.to.iter().filter_map(|d| match d {
            Destination::Network(n) => Some(*n),
            Destination::Name(_) => None,
        });
        IpNet::aggregate(&of.collect())
    };
    let (mine, theirs, left_out) = (networks(one), networks(other), IpNet::aggregate(&one.except));
    let meets = |n: &IpNet| mine.iter().any(|m| m.contains(n) || n.contains(m));
    let led = |d: &&Destination| match d {
        Destination::Network(n) => !theirs.iter().any(|t| t.contains(n)),
        Destination::Name(p) => !other.to.iter().any(|d| matches!(d, Destination::Name(o) if o.covers_all(p))),
    };
    let served = |s: &&Service| !other.services.iter().any(|o| o.covers(**s));
    let mut out: Vec<String> = one.to.iter().filter(led).map(ToString::to_string).collect();
    out.extend(one.services.iter().filter(served).map(ToString::to_string));
    let besides = other.except.iter().filter(|n| meets(n) && !left_out.iter().any(|l| l.contains(*n)));
    out.extend(besides.map(|n| Destination::Network(*n).to_string()));
    out
}

fn few(mut of: Vec<String>) -> Vec<String> {
    let more = of.len().saturating_sub(NAMED_MAX);
    of.truncate(NAMED_MAX);
    if more > 0 {
        of.push(format!("+{more}"));
    }
    of
}
