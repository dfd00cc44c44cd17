//! Reading of `site::open_network` from a document, with what a network gate cannot be.

use std::collections::HashMap;

use super::fields::Fields;
use super::names::{Names, refer_to_several};
use crate::site::{Access, Condition, Effect, HardwareAddress, Machine, OpenNetwork, TermsOfUse, WhenFull};

/// The longest terms of use, in octets: they are shown on a small screen, and read.
const TERMS_MAX: usize = 8 * 1024;
/// The most machines without a person at one gate.
const MACHINES_MAX: usize = 2_000;

/// Reads what only a gate of kind `network` has.
pub(crate) fn read(f: &Fields<'_, '_>, names: &Names<'_>) -> OpenNetwork {
    let zones = refer_to_several(f, "zones", "zone", names.zones);
    if zones.is_empty() && !f.has("zones") {
        f.error("zones", "zones is missing".into(), "Name the [[zone]] that the gate guards: zones = [\"yard\"].");
    }
    OpenNetwork { terms: read_terms(f), machines: read_machines(f, Some(names)), ..read_rest(f, zones) }
}

/// Reads what only a gate of kind `vpn` has.
pub(crate) fn read_vpn(f: &Fields<'_, '_>, names: &Names<'_>) -> OpenNetwork {
    let entrances = refer_to_several(f, "entrances", "entrance", names.entrances);
    if entrances.is_empty() && !f.has("entrances") {
        let remedy = "Name the [[entrance]] by which tunnels come, or the [[radius-client]] that asks: entrances = [\"pilots\"].";
        f.error("entrances", "entrances is missing".into(), remedy);
    }
    let (radius, entrances): (Vec<_>, Vec<_>) = entrances.into_iter().partition(|e| names.radius_clients.contains(e));
    let terms = read_terms(f);
    if let (Some(_), Some(client)) = (&terms, radius.first()) {
        f.error(
            "terms",
            format!("[[radius-client]] {client} can show nobody any terms"),
            "Take the terms away, or make a gate of its own for what asks by RADIUS.",
        );
    }
    OpenNetwork { radius, terms, authority: f.text("authority").filter(|a| !a.is_empty()), ..read_rest(f, entrances) }
}

fn read_terms(f: &Fields<'_, '_>) -> Option<TermsOfUse> {
    f.table("terms").and_then(|t| {
        let version = t.need("version", "\"2026-11\"");
        let text = t.need("text", "\"Be kind to the network.\"");
        let text_fr = t.text("text-fr");
        for (key, text) in [("text", &text), ("text-fr", &text_fr)] {
            if text.as_ref().is_some_and(|t| t.len() > TERMS_MAX) {
                t.error(key, format!("{key} is longer than {TERMS_MAX} octets"), "Say it in fewer words: it is read on a phone.");
            }
        }
        t.finish();
        Some(TermsOfUse { version: version?, text: text?, text_fr })
    })
}

/// What both have.
fn read_rest(f: &Fields<'_, '_>, zones: Vec<String>) -> OpenNetwork {
    let devices = u16::try_from(f.number("devices", 5, 1..=1_000)).unwrap_or(5);
    let when_full = f.choice("when-full", WhenFull::Refuse, &WhenFull::WORDS);
    OpenNetwork { zones, radius: vec![], terms: None, devices, when_full, machines: vec![], authority: None }
}

