//! Steps: what happened in a crossing, kept as data. Sentences come from one [`catalogue`] when they are shown.

mod catalogue;
mod phrase;
mod reasons;
mod remedies;
mod render;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::text::shorten;

pub use catalogue::{ALL, Spec, StepCode, says};
pub use phrase::Phrase;
pub use reasons::{REASONS, reason_text};
pub use render::{param_text, remedy, sentence};

/// The language a sentence is told in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Lang {
    #[default]
    En,
    Fr,
}

impl Lang {
    /// The best supported language for an Accept-Language header (RFC 9110 12.5.4); English when none is named.
    pub fn from_accept(header: &str) -> Lang {
        let mut best = (Lang::En, 0.0f32);
        for part in header.split(',').take(16) {
            let mut pieces = part.trim().split(';');
            let tag = pieces.next().unwrap_or_default().trim().to_ascii_lowercase();
            let q = pieces.find_map(|p| p.trim().strip_prefix("q=")).map_or(1.0, |q| q.parse().unwrap_or(0.0));
            let lang = match tag.split('-').next() {
                Some("fr") => Lang::Fr,
                Some("en") => Lang::En,
                _ => continue,
            };
            if q > best.1 {
                best = (lang, q);
            }
        }
        best.0
    }

    /// The language tag (RFC 5646).
    pub fn tag(self) -> &'static str {
        match self {
            Lang::En => "en",
            Lang::Fr => "fr",
        }
    }
}

/// The part of the path a step belongs to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Stage {
    Gate,
    Provider,
    Check,
    Directory,
    Identity,
    Rules,
    Delivery,
    HandBack,
    Session,
    Upstream,
}

/// How a step bears on the outcome: shown by shape and word as well as colour.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Bearing {
    /// It happened; it neither helped nor hindered.
    Fact,
    /// A check passed or a rule gave something.
    Pass,
    /// Worth seeing, without having decided.
    Notice,
    /// It stopped the crossing.
    Stop,
}

/// One typed parameter of a step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Param {
    Number(i64),
    Text(String),
    List(Vec<String>),
    /// A coded reason, translated when it is shown, with detail in the words of whoever gave it.
    Reason {
        code: String,
        detail: String,
    },
    /// What was wanted, seen or given, told in the reader's language.
    Phrases {
        phrases: Vec<Phrase>,
    },
}

impl From<&str> for Param {
    fn from(s: &str) -> Param {
        Param::Text(s.to_owned())
    }
}
impl From<String> for Param {
    fn from(s: String) -> Param {
        Param::Text(s)
    }
}
impl From<i64> for Param {
    fn from(n: i64) -> Param {
        Param::Number(n)
    }
}
impl From<Vec<String>> for Param {
    fn from(l: Vec<String>) -> Param {
        Param::List(l)
    }
}

impl From<Phrase> for Param {
    fn from(p: Phrase) -> Param {
        Param::Phrases { phrases: vec![p] }
    }
}
impl From<Vec<Phrase>> for Param {
    fn from(phrases: Vec<Phrase>) -> Param {
        Param::Phrases { phrases }
    }
}

impl Param {
    /// A coded reason without detail.
    pub fn reason(code: &str) -> Param {
        Param::Reason { code: code.to_owned(), detail: String::new() }
    }

    /// With what is too long cut.
    fn cut(self) -> Param {
        match self {
            Param::Text(t) => Param::Text(shorten(&t, PARAM_MAX)),
            Param::List(mut l) => {
                let over = l.len().saturating_sub(LIST_MAX);
                l.truncate(LIST_MAX);
                l.iter_mut().for_each(|m| *m = shorten(m, PARAM_MAX));
                if over > 0 {
                    l.push(format!("… (+{over})"));
                }
                Param::List(l)
            }
            Param::Phrases { mut phrases } => {
                phrases.truncate(LIST_MAX);
                Param::Phrases { phrases }
            }
            Param::Reason { code, detail } => Param::Reason { code, detail: shorten(&detail, PARAM_MAX) },
            n @ Param::Number(_) => n,
        }
    }
}

/// The longest text kept in a parameter; what comes from outside is cut here, with an ellipsis.
pub const PARAM_MAX: usize = 2_000;
/// The most members kept of a list parameter.
pub const LIST_MAX: usize = 300;

