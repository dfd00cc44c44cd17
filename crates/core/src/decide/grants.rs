//! Grants of several rules, joined in the order of the rules.

use chrono::Duration;

use crate::Moment;
use crate::site::{Grants, octets_in_words, rate_in_words};
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
    opens: Vec<Opens>,
    quota: Option<u64>,
    rate: Option<u64>,
    devices: Option<u16>,
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

/// Takes a single value, unless an earlier rule gave one; where that is another one, `conflict` is told both.
fn first_counts<T: Copy + PartialEq>(
    what: &str,
    kept: &mut Option<T>,
    new: Option<T>,
    words: impl Fn(T) -> String,
    conflict: &mut impl FnMut(&str, String, String),
) {
    match (*kept, new) {
        (None, _) => *kept = new,
        (Some(first), Some(other)) if first != other => conflict(what, words(first), words(other)),
        (Some(_), _) => {}
    }
}

impl Joined {
    /// What opens, in the order of the rules.
    pub fn opens(&self) -> impl Iterator<Item = &Opens> {
        self.opens.iter()
    }

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
        for reach in &g.reach {
            if !self.opens.iter().any(|o| o.reach == *reach) {
                self.opens.push(Opens { reach: reach.clone(), rule: rule.to_owned() });
            }
        }
        let minutes = |d: Duration| format!("{} min", d.num_minutes());
        first_counts("quota", &mut self.quota, g.quota, |n| octets_in_words(n, Lang::En), &mut conflict);
        first_counts("rate", &mut self.rate, g.rate, rate_in_words, &mut conflict);
        first_counts("devices", &mut self.devices, g.devices, |n| n.to_string(), &mut conflict);
        first_counts("idle", &mut self.idle, g.idle, minutes, &mut conflict);
        first_counts("absolute", &mut self.absolute, g.absolute, minutes, &mut conflict);
    }

    /// Notes when time may change a rule.
    pub(super) fn turns(&mut self, at: Option<Moment>) {
        self.good_until = self.good_until.into_iter().chain(at).min();
    }

    /// Roles, and what else comes with entry, if anything does.
    pub(super) fn into_parts(self) -> (Vec<String>, Option<Box<Terms>>) {
        let Joined { roles, deliver: _, messages, idle, absolute, opens, quota, rate, devices, good_until: _ } = self;
        let terms = Terms { messages, idle, absolute, opens, quota, rate, devices };
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
    /// What opens in a network or a tunnel, in the order of the rules.
    pub opens: Vec<Opens>,
    /// How many octets may pass within 24 hours, over all machines of the person.
    pub quota: Option<u64>,
    /// How many bits may pass in a second, each way.
    pub rate: Option<u64>,
    /// How many machines of theirs may be on at once.
    pub devices: Option<u16>,
}

/// A reach that opens, with the first rule that gives it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Opens {
    pub reach: String,
    pub rule: String,
}

impl Terms {
    /// In a few words each; what opens has its own.
    pub fn words(&self, lang: Lang) -> Vec<String> {
        let of = Grants {
            idle: self.idle,
            absolute: self.absolute,
            quota: self.quota,
            rate: self.rate,
            devices: self.devices,
            ..Grants::default()
        };
        let mut out: Vec<String> =
            self.messages.iter().map(|m| if lang == Lang::Fr { format!("« {m} »") } else { format!("“{m}”") }).collect();
        out.extend(of.terms(lang));
        out
    }
}
