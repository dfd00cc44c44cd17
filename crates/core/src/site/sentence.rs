//! Parts of a site in one sentence, made from what was compiled and used wherever a rule is shown. Output only.

use super::Site;
use super::attribute_id::AttributeId;
use super::mapping::{Mapping, Source, Transform};
use super::open_network::Machine;
use super::reach::{Destination, Reach, Service};
use super::rule::{BITS, Effect, Grants, OCTETS, Rule};
use super::section::{Section, SectionAccess};
use super::zone::{Machines, Zone};
use crate::step::Lang;

impl Rule {
    /// The rule in one sentence.
    pub fn sentence(&self, site: &Site, lang: Lang) -> String {
        let (wanted, fr) = (self.when.wanted(site).words(lang), lang == Lang::Fr);
        let name = if fr { format!("{} :", self.name) } else { format!("{}:", self.name) };
        match &self.effect {
            Effect::Give(grants) => {
                let mut gives = vec![];
                if grants.enter {
                    gives.push(if fr { "peut entrer" } else { "may enter" }.to_owned());
                }
                if !grants.roles.is_empty() {
                    gives.push(format!("{} {}", if fr { "rôles" } else { "roles" }, grants.roles.join(", ")));
                }
                if let Some(from) = &grants.roles_from {
                    let source = match from.attribute {
                        Some(id) => site.attribute_name(id),
                        None if fr => "les groupes",
                        None => "groups",
                    };
                    gives.push(format!("{} {source}", if fr { "rôles selon" } else { "roles from" }));
                }
                gives.extend(grants.terms(lang));
                let lead = if grants.enter {
                    ""
                } else if fr {
                    "reçoit "
                } else {
                    "gets "
                };
                format!("{name} {wanted} {lead}{}", gives.join(", "))
            }
            Effect::StepUp(need) => {
                let need = need.wanted(site).words(lang);
                if fr {
                    format!("{name} {wanted} doit se connecter avec {need}")
                } else {
                    format!("{name} {wanted} must sign in with {need}")
                }
            }
            Effect::Refuse { words } if fr => format!("{name} {wanted} est refusé (« {words} »)"),
            Effect::Refuse { words } => format!("{name} {wanted} is refused (“{words}”)"),
        }
    }
}

impl Grants {
    /// What is given besides entry and roles, each in a few words.
    pub fn terms(&self, lang: Lang) -> Vec<String> {
        let fr = lang == Lang::Fr;
        let minutes = |d: chrono::Duration| format!("{} min", d.num_minutes());
        let mut out: Vec<String> = self.deliver.iter().map(|(n, v)| format!("{n} = {v}")).collect();
        if let Some(d) = self.idle {
            out.push(format!("{} {}", if fr { "inactif au plus" } else { "idle at most" }, minutes(d)));
        }
        if let Some(d) = self.absolute {
            out.push(format!("{} {}", if fr { "au plus" } else { "for at most" }, minutes(d)));
        }
        if !self.reach.is_empty() {
            out.push(format!("{} {}", if fr { "accès à" } else { "reach to" }, self.reach.join(", ")));
        }
        if let Some(octets) = self.quota {
            let octets = octets_in_words(octets, lang);
            out.push(if fr { format!("au plus {octets} en 24 heures") } else { format!("at most {octets} in 24 hours") });
        }
        if let Some(bits) = self.rate {
            out.push(format!("{} {}", if fr { "au plus" } else { "at most" }, rate_in_words(bits)));
        }
        match (self.devices, fr) {
            (None, _) => {}
            (Some(1), true) => out.push("un appareil à la fois".to_owned()),
            (Some(1), false) => out.push("one machine at a time".to_owned()),
            (Some(n), true) => out.push(format!("{n} appareils à la fois")),
            (Some(n), false) => out.push(format!("{n} machines at a time")),
        }
        if let Some(m) = &self.message {
            out.push(if fr { format!("« {m} »") } else { format!("“{m}”") });
        }
        out
    }
}

/// An amount of data, as it is written in a site file.
pub fn octets_in_words(octets: u64, lang: Lang) -> String {
    let words = in_units(octets, &OCTETS, "B");
    if lang == Lang::Fr { words.replace('B', "o") } else { words }
}

/// A rate in bits a second, as it is written in a site file.
pub fn rate_in_words(bits: u64) -> String {
    in_units(bits, &BITS, "bit/s")
}

/// In the largest unit that leaves a whole number.
fn in_units(n: u64, units: &[(&str, u64)], bare: &str) -> String {
    let largest = units.iter().rev().find(|(_, of)| n >= *of && n.is_multiple_of(*of));
    largest.map_or_else(|| format!("{n} {bare}"), |(unit, of)| format!("{} {unit}", n / of))
}