/// Reads machines without a person; without names what they may reach is not said here.
pub(crate) fn read_machines(f: &Fields<'_, '_>, names: Option<&Names<'_>>) -> Vec<Machine> {
    let mut out: Vec<Machine> = vec![];
    let mut taken: HashMap<HardwareAddress, String> = HashMap::new();
    for m in f.tables("machine") {
        let name = m.need("name", "\"crane tablet 3\"").unwrap_or_default();
        let text = m.need("hardware", "\"00:1b:44:11:3a:b7\"").unwrap_or_default();
        let hardware = HardwareAddress::parse(&text);
        if hardware.is_none() && !text.is_empty() {
            m.error(
                "hardware",
                format!("\"{text}\" is no hardware address of one machine"),
                "Write six pairs: \"00:1b:44:11:3a:b7\".",
            );
        }
        if let Some(other) = hardware.and_then(|h| taken.insert(h, name.clone())) {
            m.error("hardware", format!("{text} is already that of {other}"), "List each machine once.");
        }
        if hardware.is_some_and(HardwareAddress::is_made_up) {
            m.warn(
                "hardware",
                format!("{text} was made up by the machine, and may change"),
                "Turn off private addresses for this network on the machine, and write the one it was built with.",
            );
        }
        let (owner, purpose) = (m.need("owner", "\"crane yard\""), m.need("purpose", "\"shows the lift plan\""));
        let until = m.need("until", "\"2027-12-31\"").and_then(|text| {
            let day = text.parse().ok();
            if day.is_none() {
                m.error("until", format!("\"{text}\" is no date"), "Write the last day as \"2027-12-31\".");
            }
            day
        });
        let reach = names.map(|n| refer_to_several(&m, "reach", "reach", n.reaches)).unwrap_or_default();
        if names.is_some() && reach.is_empty() && !m.has("reach") {
            m.error("reach", "reach is missing".into(), "Name what the machine may reach: reach = [\"crane-hosts\"].");
        }
        m.finish();
        if let (Some(hardware), Some(owner), Some(purpose), Some(until)) = (hardware, owner, purpose, until) {
            out.push(Machine { name, hardware, owner, purpose, until, reach });
        }
    }
    if out.len() > MACHINES_MAX {
        f.error(
            "machine",
            format!("{} machines are listed", out.len()),
            format!("Use at most {MACHINES_MAX}; make several gates of it."),
        );
    }
    out
}

/// Whether a condition asks about a single request, of which a network has none.
fn asks_requests(when: &Condition) -> bool {
    match when {
        Condition::Path(_) | Condition::Method(_) => true,
        Condition::All(parts) | Condition::Any(parts) | Condition::None(parts) => parts.iter().any(asks_requests),
        _ => false,
    }
}

/// What access cannot be at a network gate, and what it lacks there.
pub(crate) fn check_access(f: &Fields<'_, '_>, access: &Access, network: &OpenNetwork) {
    if access.callers.is_some() {
        let remedy = "Take [gate.callers] away; list a machine without a person as [[gate.machine]].";
        f.error("callers", "a network takes no programs: there is nothing they could call".into(), remedy);
    }
    for r in access.rules.iter().filter(|r| asks_requests(&r.when)) {
        f.error(
            "rule",
            format!("the rule \"{}\" asks about a path or a method, and a network has no requests", r.name),
            "Say where to by reach, or keep the rule to gates of kind web.",
        );
    }
    let opens = |e: &Effect| matches!(e, Effect::Give(g) if !g.reach.is_empty());
    // What a RADIUS client opens is its own.
    let has_reach = !network.zones.is_empty();
    if has_reach && access.rules.iter().any(|r| r.effect.enters()) && !access.rules.iter().any(|r| opens(&r.effect)) {
        f.warn(
            "rule",
            "whoever is let in reaches nothing: no rule grants reach".into(),
            "Add reach = [\"…\"] to a rule that enters.",
        );
    }
}

/// What only a network gives: of no use in a rule of a web application.
pub(crate) fn check_rules_of_web(f: &Fields<'_, '_>, own: &[crate::site::Rule]) {
    for r in own {
        let Effect::Give(g) = &r.effect else { continue };
        if !g.reach.is_empty() || g.quota.is_some() || g.rate.is_some() || g.devices.is_some() {
            f.error(
                "rule",
                format!("the rule \"{}\" gives reach, and behind this gate is a web application", r.name),
                "Move it to a gate of kind network or vpn; parts of an application are [[gate.section]].",
            );
        }
    }
}
