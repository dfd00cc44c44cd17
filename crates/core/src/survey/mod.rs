//! The survey: everything a site depends on, looked at, with what is wrong in order of harm.
//!
//! What is outside is asked by the service and comes in as [`Facts`]; what it means is decided here. [`rules`] and
//! [`deliveries`] look at the edition alone, [`outside`] and [`kerberos`] at the facts; the [`catalogue`] says each finding in words.

mod catalogue;
mod deliveries;
mod facts;
mod facts_kerberos;
mod kerberos;
mod outside;
mod rules;
mod sources;

pub use catalogue::{ALL, Code, Harm, Spec};
pub use facts::*;
pub use facts_kerberos::*;
pub use sources::{SourceCount, count_sources};

use crate::site::{Access, Site};
use crate::step::Lang;

/// One finding.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    pub code: Code,
    /// What it is about, such as `gate berths`.
    pub place: String,
    params: Vec<(&'static str, Word)>,
}

/// A parameter: a value as it is, or words in each language.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Word {
    Text(String),
    Say([String; 2]),
}

impl From<&str> for Word {
    fn from(s: &str) -> Word {
        Word::Text(s.to_owned())
    }
}
impl From<String> for Word {
    fn from(s: String) -> Word {
        Word::Text(s)
    }
}
impl From<i64> for Word {
    fn from(n: i64) -> Word {
        Word::Text(n.to_string())
    }
}

impl Finding {
    pub(crate) fn new(code: Code, place: impl Into<String>) -> Finding {
        Finding { code, place: place.into(), params: vec![] }
    }

    pub(crate) fn with(mut self, name: &'static str, value: impl Into<Word>) -> Finding {
        self.params.push((name, value.into()));
        self
    }

    /// What is wrong, in a sentence.
    pub fn what(&self, lang: Lang) -> String {
        self.fill(self.code.spec().what(lang), lang)
    }

    /// How it was seen.
    pub fn seen(&self, lang: Lang) -> String {
        self.fill(self.code.spec().seen(lang), lang)
    }

    /// What to do.
    pub fn remedy(&self, lang: Lang) -> String {
        self.fill(self.code.spec().remedy(lang), lang)
    }

    /// One pass: what a value holds is never taken for a name.
    fn fill(&self, template: &str, lang: Lang) -> String {
        let mut out = String::new();
        let mut rest = template;
        while let Some((before, after)) = rest.split_once('{') {
            out.push_str(before);
            let (name, after) = after.split_once('}').unwrap_or((after, ""));
            match self.params.iter().find(|(n, _)| *n == name) {
                Some((_, Word::Text(text))) => out.push_str(text),
                Some((_, Word::Say(words))) => out.push_str(&words[lang as usize]),
                None => out.push('—'),
            }
            rest = after;
        }
        out + rest
    }
}

/// Everything that is wrong, the worst first.
pub fn survey(site: &Site, facts: &Facts) -> Vec<Finding> {
    let mut out = vec![];
    rules::look(site, facts, &mut out);
    deliveries::look(site, &mut out);
    outside::look(site, facts, &mut out);
    kerberos::look(site, &facts.kerberos, &mut out);
    out.dedup();
    out.sort_by_key(|f| (f.code.spec().harm, f.code));
    out
}

/// The same of Kerberos alone.
pub fn survey_kerberos(site: &Site, facts: &KerberosFacts) -> Vec<Finding> {
    let mut out = vec![];
    kerberos::look(site, facts, &mut out);
    out.dedup();
    out.sort_by_key(|f| (f.code.spec().harm, f.code));
    out
}

/// Gates and the console, each with its name in words.
pub(crate) fn places(site: &Site) -> impl Iterator<Item = (String, &Access)> {
    let gates = site.gates.iter().map(|g| (format!("gate {}", g.name), &g.access));
    gates.chain(site.engineers.iter().map(|e| ("the console".to_owned(), e)))
}
