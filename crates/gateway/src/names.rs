//! The names of what a gate delivers, once per edition: those to set, and in whatever spelling, those to take from what a
//! client sent.

use http::HeaderName;
use passeur_core::delivery::{fold_name, folds_to};
use passeur_core::session::Lifetimes;
use passeur_core::site::Gate;
use passeur_live::edition::Edition;

/// Folded names ([`fold_name`]), by their lengths: most names that are asked for have the length of none, or of one or two.
#[derive(Debug, Default)]
pub(crate) struct Folded(Vec<Vec<Box<str>>>);

impl Folded {
    /// Of names in any spelling.
    pub(crate) fn of<'a>(names: impl IntoIterator<Item = &'a str>) -> Folded {
        let mut by_length: Vec<Vec<Box<str>>> = vec![];
        for name in names {
            if by_length.len() <= name.len() {
                by_length.resize_with(name.len() + 1, Vec::new);
            }
            by_length[name.len()].push(fold_name(name).into());
        }
        Folded(by_length)
    }

    /// Whether a name is a spelling of one of them.
    pub(crate) fn holds(&self, name: &str) -> bool {
        self.0.get(name.len()).is_some_and(|all| all.iter().any(|folded| folds_to(name, folded)))
    }
}

/// See the module.
#[derive(Debug, Default)]
pub(crate) struct Names {
    gate: String,
    edition: i32,
    lifetimes: Lifetimes,
    set: Vec<HeaderName>,
    strip: Folded,
}

impl Names {
    /// Of a gate. None where a name is no HTTP field name; the site file's check lets none through.
    pub(crate) fn of(edition: &Edition, gate: &Gate) -> Option<Names> {
        let delivered = edition.site.delivery(gate).into_iter().flat_map(|d| &d.headers).map(|h| h.name.as_str());
        let all: Vec<&str> = delivered.chain(gate.hand_over().map(|_| "authorization")).collect();
        let set = all.iter().map(|n| HeaderName::from_bytes(n.as_bytes()).ok()).collect::<Option<_>>()?;
        // A ticket goes there, another one with each request.
        let shown = gate.ticket().map(|_| "authorization");
        Some(Names {
            gate: gate.name.clone(),
            edition: edition.number,
            lifetimes: edition.site.lifetimes_at(None, Some(gate)),
            set,
            strip: Folded::of(all.iter().copied().chain(shown)),
        })
    }

    /// The gate whose they are.
    pub(crate) fn gate(&self) -> &str {
        &self.gate
    }

    /// The number of the edition that says so.
    pub(crate) fn edition(&self) -> i32 {
        self.edition
    }

    /// How long a session lasts at the gate, where neither its network nor a rule leaves less.
    pub(crate) fn lifetimes(&self) -> Lifetimes {
        self.lifetimes
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
        self.strip.holds(name.as_str())
    }
}
