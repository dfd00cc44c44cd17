//! Two editions compared: what would change for people first, in words, then every other key, then the plain difference.
//!
//! Access is compared as compiled, so that a rule written in another way is no change; everything else is compared key by
//! key as it stands in the documents, so that no key can be forgotten here.

mod access;
mod keys;
mod roles;

pub use roles::changes_roles;

use serde::{Deserialize, Serialize};

use crate::site::Site;
use crate::step::Lang;

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
    GroupIn {
        group: String,
    },
    GroupOut {
        group: String,
    },
    GroupRefused {
        group: String,
    },
    GroupNotRefused {
        group: String,
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

    fn tell(&self, lang: Lang) -> &str {
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
            What::GroupIn { .. } => "group-admitted",
            What::GroupOut { .. } => "group-no-longer-admitted",
            What::GroupRefused { .. } => "group-refused",
            What::GroupNotRefused { .. } => "group-no-longer-refused",
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

    /// The change in one sentence.
    pub fn words(&self, lang: Lang) -> String {
        let p = &self.place;
        if lang == Lang::Fr {
            return match &self.what {
                What::PartAdded => format!("{p} serait nouveau"),
                What::PartRemoved => format!("{p} n'existerait plus"),
                What::GroupIn { group } => format!("{p} admettrait désormais le groupe {group}"),
                What::GroupOut { group } => format!("{p} n'admettrait plus le groupe {group}"),
                What::GroupRefused { group } => format!("{p} refuserait désormais le groupe {group}"),
                What::GroupNotRefused { group } => format!("{p} ne refuserait plus le groupe {group}"),
                What::RuleAdded { rule } => format!("{p} aurait une règle de plus, {}", rule.fr),
                What::RuleRemoved { rule } => format!("{p} n'aurait plus la règle {}", rule.fr),
                What::RuleChanged { before, after } => format!("{p} aurait la règle {} ; avant, {}", after.fr, before.fr),
                What::RulesReordered => format!("{p} aurait ses règles dans un autre ordre"),
                What::PartsReordered => format!("{p} : l'ordre, qui décide, serait un autre"),
                What::SectionAdded { section } => format!("{p} aurait une section de plus, {}", section.fr),
                What::SectionRemoved { section } => format!("{p} n'aurait plus la section {}", section.fr),
                What::SectionChanged { before, after } => format!("{p} aurait la section {} ; avant, {}", after.fr, before.fr),
                What::KeyAdded { key, value } => format!("{p} : {key} serait {value} ; rien auparavant"),
                What::KeyRemoved { key, value } => format!("{p} : {key} ne serait plus écrit ; avant, {value}"),
                What::KeyChanged { key, before, after } => format!("{p} : {key} serait {after} au lieu de {before}"),
            };
        }
        match &self.what {
            What::PartAdded => format!("{p} would be new"),
            What::PartRemoved => format!("{p} would be gone"),
            What::GroupIn { group } => format!("{p} would now admit group {group}"),
            What::GroupOut { group } => format!("{p} would no longer admit group {group}"),
            What::GroupRefused { group } => format!("{p} would now refuse group {group}"),
            What::GroupNotRefused { group } => format!("{p} would no longer refuse group {group}"),
            What::RuleAdded { rule } => format!("{p} would have one more rule, {}", rule.tell(lang)),
            What::RuleRemoved { rule } => format!("{p} would lose the rule {}", rule.tell(lang)),
            What::RuleChanged { before, after } => {
                format!("{p} would have the rule {}; before, {}", after.tell(lang), before.tell(lang))
            }
            What::RulesReordered => format!("{p} would have its rules in another order"),
            What::PartsReordered => format!("{p}: the order, which decides, would be another"),
            What::SectionAdded { section } => format!("{p} would have one more section, {}", section.tell(lang)),
            What::SectionRemoved { section } => format!("{p} would lose the section {}", section.tell(lang)),
            What::SectionChanged { before, after } => {
                format!("{p} would have the section {}; before, {}", after.tell(lang), before.tell(lang))
            }
            What::KeyAdded { key, value } => format!("{p}: {key} would be {value}; nothing before"),
            What::KeyRemoved { key, value } => format!("{p}: {key} would no longer be written; before, {value}"),
            What::KeyChanged { key, before, after } => format!("{p}: {key} would be {after} instead of {before}"),
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
    let common = |of: &[String], other: &[String]| of.iter().filter(|n| other.contains(n)).cloned().collect::<Vec<_>>();
    common(before, after) != common(after, before)
}

/// Every change from one edition to another: what people lose first, then what they gain, then the rest.
pub fn compare(before: Side<'_>, after: Side<'_>) -> Vec<Change> {
    let mut out = access::changes(before.site, after.site);
    out.extend(keys::changes(before.text, after.text));
    out.sort_by_key(|c| c.bearing);
    out
}

/// The plain difference of two documents, three lines of context around each change; empty when they are equal.
pub fn difference(before: &str, after: &str) -> String {
    similar::TextDiff::from_lines(before, after)
        .unified_diff()
        .context_radius(3)
        .missing_newline_hint(false)
        .header("before", "after")
        .to_string()
}
