//! Changes in one sentence each.

use super::rules::Gift;
use super::who::Who;
use super::{Change, What};
use crate::site::Place;
use crate::step::Lang;

/// Several kinds of people; the same said of each.
fn all(who: &[Who], lang: Lang) -> String {
    who.iter().map(|w| w.words(lang)).collect::<Vec<_>>().join("; ")
}

/// The exception, where another rule may say the same.
fn unless(who: &Who, words: &'static str) -> &'static str {
    if who.unless { words } else { "" }
}

/// The most gates that are named.
const NAMED_MAX: usize = 6;

/// Gates and the console, the first `max` by name.
pub fn users_words(users: &[Place], max: usize, lang: Lang) -> String {
    let fr = lang == Lang::Fr;
    let one = |place: &Place| match (place, fr) {
        (Place::Gate(name), true) => format!("la porte {name}"),
        (Place::Gate(name), false) => format!("gate {name}"),
        (Place::Console, true) => "la console".to_owned(),
        (Place::Console, false) => "the console".to_owned(),
        (other, _) => other.to_string(),
    };
    let mut out = users.iter().take(max).map(one).collect::<Vec<_>>().join(", ");
    match users.len().saturating_sub(max) {
        0 => {}
        n if fr => out += &format!(" et {n} autres"),
        n => out += &format!(" and {n} more"),
    }
    out
}

/// Where a reach is opened, behind what becomes of it.
fn opened_at(users: &[Place], lang: Lang) -> String {
    match (users.is_empty(), lang) {
        (true, _) => String::new(),
        (false, Lang::En) => format!(" (opened at {})", users_words(users, NAMED_MAX, lang)),
        (false, Lang::Fr) => format!(" (ouvert à {})", users_words(users, NAMED_MAX, lang)),
    }
}

impl Change {
    /// The change in one sentence.
    pub fn words(&self, lang: Lang) -> String {
        let p = match (self.place.as_str(), lang) {
            ("the console", Lang::Fr) => "la console",
            ("the site file", Lang::Fr) => "le fichier de site",
            ("trusted proxies", Lang::Fr) => "les mandataires de confiance",
            (place, _) => place,
        };
        match lang {
            Lang::En => self.in_english(p),
            Lang::Fr => self.in_french(p),
        }
    }

    fn in_french(&self, p: &str) -> String {
        let lang = Lang::Fr;
        match &self.what {
            What::PartAdded => format!("{p} serait nouveau"),
            What::PartRemoved => format!("{p} n'existerait plus"),
            What::PlaceAdded { admits } if admits.is_empty() => format!("{p} serait nouveau et n'admettrait personne"),
            What::PlaceAdded { admits } => format!("{p} serait nouveau et admettrait : {}", all(admits, lang)),
            What::PlaceAddedByRules { rules } => {
                format!("{p} serait nouveau ; ses {rules} règles disent qui entre, et ne tiennent pas en peu de mots")
            }
            What::Admits { who } => {
                format!("{p} admettrait désormais : {}{}", who.words(lang), unless(who, " (sauf ceux qui entrent déjà)"))
            }
            What::AdmitsNoMore { who } => {
                format!("{p} n'admettrait plus : {}{}", who.words(lang), unless(who, " (sauf si une autre règle les admet)"))
            }
            What::AdmitsEverybody => format!("{p} admettrait désormais tous ceux qui se connectent"),
            What::AdmitsNobody => format!("{p} n'admettrait plus personne"),
            What::Gives { gift, who } => {
                let but = unless(who, " (sauf ceux qui l'ont déjà)");
                match gift {
                    Gift::Role(role) => format!("{p} donnerait désormais le rôle {role} à {}{but}", who.words(lang)),
                    Gift::Reach(reach) => format!("{p} ouvrirait désormais {reach} à {}{but}", who.words(lang)),
                }
            }
            What::GivesNoMore { gift, who } => {
                let but = unless(who, " (sauf si une autre règle le donne)");
                match gift {
                    Gift::Role(role) => format!("{p} ne donnerait plus le rôle {role} à {}{but}", who.words(lang)),
                    Gift::Reach(reach) => format!("{p} n'ouvrirait plus {reach} à {}{but}", who.words(lang)),
                }
            }
            What::ReachWider { of, users } => {
                format!("{p} mènerait aussi à {}{}", of.join(", "), opened_at(users, lang))
            }
            What::ReachNarrower { of, users } => {
                format!("{p} ne mènerait plus à {}{}", of.join(", "), opened_at(users, lang))
            }
            What::NotTold => {
                format!("{p} : qui entrerait ne tient pas en peu de mots ; lisez les règles ci-dessous, et répétez")
            }
            What::SourceChanged { users } => format!(
                "{p} serait autre, et ce que les règles en savent aussi : des personnes peuvent perdre ou gagner {} ; répétez avec des réponses fraîches",
                users_words(users, NAMED_MAX, lang)
            ),
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
        }
    }

    fn in_english(&self, p: &str) -> String {
        let lang = Lang::En;
        match &self.what {
            What::PartAdded => format!("{p} would be new"),
            What::PartRemoved => format!("{p} would be gone"),
            What::PlaceAdded { admits } if admits.is_empty() => format!("{p} would be new and admit nobody"),
            What::PlaceAdded { admits } => format!("{p} would be new and admit {}", all(admits, lang)),
            What::PlaceAddedByRules { rules } => {
                format!("{p} would be new; whom its {rules} rules admit does not fit into few words")
            }
            What::Admits { who } => {
                format!("{p} would now admit {}{}", who.words(lang), unless(who, " (unless they enter already)"))
            }
            What::AdmitsNoMore { who } => {
                format!("{p} would no longer admit {}{}", who.words(lang), unless(who, " (unless another rule lets them in)"))
            }
            What::AdmitsEverybody => format!("{p} would now admit everybody who signs in"),
            What::AdmitsNobody => format!("{p} would admit nobody any more"),
            What::Gives { gift, who } => {
                let but = unless(who, " (unless they have it already)");
                match gift {
                    Gift::Role(role) => format!("{p} would now give the role {role} to {}{but}", who.words(lang)),
                    Gift::Reach(reach) => format!("{p} would now open {reach} to {}{but}", who.words(lang)),
                }
            }
            What::GivesNoMore { gift, who } => {
                let but = unless(who, " (unless another rule gives it)");
                match gift {
                    Gift::Role(role) => format!("{p} would no longer give the role {role} to {}{but}", who.words(lang)),
                    Gift::Reach(reach) => format!("{p} would no longer open {reach} to {}{but}", who.words(lang)),
                }
            }
            What::ReachWider { of, users } => format!("{p} would also lead to {}{}", of.join(", "), opened_at(users, lang)),
            What::ReachNarrower { of, users } => {
                format!("{p} would no longer lead to {}{}", of.join(", "), opened_at(users, lang))
            }
            What::NotTold => {
                format!("{p}: who would enter does not fit into few words; read the rules below, and rehearse")
            }
            What::SourceChanged { users } => format!(
                "{p} would be another, and with it what rules know: people may lose or gain {}; rehearse with fresh answers",
                users_words(users, NAMED_MAX, lang)
            ),
            What::RuleAdded { rule } => format!("{p} would have one more rule, {}", rule.words(lang)),
            What::RuleRemoved { rule } => format!("{p} would lose the rule {}", rule.words(lang)),
            What::RuleChanged { before, after } => {
                format!("{p} would have the rule {}; before, {}", after.words(lang), before.words(lang))
            }
            What::RulesReordered => format!("{p} would have its rules in another order"),
            What::PartsReordered => format!("{p}: the order, which decides, would be another"),
            What::SectionAdded { section } => format!("{p} would have one more section, {}", section.words(lang)),
            What::SectionRemoved { section } => format!("{p} would lose the section {}", section.words(lang)),
            What::SectionChanged { before, after } => {
                format!("{p} would have the section {}; before, {}", after.words(lang), before.words(lang))
            }
            What::KeyAdded { key, value } => format!("{p}: {key} would be {value}; nothing before"),
            What::KeyRemoved { key, value } => format!("{p}: {key} would no longer be written; before, {value}"),
            What::KeyChanged { key, before, after } => format!("{p}: {key} would be {after} instead of {before}"),
        }
    }
}