impl Reach {
    /// Where it leads, in one line.
    pub fn sentence(&self, lang: Lang) -> String {
        let fr = lang == Lang::Fr;
        let all = |of: Vec<String>| of.join(", ");
        let to = all(self.to.iter().map(ToString::to_string).collect());
        let services = match self.services.as_slice() {
            [Service::All] if fr => "tous services".to_owned(),
            [Service::All] => "all services".to_owned(),
            some => all(some.iter().map(ToString::to_string).collect()),
        };
        let except = match (self.except.is_empty(), fr) {
            (true, _) => String::new(),
            (false, true) => {
                format!(", sauf {}", all(self.except.iter().map(|n| Destination::Network(*n).to_string()).collect()))
            }
            (false, false) => {
                format!(", but not {}", all(self.except.iter().map(|n| Destination::Network(*n).to_string()).collect()))
            }
        };
        if fr { format!("{to} par {services}{except}") } else { format!("{to} on {services}{except}") }
    }
}

impl Zone {
    /// What it is and what is open in it before anybody signs in, in one line.
    pub fn sentence(&self, lang: Lang) -> String {
        let fr = lang == Lang::Fr;
        let networks = self.networks.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        let tied = match (&self.machines, fr) {
            (Machines::OnLink, true) => "par adresse matérielle",
            (Machines::OnLink, false) => "by hardware address",
            (Machines::Routed, true) => "par adresse",
            (Machines::Routed, false) => "by address",
            (Machines::InTunnels(_), true) => "par tunnel",
            (Machines::InTunnels(_), false) => "by tunnel",
        };
        let mut out = format!("{}: {} {networks}, {tied}", self.name, self.interface);
        if !self.before.is_empty() {
            let words = if fr { "ouvert à tous" } else { "open to everybody" };
            out += &format!("; {words}: {}", self.before.join(", "));
        }
        if let Some(first) = &self.first {
            let (words, minutes) = (if fr { "d'abord" } else { "at first" }, first.lasts.num_minutes());
            out += &format!("; {words} {} ({minutes} min)", first.reach);
        }
        out
    }
}

impl Machine {
    /// What it is, whose, until when, and what it may reach, in one line.
    pub fn sentence(&self, lang: Lang) -> String {
        let (until, to) = if lang == Lang::Fr { ("jusqu'au", "accès à") } else { ("until", "reach to") };
        format!(
            "{}: {}, {}, {}; {until} {}; {to} {}",
            self.name,
            self.hardware,
            self.owner,
            self.purpose,
            self.until,
            self.reach.join(", ")
        )
    }
}

impl Mapping {
    /// What is made from what, in one line.
    pub fn sentence(&self, site: &Site, lang: Lang) -> String {
        let fr = lang == Lang::Fr;
        let names = |ids: &[AttributeId], by: &str| ids.iter().map(|id| site.attribute_name(*id)).collect::<Vec<_>>().join(by);
        let from = match &self.source {
            Source::FirstOf(ids) => names(ids, if fr { ", sinon " } else { ", or else " }),
            Source::AllOf(ids) => names(ids, " + "),
            Source::GroupNames if fr => "les groupes".to_owned(),
            Source::GroupNames => "groups".to_owned(),
            Source::GroupDns if fr => "les DN des groupes".to_owned(),
            Source::GroupDns => "DNs of groups".to_owned(),
            Source::Roles if fr => "les rôles".to_owned(),
            Source::Roles => "roles".to_owned(),
            Source::Given(name) if fr => format!("{name}, donné par une règle"),
            Source::Given(name) => format!("{name}, given by a rule"),
        };
        let by: Vec<String> = self.transforms.iter().map(Transform::text).collect();
        let by = match (by.is_empty(), fr) {
            (true, _) => String::new(),
            (false, true) => format!(", par {}", by.join(", ")),
            (false, false) => format!(", by {}", by.join(", ")),
        };
        let otherwise = match &self.otherwise {
            None => String::new(),
            Some(v) if fr => format!(" ; à défaut « {v} »"),
            Some(v) => format!("; otherwise “{v}”"),
        };
        format!("{} ← {from}{by}{otherwise}", site.attribute_name(self.attribute))
    }
}

impl Section {
    /// The section in one sentence.
    pub fn sentence(&self, site: &Site, lang: Lang) -> String {
        let (path, fr) = (&self.path, lang == Lang::Fr);
        match &self.access {
            SectionAccess::Open if fr => format!("{path} : ouverte à tous"),
            SectionAccess::Open => format!("{path}: open to anybody"),
            SectionAccess::More { when, words } => {
                let wanted = when.wanted(site).words(lang);
                let words = match words {
                    None => String::new(),
                    Some(w) if fr => format!(" (« {w} »)"),
                    Some(w) => format!(" (“{w}”)"),
                };
                if fr { format!("{path} : demande {wanted}{words}") } else { format!("{path}: asks for {wanted}{words}") }
            }
        }
    }
}
