//! Parts of a site in one sentence, made from what was compiled and used wherever a rule is shown. Output only.

use super::{Effect, Rule, Section, SectionAccess, Site};
use crate::step::Lang;

impl Rule {
    /// The rule in one sentence.
    pub fn sentence(&self, site: &Site, lang: Lang) -> String {
        let (wanted, fr) = (self.when.wanted(site).words(lang), lang == Lang::Fr);
        let name = if fr { format!("{} :", self.name) } else { format!("{}:", self.name) };
        match &self.effect {
            Effect::Enter { roles } => {
                let roles = match (roles.is_empty(), fr) {
                    (true, _) => String::new(),
                    (false, true) => format!(", rôles {}", roles.join(", ")),
                    (false, false) => format!(", roles {}", roles.join(", ")),
                };
                let may = if fr { "peut entrer" } else { "may enter" };
                format!("{name} {wanted} {may}{roles}")
            }
            Effect::Refuse { words } if fr => format!("{name} {wanted} est refusé (« {words} »)"),
            Effect::Refuse { words } => format!("{name} {wanted} is refused (“{words}”)"),
        }
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
