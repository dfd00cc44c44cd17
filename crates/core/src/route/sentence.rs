//! A route in one sentence. Output only.

use super::{ByName, Route, few};
use crate::site::{Place, Site};
use crate::step::{Lang, Phrase};

impl Route {
    /// What it asks for and where it leads.
    pub fn sentence(&self, site: &Site, lang: Lang) -> String {
        let fr = lang == Lang::Fr;
        let mut asks: Vec<Phrase> = vec![];
        if !self.places.is_empty() {
            asks.push(Phrase::AtGate { of: few(self.places.iter().map(Place::to_string)) });
        }
        if let Some(list) = &self.networks {
            asks.push(Phrase::Network { of: list.shown() });
        }
        if !self.devices.is_empty() {
            asks.push(Phrase::Device { of: self.devices.clone() });
        }
        if !self.suffixes.is_empty() {
            asks.push(Phrase::Suffix { of: few(self.suffixes.iter().cloned()) });
        }
        asks.extend(self.by.as_ref().map(|by| match by {
            ByName::Entry { holds, .. } => holds.wanted(),
            ByName::Known { attribute } => {
                Phrase::CameBefore { attribute: attribute.clone(), by: few(self.ways.iter().cloned()) }
            }
        }));
        let asks = match asks.as_slice() {
            [] if fr => "chacun".to_owned(),
            [] => "everybody".to_owned(),
            all => all.iter().map(|p| p.words(lang)).collect::<Vec<_>>().join("; "),
        };
        let ways: Vec<&str> = self.ways.iter().map(|w| site.title_of_way(w)).collect();
        let (or_else, asked) = if fr { (", sinon ", "au choix : ") } else { (", or else ", "as chosen: ") };
        match self.ask {
            true => format!("{asks} → {asked}{}", ways.join(", ")),
            false => format!("{asks} → {}", ways.join(or_else)),
        }
    }
}
