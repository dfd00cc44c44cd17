//! The survey: everything a site depends on, looked at, with what is wrong in order of harm.
//!
//! What is outside is asked by the service and comes in as [`Facts`]; what it means is decided here. [`rules`] and
//! [`deliveries`] look at the edition alone, [`outside`] and [`kerberos`] at the facts; the [`catalogue`] says each finding in words.

mod catalogue;
mod deliveries;
mod devices;
mod facts;
mod facts_kerberos;
mod kerberos;
mod networks;
mod outside;
mod radius;
mod recent;
mod rules;
mod sources;
mod tunnels;

pub use catalogue::{ALL, Code};
pub use facts::*;
pub use facts_kerberos::*;
pub use recent::{Recent, recent};
pub use sources::{SourceCount, count_sources};

pub(crate) use crate::finding::Word;
pub use crate::finding::{Harm, Spec};
use crate::site::{Access, Site};

/// One finding.
pub type Finding = crate::finding::Found<Code>;

/// Everything that is wrong, the worst first.
pub fn survey(site: &Site, facts: &Facts) -> Vec<Finding> {
    let mut out = vec![];
    rules::look(site, facts, &mut out);
    deliveries::look(site, &mut out);
    outside::look(site, facts, &mut out);
    networks::look(site, facts, &mut out);
    tunnels::look(site, facts, &mut out);
    radius::look(site, facts, &mut out);
    devices::look(site, facts, &mut out);
    kerberos::look(site, &facts.kerberos, &mut out);
    worst_first(out)
}

fn worst_first(mut all: Vec<Finding>) -> Vec<Finding> {
    all.dedup();
    all.sort_by_key(|f| (f.code.spec().harm, f.code));
    all
}

/// The same of Kerberos alone.
pub fn survey_kerberos(site: &Site, facts: &KerberosFacts) -> Vec<Finding> {
    let mut out = vec![];
    kerberos::look(site, facts, &mut out);
    worst_first(out)
}

/// The same of one entrance of tunnels alone.
pub fn survey_entrance(site: &Site, facts: &Facts, entrance: &str) -> Vec<Finding> {
    let mut out = vec![];
    tunnels::look(site, facts, &mut out);
    let place = tunnels::place(entrance);
    out.retain(|f| f.place == place);
    worst_first(out)
}

/// Gates and the console, each with its name in words.
pub(crate) fn places(site: &Site) -> impl Iterator<Item = (String, &Access)> {
    let gates = site.gates.iter().map(|g| (format!("gate {}", g.name), &g.access));
    gates.chain(site.engineers.iter().map(|e| ("the console".to_owned(), e)))
}
