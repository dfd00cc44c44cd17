//! Networks that open after sign-in: zones that nobody guards, names that lead nowhere, machines whose time is over.

use super::{Code, Facts, Finding, GuardFacts, Word};
use crate::before::{Passage, Why, passage, ways_of};
use crate::site::{Destination, Machine, Site, WayKind};
use crate::step::Lang;

/// How many days before its last one a machine without a person is told of.
const SOON_DAYS: i64 = 14;

pub(super) fn look(site: &Site, facts: &Facts, out: &mut Vec<Finding>) {
    for gate in &site.gates {
        let Some(network) = gate.network() else { continue };
        for zone in site.zones_of(gate).filter(|z| !facts.guards.iter().any(|g| g.zones.contains(&z.name))) {
            out.push(
                Finding::new(Code::ZoneUnguarded, format!("zone {}", zone.name))
                    .with("zone", zone.name.as_str())
                    .with("interface", zone.interface.as_str())
                    .with("gate", gate.name.as_str()),
            );
        }
        for zone in site.zones_of(gate) {
            let ways = ways_of(gate, zone);
            // One finding a host, whatever it is needed for.
            let mut told: Vec<&str> = vec![];
            for need in facts.before.iter().filter(|n| ways.contains(&n.way) && n.why != Why::SignOut) {
                let Passage::Shut { by_rules } = passage(site, gate, zone, need) else { continue };
                if told.contains(&need.host.as_str()) {
                    continue;
                }
                told.push(&need.host);
                let given = if by_rules.is_empty() { "—".to_owned() } else { by_rules.join(", ") };
                out.push(
                    Finding::new(Code::ZoneProviderShut, format!("zone {}", zone.name))
                        .with("zone", zone.name.as_str())
                        .with("provider", need.way.as_str())
                        .with("host", format!("{}:{}", need.host, need.port))
                        .with("why", Word::Say([Lang::En, Lang::Fr].map(|l| need.why.words(&need.way, l))))
                        .with("given", given),
                );
            }
        }
        let of_gate = network.machines.iter().map(|m| (m, "[[gate.machine]]".to_owned()));
        let of_ways = gate.access.ways.iter().filter_map(|w| site.way(w)).flat_map(|w| match &w.kind {
            WayKind::Machine(all) => all.iter().map(|m| (m, format!("[[way.machine]] of {}", w.name))).collect(),
            _ => vec![],
        });
        of_gate.chain(of_ways).for_each(|(machine, listed)| of_machine(facts, &gate.name, machine, listed, out));
    }
    for guard in &facts.guards {
        of_node(site, guard, out);
    }
    for (name, words) in &facts.dead_names {
        let leads = |d: &Destination| matches!(d, Destination::Name(p) if p.host() == Some(name.as_str()));
        for reach in site.reaches.iter().filter(|r| r.to.iter().any(leads)) {
            let gates: Vec<&str> = site.gates_opening(&reach.name).map(|g| g.name.as_str()).collect();
            out.push(
                Finding::new(Code::ReachNameDead, format!("reach {}", reach.name))
                    .with("reach", reach.name.as_str())
                    .with("name", name.as_str())
                    .with("words", words.as_str())
                    .with("gates", if gates.is_empty() { "—".to_owned() } else { gates.join(", ") }),
            );
        }
    }
}

/// What a node that guards zones says of its kernel.
fn of_node(site: &Site, guard: &GuardFacts, out: &mut Vec<Finding>) {
    let at = || format!("node {}", guard.node);
    let interface = |zone: &str| site.zone(zone).map(|z| z.interface.clone()).unwrap_or_default();
    if let Some(words) = &guard.trouble {
        out.push(Finding::new(Code::SluiceTrouble, at()).with("node", guard.node.as_str()).with("words", words.as_str()));
    }
    for zone in &guard.missing {
        out.push(
            Finding::new(Code::InterfaceMissing, format!("zone {zone}"))
                .with("zone", zone.as_str())
                .with("interface", interface(zone))
                .with("node", guard.node.as_str()),
        );
    }
    for family in &guard.forwards_not {
        let setting = if family == "IPv4" { "net.ipv4.ip_forward" } else { "net.ipv6.conf.all.forwarding" };
        out.push(
            Finding::new(Code::ForwardingOff, at())
                .with("node", guard.node.as_str())
                .with("family", family.as_str())
                .with("setting", setting),
        );
    }
    for (zone, network) in &guard.without_address {
        out.push(
            Finding::new(Code::ZoneWithoutAddress, format!("zone {zone}"))
                .with("zone", zone.as_str())
                .with("network", network.as_str())
                .with("node", guard.node.as_str())
                .with("interface", interface(zone)),
        );
    }
    for (zone, address) in &guard.resolver_elsewhere {
        out.push(
            Finding::new(Code::ResolverElsewhere, format!("zone {zone}"))
                .with("zone", zone.as_str())
                .with("address", address.as_str())
                .with("node", guard.node.as_str()),
        );
    }
    for (zone, reach, name) in &guard.names_unseen {
        out.push(
            Finding::new(Code::ZoneNamesUnseen, format!("reach {reach}"))
                .with("zone", zone.as_str())
                .with("reach", reach.as_str())
                .with("name", name.as_str())
                .with("node", guard.node.as_str()),
        );
    }
    for (zone, people) in &guard.nobody_asked {
        let of = site.gates.iter().find(|g| site.zones_of(g).any(|z| z.name == *zone));
        out.push(
            Finding::new(Code::OptionUnseen, format!("zone {zone}"))
                .with("zone", zone.as_str())
                .with("people", people.to_string())
                .with("option", of.map(|g| g.address.at("/.passeur/captive")).unwrap_or_default()),
        );
    }
    for table in &guard.bypassed {
        out.push(Finding::new(Code::ZoneBypassed, at()).with("node", guard.node.as_str()).with("table", table.as_str()));
    }
    if guard.restored > 0 {
        let found = guard.found.clone().unwrap_or_default();
        out.push(
            Finding::new(Code::TableRestored, at())
                .with("node", guard.node.as_str())
                .with("times", guard.restored.to_string())
                .with("found", found),
        );
    }
    // Nine in ten: whoever comes next may be the one too many.
    if guard.most > 0 && guard.present * 10 >= guard.most * 9 {
        out.push(
            Finding::new(Code::ZoneNearFull, at())
                .with("node", guard.node.as_str())
                .with("present", guard.present.to_string())
                .with("most", guard.most.to_string()),
        );
    }
}

/// A machine without a person whose last day is over, or soon.
fn of_machine(facts: &Facts, gate: &str, machine: &Machine, listed: String, out: &mut Vec<Finding>) {
    let code = match machine.until.signed_duration_since(facts.now.date_naive()).num_days() {
        ..0 => Code::MachineOver,
        0..=SOON_DAYS => Code::MachineSoonOver,
        _ => return,
    };
    out.push(
        Finding::new(code, format!("gate {gate}"))
            .with("gate", gate)
            .with("machine", machine.name.as_str())
            .with("owner", machine.owner.as_str())
            .with("until", machine.until.to_string())
            .with("listed", listed),
    );
}
