//! Parts of a site in one sentence, made from what was compiled and used wherever a rule is shown. Output only.

use super::Site;
use super::attribute_id::AttributeId;
use super::mapping::{Mapping, Source, Transform};
use super::rule::{Effect, Grants, Rule};
use super::section::{Section, SectionAccess};
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
        if let Some(m) = &self.message {
            out.push(if fr { format!("« {m} »") } else { format!("“{m}”") });
        }
        out
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
