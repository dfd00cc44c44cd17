//! Reading of `site::parts` from a document.

use crate::address::{PublicAddress, is_loopback};

use super::access;
use super::fields::Fields;
use super::names::{Names, OfSite};
use super::open_network;
use super::response;
use super::section;
use super::upstream;
use super::upstream_ticket;
use crate::decide::{PARTS_MAX, RequestView};
use crate::site::{
    Access, Condition, Effect, Gate, GateKind, HandOver, Limits, Rule, Section, SectionAccess, Upstream, Upstreams, Web,
};

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
    let kind = f.choice("kind", Kind::Web, &[("web", Kind::Web), ("network", Kind::Network), ("vpn", Kind::Vpn)]);
    let address = read_address(f, "address", "\"https://application.example\"");
    let mut access = access::read_access(f, names, None, of_site, Some(&name));
    let behind = match kind {
        Kind::Web => read_web(f, names, address.as_ref(), &mut access, of_site).map(|w| GateKind::Web(Box::new(w))),
        Kind::Network => {
            let network = open_network::read(f, names);
            open_network::check_access(f, &access, &network);
            Some(GateKind::Network(Box::new(network)))
        }
        Kind::Vpn => {
            let network = open_network::read_vpn(f, names);
            open_network::check_access(f, &access, &network);
            Some(GateKind::Vpn(Box::new(network)))
        }
    };
    let session = f.table("session").map(|s| {
        let limits = Limits::read(&s);
        s.finish();
        limits
    });
    let session = session.unwrap_or_default();
    let delivery = match kind {
        Kind::Web | Kind::Vpn => super::names::refer(f, "delivery", "delivery", deliveries),
        Kind::Network => None,
    };
    if access.rules.is_empty() && !f.has("rule") {
        f.warn("name", "the gate has no rule, so it admits nobody".into(), "Add a [[gate.rule]].");
    } else if !access.rules.is_empty() && !access.rules.iter().any(|r| r.effect.enters()) {
        f.warn("name", "no rule of the gate grants entry, so it admits nobody".into(), "Add enter = true to a [[gate.rule]].");
    }
    let title = f.text("title").unwrap_or_else(|| name.clone());
    f.finish();
    let gate = Gate { name, title, address: address?, access, session, delivery, kind: behind? };
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

/// What stands behind a gate, as a word.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Web,
    Network,
    Vpn,
}

/// Reads what only a gate of kind `web` has. What its sections ask of a sign-in is put among the rules.
fn read_web(
    f: &Fields<'_, '_>,
    names: &Names<'_>,
    address: Option<&PublicAddress>,
    access: &mut Access,
    of_site: OfSite<'_>,
) -> Option<Web> {
    let upstreams = upstream::read(f);
    open_network::check_rules_of_web(f, access.rules.get(of_site.rules.len()..).unwrap_or_default());
    let response = response::read(f, address, upstreams.as_ref());
    let sections = section::read(f, names, !access.directories.is_empty(), !access.rules.is_empty());
    // What a section asks of the sign-in is a rule for what lies there.
    access.rules = access.rules.and(sections.iter().filter_map(|s| {
        let when = Condition::Path(vec![s.path.clone()]);
        Some(Rule { name: format!("section {}", s.path), when, effect: Effect::StepUp(s.step_up.clone()?) })
    }));
    let later = |s: &&Section| matches!(&s.access, SectionAccess::More { when, .. } if access.asks_too_early(when));
    for s in sections.iter().filter(later) {
        f.error(
            "section",
            format!("the section {} asks about an attribute that is made from what rules give", s.path),
            "Ask about what the attribute is made from.",
        );
    }
    let hand_over = f.choice("hand-over", None, &[("none", None), ("basic", Some(HandOver::Basic))]);
    if hand_over.is_some() {
        check_hand_over(f, names, access, upstreams.as_ref());
    }
    let ticket = upstream_ticket::read(f, names);
    if ticket.is_some() && hand_over.is_some() {
        f.error("hand-over", "the application is shown a ticket, and cannot be given a password too".into(), "Keep one of them.");
    }
    Some(Web { upstreams: upstreams?, hand_over, ticket, sections, response })
}

/// A password is handed over only where one is typed, and nobody may read it on its way.
fn check_hand_over(f: &Fields<'_, '_>, names: &Names<'_>, access: &Access, upstreams: Option<&Upstreams>) {
    if !access.ways.iter().any(|w| names.password_ways.contains(w)) {
        let what = "no way in of the gate asks for a password, so there is none to hand over";
        f.error("hand-over", what.into(), "Name a [[way]] of kind password in ways-in, or take the line away.");
    }
    let clear = |u: &&Upstream| !u.https && !is_loopback(&u.host);
    if let Some(u) = upstreams.and_then(|u| u.members.iter().find(clear)) {
        f.error("hand-over", format!("passwords would travel in clear to {u}"), "Use https:// to the application.");
    }
}

pub(crate) fn read_address(f: &Fields<'_, '_>, key: &'static str, example: &str) -> Option<PublicAddress> {
    let text = f.need(key, example)?;
    PublicAddress::parse(&text).map_err(|why| f.error(key, format!("\"{text}\" {why}"), format!("Write {key} = {example}."))).ok()
}
