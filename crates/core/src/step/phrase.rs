//! Phrases: words of a story that are more than a value, such as what a condition wanted and what it saw. Kept as data
//! and told in the reader's language.

use serde::{Deserialize, Serialize};

use super::{Lang, param_text, reason_text};
use crate::attribute::{Absence, Origin};

/// One phrase. Stored in steps: variants are never renamed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "is", rename_all = "kebab-case")]
pub enum Phrase {
    /// Whoever signed in; and that somebody did.
    Everyone,
    /// Membership of a group: wanted, or seen, then with the group it comes through.
    Group {
        group: String,
        via: Option<String>,
    },
    /// One of a list of groups.
    Member {
        group: String,
        via: Option<String>,
    },
    /// Seen not to be in a group.
    NotInGroup {
        group: String,
    },
    /// Groups that could not be known.
    GroupsUnknown {
        absence: Absence,
    },
    /// An attribute with these values, or wanted to have one of them.
    Attribute {
        attribute: String,
        values: Vec<String>,
    },
    /// An attribute wanted to be there.
    Present {
        attribute: String,
    },
    /// An attribute that is absent, or wanted to be.
    Absent {
        attribute: String,
        absence: Option<Absence>,
    },
    AllOf {
        of: Vec<Phrase>,
    },
    AnyOf {
        of: Vec<Phrase>,
    },
    NoneOf {
        of: Vec<Phrase>,
    },
    /// What a rule gives.
    Entry {
        roles: Vec<String>,
    },
    /// Roles that come with entry.
    Roles {
        roles: Vec<String>,
    },
    /// Authentication context and methods; wanted when `any_acr` may hold several.
    Factors {
        any_acr: Vec<String>,
        amr: Vec<String>,
    },
    /// Where a value came from.
    From {
        origin: Origin,
    },
    /// The value stands in the site file.
    FromSiteFile,
    /// The value came from the rules.
    FromRules,
    /// The value was put together from others.
    FromTemplate {
        of: Vec<Origin>,
    },
    /// Another edition is in use.
    Edition {
        number: i64,
    },
}

/// A choice between English and French words.
fn say(lang: Lang, en: &str, fr: &str) -> String {
    match lang {
        Lang::En => en.to_owned(),
        Lang::Fr => fr.to_owned(),
    }
}

fn list(of: &[Phrase], lang: Lang) -> String {
    of.iter().map(|p| p.words(lang)).collect::<Vec<_>>().join("; ")
}

impl Phrase {
    /// The phrase in words. Values from outside are told as they are.
    pub fn words(&self, lang: Lang) -> String {
        let say = |en: &str, fr: &str| say(lang, en, fr);
        match self {
            Phrase::Everyone => say("a person signed in", "une personne connectée"),
            Phrase::Group { group, via: None } => format!("{} {group}", say("group", "groupe")),
            Phrase::Group { group, via: Some(via) } => {
                format!("{} {group} {} {via}", say("group", "groupe"), say("through", "par"))
            }
            Phrase::NotInGroup { group } => format!("{} {group}", say("not in", "pas dans")),
            Phrase::GroupsUnknown { absence } => {
                format!("{} ({})", say("groups not known", "groupes inconnus"), param_text(&absence.param(), lang))
            }
            Phrase::Attribute { attribute, values } if values.len() == 1 => format!("{attribute} = {}", values[0]),
            Phrase::Attribute { attribute, values } => format!("{attribute} {} {}", say("one of", "parmi"), values.join(", ")),
            Phrase::Present { attribute } => format!("{attribute} {}", say("present", "présent")),
            Phrase::Absent { attribute, absence: None } => format!("{attribute} {}", say("absent", "absent")),
            Phrase::Absent { attribute, absence: Some(a) } => {
                format!("{attribute} {} ({})", say("absent", "absent"), param_text(&a.param(), lang))
            }
            Phrase::AllOf { of } => format!("{} ({})", say("all of", "tous parmi"), list(of, lang)),
            Phrase::AnyOf { of } => format!("{} ({})", say("any of", "un parmi"), list(of, lang)),
            Phrase::NoneOf { of } => format!("{} ({})", say("none of", "aucun parmi"), list(of, lang)),
            Phrase::Entry { roles } if roles.is_empty() => say("entry", "l'entrée"),
            Phrase::Entry { roles } => format!("{} {}", say("entry, roles", "l'entrée, rôles"), roles.join(", ")),
            Phrase::Roles { roles } if roles.is_empty() => say("without a role", "sans rôle"),
            Phrase::Roles { roles } if roles.len() == 1 => format!("{} {}", say("with role", "avec le rôle"), roles[0]),
            Phrase::Roles { roles } => format!("{} {}", say("with roles", "avec les rôles"), roles.join(", ")),
            Phrase::Factors { any_acr, amr } if any_acr.is_empty() && amr.is_empty() => {
                say("neither acr nor amr", "ni acr ni amr")
            }
            Phrase::Factors { any_acr, amr } => {
                let part = |name: &str, l: &[String], by: &str| (!l.is_empty()).then(|| format!("{name} {}", l.join(by)));
                [part("acr", any_acr, &say(" or ", " ou ")), part("amr", amr, " ")]
                    .into_iter()
                    .flatten()
                    .collect::<Vec<_>>()
                    .join(", ")
            }
            Phrase::Member { group, via: None } => group.clone(),
            Phrase::Member { group, via: Some(via) } => format!("{group} ({} {via})", say("through", "par")),
            Phrase::From { origin } => origin_words(origin, lang),
            Phrase::FromSiteFile => say("the site file", "le fichier de site"),
            Phrase::FromRules => say("the rules", "les règles"),
            Phrase::FromTemplate { of } => {
                let of: Vec<_> = of.iter().map(|o| origin_words(o, lang)).collect();
                format!("{} {}", say("a template over", "un modèle sur"), of.join("; "))
            }
            Phrase::Edition { number } => format!("{} {number}", say("edition", "édition")),
        }
    }
}

