//! Gates, and what every named part of a site shares.

use super::access::{self, Access, Names, OfSite};
use super::read::Fields;
use super::response::{self, ResponseEdits};
use super::section::{self, Section, SectionAccess};
use super::upstream::{self, Upstreams};
use crate::address::PublicAddress;
use crate::decide::{PARTS_MAX, RequestView};

/// What kind of thing is behind a gate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GateKind {
    Web,
}

/// One thing put behind sign-in.
#[derive(Clone, Debug)]
pub struct Gate {
    pub name: String,
    pub title: String,
    pub kind: GateKind,
    pub address: PublicAddress,
    pub upstreams: Upstreams,
    pub access: Access,
    /// Parts of the gate that are open or ask for more.
    pub sections: Vec<Section>,
    /// Edits on what the application answers.
    pub response: ResponseEdits,
    pub delivery: Option<String>,
}

/// Names go into URLs, cookies and commands: short, lower case, plain.
pub(crate) fn name_of(f: &Fields<'_, '_>, taken: &[String]) -> String {
    let Some(name) = f.need("name", "\"a-short-name\"") else { return String::new() };
    let plain = name.len() <= 40 && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-');
    if !plain {
        f.error(
            "name",
            format!("the name \"{name}\" is not plain"),
            "Use a-z, 0-9 and hyphens, at most 40; title holds the words people read.",
        );
    }
    if taken.contains(&name) {
        f.error("name", format!("the name \"{name}\" stands twice"), "Give each its own name.");
    }
    name
}

pub(crate) fn read_gate(
    f: &Fields<'_, '_>,
    name: String,
    names: &Names<'_>,
    deliveries: &[String],
    of_site: OfSite<'_>,
) -> Option<Gate> {
    let kind = f.choice("kind", GateKind::Web, &[("web", GateKind::Web)]);
    let address = read_address(f, "address", "\"https://application.example\"");
    let upstreams = upstream::read(f);
    let access = access::read_access(f, names, None, of_site, Some(&name));
    let response = response::read(f, address.as_ref(), upstreams.as_ref());
    let sections = section::read(f, names, !access.directories.is_empty(), !access.rules.is_empty());
    let later = |s: &&Section| matches!(&s.access, SectionAccess::More { when, .. } if access.asks_too_early(when));
    for s in sections.iter().filter(later) {
        f.error(
            "section",
            format!("the section {} asks about an attribute that is made from what rules give", s.path),
            "Ask about what the attribute is made from.",
        );
    }
    let delivery = access::refer(f, "delivery", "delivery", deliveries);
    if access.rules.is_empty() && !f.has("rule") {
        f.warn("name", "the gate has no rule, so it admits nobody".into(), "Add a [[gate.rule]].");
    } else if !access.rules.is_empty() && !access.rules.iter().any(|r| r.effect.enters()) {
        f.warn("name", "no rule of the gate grants entry, so it admits nobody".into(), "Add enter = true to a [[gate.rule]].");
    }
    let title = f.text("title").unwrap_or_else(|| name.clone());
    f.finish();
    let gate = Gate { name, title, kind, address: address?, upstreams: upstreams?, access, sections, response, delivery };
    let parts = RequestView::of(&gate).len();
    if parts > PARTS_MAX {
        f.error(
            "name",
            format!("its conditions name {parts} different networks, paths and methods"),
            format!("Use at most {PARTS_MAX}; join several in one condition or list."),
        );
    }
    Some(gate)
}

pub(crate) fn read_address(f: &Fields<'_, '_>, key: &'static str, example: &str) -> Option<PublicAddress> {
    let text = f.need(key, example)?;
    PublicAddress::parse(&text).map_err(|why| f.error(key, format!("\"{text}\" {why}"), format!("Write {key} = {example}."))).ok()
}
