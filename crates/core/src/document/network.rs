//! Reading of `site::network` from a document.

use chrono::Duration;

use super::condition;
use super::fields::Fields;
use super::names::Names;
use crate::session::Lifetimes;
use crate::site::{Limits, Network};

impl Limits {
    /// The shorter of each.
    pub fn within(&self, around: Lifetimes) -> Lifetimes {
        Lifetimes {
            idle: self.idle.map_or(around.idle, |d| d.min(around.idle)),
            absolute: self.absolute.map_or(around.absolute, |d| d.min(around.absolute)),
        }
    }

    /// Reads `idle` and `absolute`.
    pub(crate) fn read(f: &Fields<'_, '_>) -> Limits {
        let span = |key: &'static str| f.span(key, Duration::minutes(1), Duration::days(90));
        Limits { idle: span("idle"), absolute: span("absolute") }
    }
}

/// Reads `[[network]]`.
pub(crate) fn read(root: &Fields<'_, '_>, names: &Names<'_>) -> Vec<Network> {
    let mut out: Vec<Network> = vec![];
    for f in root.tables("network") {
        let name = f.need("name", "\"quay terminals\"").unwrap_or_default();
        if out.iter().any(|n| n.name == name) && !name.is_empty() {
            f.error("name", format!("two networks are named \"{name}\""), "Give each its own name.");
        }
        if !f.has("network") {
            f.error("network", "network is missing".into(), "Write network = \"10.20.9.0/24\", or the name of a list.");
        }
        let within = if f.has("network") { condition::read_networks(&f, names.lists) } else { None };
        let (shared, limits) = (f.flag("shared", false), Limits::read(&f));
        if !shared && limits == Limits::default() {
            f.warn("name", "the network changes nothing".into(), "Add shared = true, idle or absolute, or take it away.");
        }
        f.finish();
        out.extend(within.map(|within| Network { name, within, shared, limits }));
    }
    out
}
