//! For whom something changes, in words.

use crate::step::{Lang, Phrase};

/// People for whom something changes: all that must hold of them, and all that must not.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Who {
    pub(super) with: Vec<Phrase>,
    pub(super) without: Vec<Phrase>,
    /// What cannot be known of them, in English: the change concerns nobody of whom it is known.
    pub(super) unknown: Vec<String>,
    /// Nobody has to sign in for it.
    pub(super) strangers: bool,
    /// Another rule may say the same of some of them, before and after.
    pub(super) unless: bool,
}

impl Who {
    /// The people in words.
    pub(super) fn words(&self, lang: Lang) -> String {
        let fr = lang == Lang::Fr;
        let list = |of: &[Phrase], by: &str| of.iter().map(|p| p.words(lang)).collect::<Vec<_>>().join(by);
        let and = if fr { " et " } else { " and " };
        let mut out = match (self.strangers, self.with.is_empty(), self.without.is_empty()) {
            (true, true, true) if fr => "n'importe qui, même sans connexion".to_owned(),
            (true, true, true) => "anybody, even without signing in".to_owned(),
            (_, true, true) if fr => "tous ceux qui se connectent".to_owned(),
            (_, true, true) => "everybody who signs in".to_owned(),
            (_, true, false) if fr => format!("tous sauf {}", list(&self.without, and)),
            (_, true, false) => format!("everybody but {}", list(&self.without, and)),
            (_, false, true) => list(&self.with, and),
            (_, false, false) if fr => format!("{}, hormis {}", list(&self.with, and), list(&self.without, and)),
            (_, false, false) => format!("{}, apart from {}", list(&self.with, and), list(&self.without, and)),
        };
        if !self.unknown.is_empty() {
            let unknown = self.unknown.iter().map(|u| unknown_words(u, lang)).collect::<Vec<_>>().join(and);
            out += &if fr {
                format!(", tant que l'on ne connaît pas {unknown}")
            } else {
                format!(", while {unknown} cannot be known")
            };
        }
        out
    }
}

fn unknown_words(of: &str, lang: Lang) -> String {
    match (of, lang) {
        ("groups", Lang::En) => "the groups".to_owned(),
        ("groups", Lang::Fr) => "les groupes".to_owned(),
        ("network", Lang::En) => "the network".to_owned(),
        ("network", Lang::Fr) => "le réseau".to_owned(),
        ("path", Lang::En) => "what the path means".to_owned(),
        ("path", Lang::Fr) => "le sens du chemin".to_owned(),
        ("the time of signing in", Lang::Fr) => "l'heure de connexion".to_owned(),
        (other, _) => other.to_owned(),
    }
}
