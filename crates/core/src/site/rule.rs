//! Rules: when each applies and what it gives, with an index by group, and reading them.

use std::collections::HashMap;

use super::attribute_id::AttributeId;
use super::condition::Condition;
use chrono::Duration;

/// Rules in the order of the site file, with an index by group: most rules ask for a group, and of those only the ones whose
/// group somebody is in can concern them.
#[derive(Clone, Debug, Default)]
pub struct Rules {
    all: Vec<Rule>,
    by_group: HashMap<String, Vec<usize>>,
    /// Rules that may apply to somebody in no group at all.
    others: Vec<usize>,
}

impl Rules {
    /// The same with one rule more, after all others.
    pub(crate) fn and(&self, more: impl IntoIterator<Item = Rule>) -> Rules {
        Rules::new(self.all.iter().cloned().chain(more).collect())
    }

    /// Indexes rules.
    pub fn new(all: Vec<Rule>) -> Rules {
        let mut out = Rules { all, ..Rules::default() };
        for (i, rule) in out.all.iter().enumerate() {
            match gathering(&rule.when) {
                Some(groups) => {
                    for name in groups {
                        let list = out.by_group.entry(name.to_lowercase()).or_default();
                        if list.last() != Some(&i) {
                            list.push(i);
                        }
                    }
                }
                None => out.others.push(i),
            }
        }
        out
    }

    /// The rules that can concern somebody in these groups (in lower case), in order: every other one asks for a group
    /// that they are not in.
    pub fn concerning<'a>(&'a self, groups: impl Iterator<Item = &'a str>) -> Vec<&'a Rule> {
        let mut found: Vec<usize> = groups.filter_map(|g| self.by_group.get(g)).flatten().copied().collect();
        found.extend(&self.others);
        found.sort_unstable();
        found.dedup();
        found.into_iter().filter_map(|i| self.all.get(i)).collect()
    }
}

impl std::ops::Deref for Rules {
    type Target = [Rule];
    fn deref(&self) -> &[Rule] {
        &self.all
    }
}

/// One rule: when it applies and what it gives.
#[derive(Clone, Debug)]
pub struct Rule {
    pub name: String,
    pub when: Condition,
    pub effect: Effect,
}

/// Groups of which somebody must be in one for a condition to hold, or to be unknown; none where there are no such groups.
fn gathering(when: &Condition) -> Option<Vec<&str>> {
    match when {
        Condition::Group(g) | Condition::DirectGroup(g) => Some(vec![g]),
        Condition::AnyGroup(list) => Some(list.members.iter().map(String::as_str).collect()),
        Condition::All(parts) => parts.iter().find_map(gathering),
        Condition::Any(parts) if !parts.is_empty() => {
            parts.iter().map(gathering).collect::<Option<Vec<_>>>().map(|all| all.into_iter().flatten().collect())
        }
        _ => None,
    }
}

/// What a rule does.
#[derive(Clone, Debug, PartialEq)]
pub enum Effect {
    /// Gives something: entry, or what comes with it.
    Give(Box<Grants>),
    /// Refusal, with words for the person. A refusal wins over every entry.
    Refuse { words: String },
    /// Refuses unless the sign-in was as strong and as fresh as this.
    StepUp(Condition),
}

/// Roles that come from somebody's claims or groups.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RolesFrom {
    /// The attribute whose values are roles; none for names of groups.
    pub attribute: Option<AttributeId>,
    /// Roles that may come so; at a gate, empty means any that is plain.
    pub only: Vec<String>,
}

/// The longest name of a role that comes from outside, in bytes, and the most of them.
const ROLE_MAX: usize = 80;
const ROLES_MAX: usize = 50;

impl RolesFrom {
    /// Roles among values, and whatever of them is none.
    pub fn among<'v>(&self, values: impl IntoIterator<Item = &'v str>) -> (Vec<String>, Vec<String>) {
        let plain = |v: &str| {
            let fit = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | ':' | '/' | ' ');
            !v.trim().is_empty() && v.len() <= ROLE_MAX && v.chars().all(fit)
        };
        let (mut roles, mut other): (Vec<String>, Vec<String>) = (vec![], vec![]);
        for value in values {
            let known = if self.only.is_empty() {
                plain(value).then_some(value)
            } else {
                self.only.iter().map(String::as_str).find(|o| o.eq_ignore_ascii_case(value))
            };
            let into = if known.is_some() && roles.len() < ROLES_MAX { &mut roles } else { &mut other };
            let value = known.unwrap_or(value).to_owned();
            if !into.contains(&value) {
                into.push(value);
            }
        }
        (roles, other)
    }
}

/// Units of an amount of data, in octets, the smallest first.
pub(crate) const OCTETS: [(&str, u64); 4] = [("kB", 1_000), ("MB", 1_000_000), ("GB", 1_000_000_000), ("TB", 1_000_000_000_000)];
/// Units of a rate, in bits a second.
pub(crate) const BITS: [(&str, u64); 3] = [("kbit/s", 1_000), ("Mbit/s", 1_000_000), ("Gbit/s", 1_000_000_000)];

/// What a rule gives. Grants of all rules that apply are joined; of single values the first in order counts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Grants {
    pub enter: bool,
    pub roles: Vec<String>,
    /// Roles besides, worked out anew at every decision.
    pub roles_from: Option<RolesFrom>,
    /// Values that a delivery may hand on, by name. Single values.
    pub deliver: Vec<(String, String)>,
    /// Words for the person, shown at the quay.
    pub message: Option<String>,
    /// Lifetimes of the session at the gate; never longer than the site's. Single values.
    pub idle: Option<Duration>,
    pub absolute: Option<Duration>,
    /// Names of what a network or a tunnel opens, joined with those of others.
    pub reach: Vec<String>,
    /// How many octets may pass in both directions during one admission. Single values, as the ones below.
    pub quota: Option<u64>,
    /// How many bits may pass in a second, each way.
    pub rate: Option<u64>,
    /// How many machines of theirs may be on at once.
    pub devices: Option<u16>,
}

impl Effect {
    /// What it gives, where it gives.
    pub fn gives(&self) -> Option<&Grants> {
        match self {
            Effect::Give(grants) => Some(grants),
            Effect::Refuse { .. } | Effect::StepUp(_) => None,
        }
    }

    /// Whether it gives a reach.
    pub fn opens(&self, reach: &str) -> bool {
        self.gives().is_some_and(|g| g.reach.iter().any(|r| r == reach))
    }

    /// Whether it gives a role, or may where roles come from outside.
    pub fn may_give(&self, role: &str) -> bool {
        let from_outside = |f: &RolesFrom| f.only.is_empty() || f.only.iter().any(|o| o.eq_ignore_ascii_case(role));
        self.gives().is_some_and(|g| g.roles.iter().any(|r| r == role) || g.roles_from.as_ref().is_some_and(from_outside))
    }

    /// Whether the rule grants entry.
    pub fn enters(&self) -> bool {
        matches!(self, Effect::Give(g) if g.enter)
    }
}
