//! Rules in a form that can be compared between two sites: by what they mean, not by how or where they stand.

use std::collections::HashMap;
use std::rc::Rc;

use super::atoms::{Atom, members, ones};
use crate::condition::Condition;
use crate::site::{Access, Effect, Grants, Rule, Site};

/// What a clause does to somebody for whom it holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum Does {
    Enter,
    Refuse,
    /// Asks for more.
    Asks,
    /// Gives roles alone.
    Gives,
}

/// What a rule gives by a name from the site file.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) enum Gift {
    Role(String),
    Reach(String),
}

/// The part of a rule that nothing else of it hangs on: a rule for any of ten groups is ten clauses.
#[derive(Clone, Debug)]
pub(super) struct Clause {
    pub(super) does: Does,
    pub(super) when: Condition,
    /// What is asked for besides, by a clause that asks.
    pub(super) need: Option<Condition>,
    pub(super) gifts: Rc<[Gift]>,
    /// Equal for clauses that mean the same in two sites.
    pub(super) key: String,
}

/// One rule, read for comparing.
#[derive(Debug)]
pub(super) struct Read {
    pub(super) name: String,
    /// All that the rule says, words for people among it.
    pub(super) key: String,
    pub(super) clauses: Vec<Clause>,
}

/// A site with its rules read; those of the whole site once, however many gates they stand before.
pub(super) struct Reader<'a> {
    pub(super) site: &'a Site,
    of_site: HashMap<&'a str, Rc<Read>>,
}

impl<'a> Reader<'a> {
    pub(super) fn new(site: &'a Site) -> Reader<'a> {
        let of_site = site.site_rules.iter().map(|r| (r.name.as_str(), Rc::new(read(site, r)))).collect();
        Reader { site, of_site }
    }

    /// The rules of a gate or of the console, in order.
    pub(super) fn rules(&self, access: &Access) -> Vec<Rc<Read>> {
        let one = |(i, rule): (usize, &Rule)| match self.of_site.get(rule.name.as_str()) {
            Some(known) if i < self.site.site_rules.len() => known.clone(),
            _ => Rc::new(read(self.site, rule)),
        };
        access.rules.iter().enumerate().map(one).collect()
    }
}

fn read(site: &Site, rule: &Rule) -> Read {
    let when = key_of(site, &rule.when);
    let (does, need, gifts, effect) = match &rule.effect {
        Effect::Give(g) => {
            let from = g.roles_from.as_ref().and_then(|r| r.attribute).map(|id| site.attribute_name(id));
            let mut plain = g.as_ref().clone();
            plain.roles_from.iter_mut().for_each(|r| r.attribute = None);
            let does = if g.enter { Does::Enter } else { Does::Gives };
            (does, None, gifts(g), format!("{plain:?} {from:?}"))
        }
        Effect::Refuse { words } => (Does::Refuse, None, vec![], words.clone()),
        Effect::StepUp(need) => (Does::Asks, Some(need.clone()), vec![], key_of(site, need)),
    };
    let gifts: Rc<[Gift]> = gifts.into();
    let asked = need.as_ref().map(|n| key_of(site, n)).unwrap_or_default();
    let mut clauses = vec![];
    each(&rule.when, &mut |when: Condition| {
        let key = format!("{does:?} {asked} {}", key_of(site, &when));
        clauses.push(Clause { does, when, need: need.clone(), gifts: gifts.clone(), key });
    });
    Read { name: rule.name.clone(), key: format!("{does:?} {effect} {when}"), clauses }
}

fn gifts(g: &Grants) -> Vec<Gift> {
    let roles = g.roles.iter().cloned().map(Gift::Role);
    roles.chain(g.reach.iter().cloned().map(Gift::Reach)).collect()
}

/// The conditions of which any is enough.
fn each(when: &Condition, take: &mut impl FnMut(Condition)) {
    match when {
        Condition::Any(parts) => parts.iter().for_each(|p| each(p, take)),
        other => match members(other) {
            Some(of) => of.into_iter().for_each(take),
            None => take(other.clone()),
        },
    }
}

/// A condition as a text that is the same for what means the same: names of attributes, members of lists, no names of lists.
pub(super) fn key_of(site: &Site, when: &Condition) -> String {
    let list = |kind: &str, parts: &[Condition]| {
        let parts: Vec<String> = parts.iter().map(|p| key_of(site, p)).collect();
        format!("{kind}({})", parts.join(","))
    };
    match when {
        Condition::All(p) => list("all", p),
        Condition::Any(p) => list("any", p),
        Condition::None(p) => list("none", p),
        Condition::Present(id, wanted) => format!("present {wanted} {}", site.attribute_name(*id)),
        other => match (members(other), ones(other)) {
            (Some(of), _) => list("any", &of),
            (None, Some((kind, of))) => {
                let of: Vec<String> = of.into_iter().map(|(o, _)| o).collect();
                format!("{kind} {of:?}")
            }
            (None, None) => Atom::of(site, other).map(|a| a.key).unwrap_or_default(),
        },
    }
}