/// Where a value was, or would have been, read.
fn origin_words(origin: &Origin, lang: Lang) -> String {
    let say = |en: &str, fr: &str| say(lang, en, fr);
    match origin {
        Origin::IdToken { claim } => format!("{} {claim}", say("id_token claim", "l'attribut de l'id_token")),
        Origin::UserInfo { claim } => format!("{} {claim}", say("userinfo claim", "l'attribut userinfo")),
        Origin::Claims { claim } => format!("{} {claim}", say("claim", "l'attribut")),
        Origin::Directory { directory, attribute } if attribute == "groups" => {
            format!("{} {directory}", say("the groups of directory", "les groupes de l'annuaire"))
        }
        Origin::Directory { directory, attribute } => {
            format!("{} {directory}, {} {attribute}", say("directory", "l'annuaire"), say("attribute", "attribut"))
        }
        Origin::SignIn => reason_text("sign-in", lang).unwrap_or("sign-in").to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// One of each, so that a new variant cannot be forgotten here without the match above failing to compile first.
    fn all() -> Vec<Phrase> {
        let origin = Origin::IdToken { claim: "name".into() };
        let group = || Phrase::Group { group: "pilots".into(), via: None };
        vec![
            Phrase::Everyone,
            group(),
            Phrase::Group { group: "pilots".into(), via: Some("crew".into()) },
            Phrase::NotInGroup { group: "pilots".into() },
            Phrase::GroupsUnknown { absence: Absence::LookUpFailed { how: "dead".into() } },
            Phrase::Attribute { attribute: "a".into(), values: vec!["1".into()] },
            Phrase::Attribute { attribute: "a".into(), values: vec!["1".into(), "2".into()] },
            Phrase::Present { attribute: "a".into() },
            Phrase::Absent { attribute: "a".into(), absence: None },
            Phrase::Absent { attribute: "a".into(), absence: Some(Absence::NotReleased) },
            Phrase::AllOf { of: vec![group(), Phrase::Everyone] },
            Phrase::AnyOf { of: vec![group()] },
            Phrase::NoneOf { of: vec![] },
            Phrase::Entry { roles: vec![] },
            Phrase::Entry { roles: vec!["planner".into()] },
            Phrase::Roles { roles: vec![] },
            Phrase::Roles { roles: vec!["planner".into()] },
            Phrase::Roles { roles: vec!["planner".into(), "pilot".into()] },
            Phrase::Factors { any_acr: vec!["2".into(), "3".into()], amr: vec![] },
            Phrase::Factors { any_acr: vec![], amr: vec!["pwd".into(), "mfa".into()] },
            Phrase::Factors { any_acr: vec![], amr: vec![] },
            Phrase::Member { group: "pilots".into(), via: None },
            Phrase::Member { group: "pilots".into(), via: Some("crew".into()) },
            Phrase::From { origin: origin.clone() },
            Phrase::From { origin: Origin::SignIn },
            Phrase::From { origin: Origin::Directory { directory: "harbour".into(), attribute: "groups".into() } },
            Phrase::FromSiteFile,
            Phrase::FromRules,
            Phrase::FromTemplate { of: vec![origin] },
            Phrase::Edition { number: 4 },
        ]
    }

    #[test]
    fn phrases_survive_storage_and_read_in_both_languages() {
        let mut lines = vec![];
        for p in all() {
            let back: Phrase = serde_json::from_str(&serde_json::to_string(&p).unwrap()).unwrap();
            assert_eq!(back, p);
            lines.push(format!("{} / {}", p.words(Lang::En), p.words(Lang::Fr)));
        }
        insta::assert_snapshot!(lines.join("\n"));
    }
}
