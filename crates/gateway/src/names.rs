//! The names of what a gate delivers, once per edition: those to set, and in whatever spelling, those to take from what a
//! client sent.

use http::HeaderName;
use passeur_core::delivery::{fold_name, folds_to};
use passeur_core::site::{Gate, Site};

/// See the module.
#[derive(Debug, Default)]
pub(crate) struct Names {
    set: Vec<HeaderName>,
    strip: Vec<String>,
}

impl Names {
    /// Of a gate. None where a name is no HTTP field name; the site file's check lets none through.
    pub(crate) fn of(site: &Site, gate: &Gate) -> Option<Names> {
        let delivered = site.delivery(gate).into_iter().flat_map(|d| &d.headers).map(|h| h.name.as_str());
        let all: Vec<&str> = delivered.chain(gate.web().hand_over.map(|_| "authorization")).collect();
        let set = all.iter().map(|n| HeaderName::from_bytes(n.as_bytes()).ok()).collect::<Option<_>>()?;
        // A ticket goes there, another one with each request.
        let shown = gate.web().ticket.as_ref().map(|_| "authorization");
        Some(Names { set, strip: all.iter().copied().chain(shown).map(fold_name).collect() })
    }

    /// Names to set, in the order of the site file.
    pub(crate) fn set(&self) -> &[HeaderName] {
        &self.set
    }

    /// The place of a name among those to set.
    pub(crate) fn index(&self, name: &str) -> Option<usize> {
        self.set.iter().position(|n| n.as_str().eq_ignore_ascii_case(name))
    }

    /// Whether a client's header of this name could be taken for a delivered one.
    pub(crate) fn strips(&self, name: &HeaderName) -> bool {
        self.strip.iter().any(|s| folds_to(name.as_str(), s))
    }
}
