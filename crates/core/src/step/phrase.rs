//! Phrases: words of a story that are more than a value, such as what a condition wanted and what it saw. Kept as data
//! and told in the reader's language.

use serde::{Deserialize, Serialize};

use super::{Lang, param_text, reason_text};
use crate::attribute::{Absence, Origin};
use crate::device::Says;

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
    /// Membership of a group itself, wanted.
    DirectGroup {
        group: String,
    },
    /// Any of several groups, or of a list.
    AnyGroup {
        of: Vec<String>,
    },
    /// Seen to be in none of them.
    NotInAnyGroup {
        of: Vec<String>,
    },
    StartsWith {
        attribute: String,
        with: Vec<String>,
    },
    EndsWith {
        attribute: String,
        with: Vec<String>,
    },
    Matches {
        attribute: String,
        pattern: String,
    },
    /// An attribute compared with a value.
    Compared {
        attribute: String,
        sign: String,
        with: String,
    },
    /// People, or a list of them; the person that was seen.
    OnePerson {
        of: Vec<String>,
    },
    /// Ways in, wanted or seen.
    WayIn {
        of: Vec<String>,
    },
    /// Factors wanted, and how fresh.
    Factor {
        of: Vec<String>,
        minutes: Option<i64>,
    },
    SignedInWithin {
        minutes: i64,
    },
    /// Factors seen, and how long ago.
    FactorsSeen {
        amr: Vec<String>,
        minutes_ago: Option<i64>,
    },
    /// Networks or a list of them; the address that was seen.
    Network {
        of: Vec<String>,
    },
    NetworkUnknown,
    /// Devices wanted; what the device says of itself.
    Device {
        of: Vec<String>,
    },
    /// Suffixes of a user name; the empty text for none.
    Suffix {
        of: Vec<String>,
    },
    /// A suffix that no route names.
    OtherSuffix,
    /// Ways in that are taken at a place.
    TakenThere {
        of: Vec<String>,
    },
    /// Ways by which somebody came in before whose attribute is the name that was typed.
    CameBefore {
        attribute: String,
        by: Vec<String>,
    },
    /// Nobody has the name that was typed.
    NobodyNamed,
    /// A directory that did not answer.
    Silent {
        directory: String,
        how: String,
    },
    Hours {
        from: String,
        until: String,
        days: Vec<String>,
        zone: String,
    },
    Dates {
        from: Option<String>,
        until: Option<String>,
        zone: String,
    },
    /// What the clock showed.
    Clock {
        at: String,
    },
    AtGate {
        of: Vec<String>,
    },
    AtPath {
        of: Vec<String>,
    },
    ByMethod {
        of: Vec<String>,
    },
    /// Entrances of tunnels, wanted or seen.
    AtEntrance {
        of: Vec<String>,
    },
    /// Platforms wanted of a tunnel's client.
    ClientPlatform {
        of: Vec<String>,
    },
    /// The oldest version wanted of a tunnel's client.
    ClientVersion {
        least: String,
    },
    /// Whether a tunnel's client proved to have a certificate of the gate's own.
    ClientProfile {
        shown: bool,
    },
    /// What a tunnel's client says of itself.
    ClientSays {
        words: String,
    },
    NoTunnel,
    /// A device that passes one of these checks, wanted.
    OnDevice {
        of: Vec<String>,
    },
    /// A device that does not pass a check, wanted.
    OffDevice {
        of: String,
    },
    /// What was seen of a device.
    DeviceSays {
        says: Vec<Says>,
    },
    /// Another request of the same session, decided otherwise.
    OtherRequest,
    /// The time of day, a date or the age of a sign-in has changed the decision.
    TimePassed,
    /// The directory was asked again.
    ReRead,
    /// What a rule gives besides entry and roles.
    Terms {
        of: Vec<String>,
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
    /// A role, the rule that could give it, and what that sees.
    RoleByRule {
        role: String,
        rule: String,
        saw: Vec<Phrase>,
    },
    /// No rule gives a role any more.
    NoRuleGives {
        role: String,
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
    #[allow(clippy::too_many_lines)] // A catalogue: one line a phrase.
    pub fn words(&self, lang: Lang) -> String {
        let say = |en: &str, fr: &str| say(lang, en, fr);
        match self {
            Phrase::Everyone => say("a person signed in", "une personne connectée"),
            Phrase::Group { group, via: None } => format!("{} {group}", say("group", "groupe")),
            Phrase::Group { group, via: Some(via) } => {
                format!("{} {group} {} {via}", say("group", "groupe"), say("through", "par"))
            }
            Phrase::NotInGroup { group } => format!("{} {group}", say("not in", "pas dans")),
            Phrase::DirectGroup { group } => format!("{} {group}", say("directly in group", "directement dans le groupe")),
            Phrase::AnyGroup { of } => format!("{} {}", say("any group of", "un groupe de"), of.join(", ")),
            Phrase::NotInAnyGroup { of } => format!("{} {}", say("in no group of", "dans aucun groupe de"), of.join(", ")),
            Phrase::StartsWith { attribute, with } => {
                format!("{attribute} {} {}", say("starts with", "commence par"), with.join(&say(" or ", " ou ")))
            }
            Phrase::EndsWith { attribute, with } => {
                format!("{attribute} {} {}", say("ends with", "finit par"), with.join(&say(" or ", " ou ")))
            }
            Phrase::Matches { attribute, pattern } => format!("{attribute} {} /{pattern}/", say("matches", "correspond à")),
            Phrase::Compared { attribute, sign, with } => format!("{attribute} {sign} {with}"),
            Phrase::OnePerson { of } => format!("{} {}", say("person", "personne"), of.join(", ")),
            Phrase::WayIn { of } => format!("{} {}", say("signed in through", "connecté par"), of.join(&say(" or ", " ou "))),
            Phrase::Factor { of, minutes: None } => format!("{} {}", say("factor", "facteur"), of.join(&say(" or ", " ou "))),
            Phrase::Factor { of, minutes: Some(m) } => format!(
                "{} {} {} {}",
                say("factor", "facteur"),
                of.join(&say(" or ", " ou ")),
                say("within", "depuis moins de"),
                minutes_words(*m)
            ),
            Phrase::SignedInWithin { minutes } => {
                format!("{} {}", say("signed in within", "connecté depuis moins de"), minutes_words(*minutes))
            }
            Phrase::FactorsSeen { amr, minutes_ago } => {
                let methods = if amr.is_empty() { say("no amr", "pas d'amr") } else { format!("amr {}", amr.join(" ")) };
                let when = match minutes_ago {
                    None => say("at a time not told", "à une heure non indiquée"),
                    Some(m) => match lang {
                        Lang::En => format!("{} ago", minutes_words(*m)),
                        Lang::Fr => format!("il y a {}", minutes_words(*m)),
                    },
                };
                format!("{methods}, {when}")
            }
            Phrase::Network { of } => format!("{} {}", say("network", "réseau"), of.join(", ")),
            Phrase::NetworkUnknown => say("network not known", "réseau inconnu"),
            Phrase::Device { of } => format!("{} {}", say("device", "appareil"), of.join(", ")),
            Phrase::Suffix { of } if of.iter().all(String::is_empty) => say("a name without suffix", "un nom sans suffixe"),
            Phrase::Suffix { of } => {
                let none = say("none", "aucun");
                let of: Vec<_> = of.iter().map(|s| if s.is_empty() { none.as_str() } else { s }).collect();
                format!("{} {}", say("suffix of the name", "suffixe du nom"), of.join(", "))
            }
            Phrase::OtherSuffix => say("a suffix that no route names", "un suffixe qu'aucune route ne nomme"),
            Phrase::TakenThere { of } => format!("{} {}", say("taken there:", "admis là :"), of.join(", ")),
            Phrase::CameBefore { attribute, by } => {
                let (known, came) = (say("a name known as", "un nom connu comme"), say("that came by", "venu par"));
                format!("{known} {attribute} {came} {}", by.join(&say(" or ", " ou ")))
            }
            Phrase::NobodyNamed => say("nobody by that name", "personne de ce nom"),
            Phrase::Silent { directory, how } => {
                format!("{} {directory} {}: {how}", say("directory", "annuaire"), say("did not answer", "sans réponse"))
            }
            Phrase::Hours { from, until, days, zone } => {
                let days = if days.is_empty() { say("every day", "chaque jour") } else { days.join(" ") };
                format!("{} {from}–{until} {days} ({zone})", say("hours", "heures"))
            }
            Phrase::Dates { from, until, zone } => {
                let from = from.as_deref().unwrap_or("…");
                format!("{} {from} – {} ({zone})", say("dates", "dates"), until.as_deref().unwrap_or("…"))
            }
            Phrase::Clock { at } => at.clone(),
            Phrase::AtGate { of } => format!("{} {}", say("gate", "porte"), of.join(", ")),
            Phrase::AtPath { of } => format!("{} {}", say("path", "chemin"), of.join(", ")),
            Phrase::ByMethod { of } => format!("{} {}", say("method", "méthode"), of.join(", ")),
            Phrase::AtEntrance { of } => format!("{} {}", say("entrance", "entrée"), of.join(", ")),
            Phrase::ClientPlatform { of } => format!("{} {}", say("a client on", "un client sous"), of.join(", ")),
            Phrase::ClientVersion { least } => {
                format!("{} {least}", say("a client of version at least", "un client de version au moins"))
            }
            Phrase::ClientProfile { shown: true } => {
                say("a client with a personal profile", "un client avec un profil personnel")
            }
            Phrase::ClientProfile { shown: false } => {
                say("a client without a personal profile", "un client sans profil personnel")
            }
            Phrase::ClientSays { words } => client_says(words, lang),
            Phrase::OnDevice { of } => {
                format!("{} {}", say("a device that passes", "un appareil conforme à"), of.join(&say(" or ", " ou ")))
            }
            Phrase::OffDevice { of } => format!("{} {of}", say("a device that does not pass", "un appareil non conforme à")),
            Phrase::DeviceSays { says } => says.iter().map(|s| s.words(say)).collect::<Vec<_>>().join("; "),
            Phrase::NoTunnel => say("no tunnel asks", "aucun tunnel ne demande"),
            Phrase::OtherRequest => say("this request is decided otherwise", "cette requête est décidée autrement"),
            Phrase::TimePassed => say("time has passed", "le temps a passé"),
            Phrase::ReRead => say("the directory was asked again", "l'annuaire a été consulté de nouveau"),
            Phrase::Terms { of } => of.join("; "),
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
            Phrase::RoleByRule { role, rule, saw } => {
                format!("{role}, {} {rule}: {}", say("by rule", "par la règle"), list(saw, lang))
            }
            Phrase::NoRuleGives { role } => {
                format!("{role}, {}", say("which no rule gives any more", "qu'aucune règle ne donne plus"))
            }
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
            Phrase::FromSiteFile => origin_words(&Origin::SiteFile, lang),
            Phrase::FromRules => origin_words(&Origin::Rules, lang),
            Phrase::FromTemplate { of } => {
                let of: Vec<_> = of.iter().map(|o| origin_words(o, lang)).collect();
                format!("{} {}", say("a template over", "un modèle sur"), of.join("; "))
            }
            Phrase::Edition { number } => format!("{} {number}", say("edition", "édition")),
        }
    }
}

/// Minutes for reading.
fn minutes_words(minutes: i64) -> String {
    match minutes {
        m if m >= 1_440 && m % 1_440 == 0 => format!("{} d", m / 1_440),
        m if m >= 60 && m % 60 == 0 => format!("{} h", m / 60),
        m => format!("{m} min"),
    }
}

/// Where a value was, or would have been, read.
fn origin_words(origin: &Origin, lang: Lang) -> String {
    let say = |en: &str, fr: &str| say(lang, en, fr);
    match origin {
        Origin::Proof { claim } => format!("{} {claim}", say("what was proven to us,", "ce qui nous a été prouvé,")),
        Origin::IdToken { claim } => format!("{} {claim}", say("id_token claim", "l'attribut de l'id_token")),
        Origin::Assertion { attribute } => format!("{} {attribute}", say("assertion attribute", "l'attribut de l'assertion")),
        Origin::UserInfo { claim } => format!("{} {claim}", say("userinfo claim", "l'attribut userinfo")),
        Origin::Referred { claim, at } => {
            format!("{} {claim}, {} {at}", say("claim by reference", "l'attribut par référence"), say("at", "à"))
        }
        Origin::Claims { claim } => format!("{} {claim}", say("claim", "l'attribut")),
        Origin::Directory { directory, attribute } if attribute == "groups" => {
            format!("{} {directory}", say("the groups of directory", "les groupes de l'annuaire"))
        }
        Origin::Directory { directory, attribute } => {
            format!("{} {directory}, {} {attribute}", say("directory", "l'annuaire"), say("attribute", "attribut"))
        }
        Origin::Made { of, by } => {
            let of = of.iter().map(|o| origin_words(o, lang)).collect::<Vec<_>>().join("; ");
            if by.is_empty() { of } else { format!("{of}, {} {}", say("by", "par"), by.join(", ")) }
        }
        Origin::Rules => say("the rules", "les règles"),
        Origin::SiteFile => say("the site file", "le fichier de site"),
        Origin::SignIn => reason_text("sign-in", lang).unwrap_or("sign-in").to_owned(),
    }
}

/// What a condition about a tunnel saw, where it is more than a list.
fn client_says(words: &str, lang: Lang) -> String {
    match (words.is_empty(), lang) {
        (true, Lang::En) => "the client does not say what it is".to_owned(),
        (true, Lang::Fr) => "le client ne dit pas ce qu'il est".to_owned(),
        (false, Lang::En) => format!("the client says {words}"),
        (false, Lang::Fr) => format!("le client dit {words}"),
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
            Phrase::From { origin: Origin::Made { of: vec![origin.clone(), Origin::Rules], by: vec!["before = \"@\"".into()] } },
            Phrase::FromSiteFile,
            Phrase::FromRules,
            Phrase::FromTemplate { of: vec![origin] },
            Phrase::Edition { number: 4 },
            Phrase::DirectGroup { group: "pilots".into() },
            Phrase::AnyGroup { of: vec!["crews".into()] },
            Phrase::NotInAnyGroup { of: vec!["crews".into()] },
            Phrase::StartsWith { attribute: "a".into(), with: vec!["x".into(), "y".into()] },
            Phrase::EndsWith { attribute: "a".into(), with: vec!["x".into()] },
            Phrase::Matches { attribute: "a".into(), pattern: "x+".into() },
            Phrase::Compared { attribute: "a".into(), sign: "≥".into(), with: "18".into() },
            Phrase::OnePerson { of: vec!["p/1".into()] },
            Phrase::WayIn { of: vec!["p".into(), "q".into()] },
            Phrase::Factor { of: vec!["mfa".into()], minutes: None },
            Phrase::Factor { of: vec!["mfa".into(), "hwk".into()], minutes: Some(90) },
            Phrase::SignedInWithin { minutes: 120 },
            Phrase::FactorsSeen { amr: vec![], minutes_ago: None },
            Phrase::FactorsSeen { amr: vec!["pwd".into()], minutes_ago: Some(2_880) },
            Phrase::Network { of: vec!["10.0.0.0/8".into()] },
            Phrase::NetworkUnknown,
            Phrase::Hours { from: "08:00".into(), until: "18:00".into(), days: vec!["mon".into()], zone: "UTC".into() },
            Phrase::Hours { from: "08:00".into(), until: "18:00".into(), days: vec![], zone: "UTC".into() },
            Phrase::Dates { from: None, until: Some("2026-12-31".into()), zone: "UTC".into() },
            Phrase::Clock { at: "Mon 08:00 UTC".into() },
            Phrase::AtGate { of: vec!["berths".into()] },
            Phrase::AtPath { of: vec!["/a".into()] },
            Phrase::ByMethod { of: vec!["POST".into()] },
            Phrase::AtEntrance { of: vec!["pilots".into()] },
            Phrase::ClientPlatform { of: vec!["linux".into(), "mac".into()] },
            Phrase::ClientVersion { least: "2.6".into() },
            Phrase::ClientProfile { shown: true },
            Phrase::ClientProfile { shown: false },
            Phrase::ClientSays { words: "linux 2.6.14".into() },
            Phrase::ClientSays { words: String::new() },
            Phrase::OnDevice { of: vec!["a laptop of the harbour".into()] },
            Phrase::OffDevice { of: "a laptop of the harbour".into() },
            Phrase::DeviceSays { says: vec![Says::NoCertificate] },
            Phrase::NoTunnel,
            Phrase::OtherRequest,
            Phrase::TimePassed,
            Phrase::ReRead,
            Phrase::Terms { of: vec!["desk = north".into()] },
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
