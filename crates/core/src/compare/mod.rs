//! Two editions compared: what would change for people first, in words, then every other key, then the plain difference.
//!
//! Access is compared by whom the compiled rules admit, so that a rule written in another way is no change ([`access`],
//! [`admits`]); everything else is compared key by key as it stands in the documents, so that no key can be forgotten here
//! ([`keys`]). What rules stand on may change whom they admit without any rule changing ([`sources`]).

mod access;
mod admits;
mod atoms;
mod diagram;
mod keys;
mod lines;
mod reach;
mod roles;
mod rules;
mod sources;
mod who;
mod words;

pub use lines::difference;
pub use roles::changes_roles;
pub use sources::{ChangedSource, changed_sources};
pub use words::users_words;

use serde::{Deserialize, Serialize};

use crate::site::{Place, Site};
use crate::step::Lang;
use rules::Gift;
use who::Who;

/// Which way a change goes for those who come.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Bearing {
    /// Somebody may lose something.
    Narrower,
    /// Somebody may gain something.
    Wider,
    /// Neither can be said.
    Other,
}

/// One change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    pub bearing: Bearing,
    /// The part that changes, such as `gate berths`.
    pub place: String,
    what: What,
}

/// What changes.
#[derive(Clone, Debug, PartialEq, Eq)]
enum What {
    PartAdded,
    PartRemoved,
    /// A new gate, or the console, with whom it admits.
    PlaceAdded {
        admits: Vec<Who>,
    },
    PlaceAddedByRules {
        rules: usize,
    },
    Admits {
        who: Who,
    },
    AdmitsNoMore {
        who: Who,
    },
    AdmitsEverybody,
    AdmitsNobody,
    Gives {
        gift: Gift,
        who: Who,
    },
    GivesNoMore {
        gift: Gift,
        who: Who,
    },
    /// A reach leads to more, at these gates.
    ReachWider {
        of: Vec<String>,
        users: Vec<Place>,
    },
    ReachNarrower {
        of: Vec<String>,
        users: Vec<Place>,
    },
    /// Whom the rules admit, before and after, is too much for words.
    NotTold,
    /// A source changes that rules of these gates stand on.
    SourceChanged {
        users: Vec<Place>,
    },
    RuleAdded {
        rule: Sentence,
    },
    RuleRemoved {
        rule: Sentence,
    },
    RuleChanged {
        before: Sentence,
        after: Sentence,
    },
    RulesReordered,
    /// Parts whose order decides stand in another.
    PartsReordered,
    SectionAdded {
        section: Sentence,
    },
    SectionRemoved {
        section: Sentence,
    },
    SectionChanged {
        before: Sentence,
        after: Sentence,
    },
    KeyAdded {
        key: String,
        value: String,
    },
    KeyRemoved {
        key: String,
        value: String,
    },
    KeyChanged {
        key: String,
        before: String,
        after: String,
    },
}

/// A sentence in both languages.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Sentence {
    en: String,
    fr: String,
}

impl Sentence {
    fn of(make: impl Fn(Lang) -> String) -> Sentence {
        Sentence { en: make(Lang::En), fr: make(Lang::Fr) }
    }

    fn words(&self, lang: Lang) -> &str {
        match lang {
            Lang::En => &self.en,
            Lang::Fr => &self.fr,
        }
    }
}

impl Change {
    /// A stable code for filters.
    pub fn code(&self) -> &'static str {
        match &self.what {
            What::PartAdded => "part-added",
            What::PartRemoved => "part-removed",
            What::PlaceAdded { .. } | What::PlaceAddedByRules { .. } => "part-added",
            What::Admits { .. } => "admitted",
            What::AdmitsNoMore { .. } => "no-longer-admitted",
            What::AdmitsEverybody => "everybody-admitted",
            What::AdmitsNobody => "nobody-admitted",
            What::Gives { gift: Gift::Role(_), .. } => "role-given",
            What::GivesNoMore { gift: Gift::Role(_), .. } => "role-no-longer-given",
            What::Gives { gift: Gift::Reach(_), .. } => "reach-opened",
            What::GivesNoMore { gift: Gift::Reach(_), .. } => "reach-no-longer-opened",
            What::ReachWider { .. } => "reach-wider",
            What::ReachNarrower { .. } => "reach-narrower",
            What::NotTold => "not-told",
            What::SourceChanged { .. } => "source-changed",
            What::RuleAdded { .. } => "rule-added",
            What::RuleRemoved { .. } => "rule-removed",
            What::RuleChanged { .. } => "rule-changed",
            What::RulesReordered => "rules-reordered",
            What::PartsReordered => "parts-reordered",
            What::SectionAdded { .. } => "section-added",
            What::SectionRemoved { .. } => "section-removed",
            What::SectionChanged { .. } => "section-changed",
            What::KeyAdded { .. } => "key-added",
            What::KeyRemoved { .. } => "key-removed",
            What::KeyChanged { .. } => "key-changed",
        }
    }
}

/// A document with the site it compiles to.
#[derive(Clone, Copy)]
pub struct Side<'a> {
    pub text: &'a str,
    pub site: &'a Site,
}

/// Whether names that stand in both stand in another order.
fn reordered(before: &[String], after: &[String]) -> bool {
    let common = |of: &[String], other: &[String]| {
        let other: std::collections::HashSet<&String> = other.iter().collect();
        of.iter().filter(|n| other.contains(n)).cloned().collect::<Vec<_>>()
    };
    common(before, after) != common(after, before)
}

/// Every change from one edition to another: what people lose first, then what they gain, then the rest.
pub fn compare(before: Side<'_>, after: Side<'_>) -> Vec<Change> {
    let mut out = access::changes(before.site, after.site);
    out.extend(reach::changes(before.site, after.site));
    out.extend(sources::changes(before, after));
    out.extend(keys::changes(before.text, after.text));
    out.sort_by_key(|c| c.bearing);
    out
}