/// One thing that happened.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Step {
    pub code: StepCode,
    /// Milliseconds since the crossing began.
    pub at: u32,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub params: BTreeMap<String, Param>,
}

impl Step {
    /// A step at the beginning of a crossing; a [`Story`] sets its time. Only the structs of [`says`] call it, so that no step lacks a
    /// parameter.
    fn of<const N: usize>(code: StepCode, params: [(&'static str, Param); N]) -> Step {
        Step { code, at: 0, params: params.into_iter().map(|(name, value)| (name.to_owned(), value.cut())).collect() }
    }
}

/// A step with all of its parameters: `step!(MethodRefused { method: "TRACE" })`. A parameter that is missing, or that the catalogue does
/// not name for this code, does not compile. Long values are cut ([`PARAM_MAX`], [`LIST_MAX`]).
///
/// ```compile_fail
/// passeur_core::step!(SentToSignIn {}); // It lacks where to.
/// ```
/// ```compile_fail
/// passeur_core::step!(SentToSignIn { to: "/", from: "/" }); // Nothing is said of where from.
/// ```
/// ```
/// passeur_core::step!(SentToSignIn { to: "/" });
/// ```
#[macro_export]
macro_rules! step {
    ($code:ident) => { $crate::step!($code {}) };
    ($code:ident { $($name:ident $(: $value:expr)?),* $(,)? }) => {
        $crate::step::Step::from($crate::step::says::$code {
            $($name: $crate::step::Param::from($crate::step!(@value $name $($value)?))),*
        })
    };
    (@value $name:ident) => { $name };
    (@value $name:ident $value:expr) => { $value };
}

/// Sees what a decision function does. The silent one compiles to nothing.
pub trait Witness {
    /// Whether anything is kept. Where not, what decides nothing need not be looked at.
    const TELLS: bool;

    /// Takes a step; the closure only runs where steps are kept.
    fn step(&mut self, make: impl FnOnce() -> Step);
}

/// Keeps nothing: used for every admitted request.
pub struct Silent;

impl Witness for Silent {
    const TELLS: bool = false;

    #[inline(always)]
    fn step(&mut self, _make: impl FnOnce() -> Step) {}
}

/// Keeps the steps of one crossing, in order, each with its time.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Story {
    pub steps: Vec<Step>,
    /// Milliseconds since the crossing began, set by whoever has a clock before steps are taken.
    pub at: u32,
}

/// The most steps kept of one crossing; what comes after is not recorded but for its last, deciding one.
pub const STEPS_MAX: usize = 2_000;

impl Witness for Story {
    const TELLS: bool = true;

    fn step(&mut self, make: impl FnOnce() -> Step) {
        if self.steps.len() >= STEPS_MAX {
            self.steps.pop();
        }
        self.steps.push(Step { at: self.at, ..make() });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_language_follows_the_weights_and_falls_back_to_english() {
        for (header, want) in [
            ("fr-FR,fr;q=0.9,en;q=0.8", Lang::Fr),
            ("en;q=0.2, fr;q=0.1", Lang::En),
            ("de, fr;q=0.5", Lang::Fr),
            ("fr;q=0, en", Lang::En),
            ("", Lang::En),
            ("fr;q=x", Lang::En),
        ] {
            assert_eq!(Lang::from_accept(header), want, "{header}");
        }
    }

    #[test]
    fn a_step_survives_storage_and_long_values_are_cut() {
        let step = step!(ProviderRefused { provider: "p", error: "x".repeat(5000), description: Param::reason("not-released") });
        let back: Step = serde_json::from_str(&serde_json::to_string(&step).unwrap()).unwrap();
        assert_eq!(back, step);
        let Param::Text(t) = &back.params["error"] else { panic!() };
        assert_eq!(t.chars().count(), PARAM_MAX);
    }

    #[test]
    fn a_story_is_bounded_and_keeps_its_last_step() {
        let mut story = Story::default();
        for _ in 0..STEPS_MAX + 10 {
            story.step(|| step!(NothingGrants { gate: "berths", rules: 3 }));
        }
        story.step(|| step!(RefusedByRule { rule: "visitors", words: "No.", saw: vec![Phrase::Everyone] }));
        assert_eq!(story.steps.len(), STEPS_MAX);
        assert_eq!(story.steps.last().unwrap().code, StepCode::RefusedByRule);
    }
}
