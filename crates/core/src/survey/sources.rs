//! How often each source of an attribute held a value, at the sign-ins of late.

use std::collections::BTreeSet;

use crate::evidence::Evidence;
use crate::identity::{from_claims, of_entry};
use crate::site::Site;

/// One source of one attribute.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SourceCount {
    pub attribute: String,
    /// The claim or the directory attribute.
    pub source: String,
    /// The provider, or else the directory.
    pub provider: Option<String>,
    pub directory: Option<String>,
    /// People of whom it was asked, and those for whom it had a value.
    pub asked: usize,
    pub held: usize,
}

/// Counts what the latest evidence of each person holds.
pub fn count_sources(site: &Site, evidence: &[Evidence]) -> Vec<SourceCount> {
    let mut seen = BTreeSet::new();
    let people: Vec<&Evidence> = evidence.iter().filter(|e| seen.insert((&e.provider, &e.subject))).collect();
    let mut out = vec![];
    for p in &site.providers {
        let mine: Vec<_> = people.iter().filter(|e| e.provider == p.name).collect();
        for (id, claim) in &p.attributes {
            out.push(SourceCount {
                attribute: site.attribute_name(*id).to_owned(),
                source: claim.clone(),
                provider: Some(p.name.clone()),
                directory: None,
                asked: mine.len(),
                held: mine.iter().filter(|e| from_claims(e, claim).values().is_ok()).count(),
            });
        }
    }
    for d in &site.directories {
        let entries: Vec<_> =
            people.iter().filter_map(|e| e.look_up(&d.name)).filter_map(|l| Some((l, l.state.entry()?))).collect();
        for (id, name) in &d.attributes {
            let asked: Vec<_> = entries.iter().filter(|(l, _)| l.asked_for(name)).collect();
            out.push(SourceCount {
                attribute: site.attribute_name(*id).to_owned(),
                source: name.clone(),
                provider: None,
                directory: Some(d.name.clone()),
                asked: asked.len(),
                held: asked.iter().filter(|(_, entry)| of_entry(d, entry, *id, name).values().is_ok()).count(),
            });
        }
    }
    out
}
