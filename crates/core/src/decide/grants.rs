//! Grants of several rules, joined in the order of the rules.

use chrono::Duration;

use crate::Moment;
use crate::site::Grants;
use crate::step;
use crate::step::{Lang, Phrase, Witness};

/// What all rules that apply give together.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Joined {
    pub roles: Vec<String>,
    /// Values by name; of several, the first rule's.
    pub deliver: Vec<(String, String)>,
    messages: Vec<String>,
    idle: Option<Duration>,
    absolute: Option<Duration>,
    /// The moment from which time alone may have changed it.
    pub(super) good_until: Option<Moment>,
}

fn add(to: &mut Vec<String>, more: &[String]) {
    for m in more {
        if !to.contains(m) {
            to.push(m.clone());
        }
    }
}

impl Joined {
    /// Adds roles.
    pub(super) fn add_roles(&mut self, roles: &[String]) {
        add(&mut self.roles, roles);
    }

    /// Joins what one more rule gives. Where it gives another single value than an earlier rule, that one counts, and a step
    /// says so.
    pub(super) fn join(&mut self, rule: &str, g: &Grants, witness: &mut impl Witness) {
        add(&mut self.roles, &g.roles);
        add(&mut self.messages, g.message.as_slice());
        let mut conflict = |what: &str, kept: String, dropped: String| {
            witness.step(|| step!(RuleConflict { rule, what, kept, dropped }));
        };
        for (name, value) in &g.deliver {
            match self.deliver.iter().find(|(n, _)| n == name) {
                None => self.deliver.push((name.clone(), value.clone())),
                Some((_, kept)) if kept == value => {}
                Some((_, kept)) => conflict(name, kept.clone(), value.clone()),
            }
        }
        for (what, into, new) in [("idle", &mut self.idle, g.idle), ("absolute", &mut self.absolute, g.absolute)] {
            match (&*into, new) {
                (None, Some(_)) => *into = new,
                (Some(kept), Some(n)) if *kept != n => {
                    conflict(what, format!("{} min", kept.num_minutes()), format!("{} min", n.num_minutes()));
                }
                _ => {}
            }
        }
    }

    /// Notes when time may change a rule.
    pub(super) fn turns(&mut self, at: Option<Moment>) {
        self.good_until = self.good_until.into_iter().chain(at).min();
    }

    /// Roles, and what else comes with entry, if anything does.
    pub(super) fn into_parts(self) -> (Vec<String>, Option<Box<Terms>>) {
        let Joined { roles, deliver: _, messages, idle, absolute, good_until: _ } = self;
        let terms = Terms { messages, idle, absolute };
        let any = terms != Terms::default();
        (roles, any.then(|| Box::new(terms)))
    }
}

/// What a rule gives, as phrases.
pub(super) fn gives(g: &Grants) -> Vec<Phrase> {
    let mut out = vec![];
    if g.enter {
        out.push(Phrase::Entry { roles: g.roles.clone() });
    } else if !g.roles.is_empty() {
        out.push(Phrase::Roles { roles: g.roles.clone() });
    }
    let terms = g.terms(Lang::En);
    if !terms.is_empty() {
        out.push(Phrase::Terms { of: terms });
    }
    out
}

/// What comes with entry at times.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Terms {
    /// Words for the person.
    pub messages: Vec<String>,
    /// Lifetimes of the session at this gate, where a rule shortens them.
    pub idle: Option<chrono::Duration>,
    pub absolute: Option<chrono::Duration>,
}

impl Terms {
    /// In a few words each.
    pub fn words(&self) -> Vec<String> {
        let minutes = |what: &str, d: Option<chrono::Duration>| d.map(|d| format!("{what} {} min", d.num_minutes()));
        let mut out: Vec<String> = self.messages.iter().map(|m| format!("“{m}”")).collect();
        out.extend(minutes("idle", self.idle));
        out.extend(minutes("absolute", self.absolute));
        out
    }
}
