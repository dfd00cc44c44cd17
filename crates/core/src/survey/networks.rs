//! Networks that open after sign-in: zones that nobody guards, names that lead nowhere, machines whose time is over.

use super::{Code, Facts, Finding, Word};
use crate::before::{Passage, Why, passage, ways_of};
use crate::site::{Destination, Site};
use crate::step::Lang;

/// How many days before its last one a machine without a person is told of.
const SOON_DAYS: i64 = 14;

pub(super) fn look(site: &Site, facts: &Facts, out: &mut Vec<Finding>) {
    for gate in &site.gates {
        let Some(network) = gate.network() else { continue };
        for zone in site.zones_of(gate).filter(|z| !facts.guarded.contains(&z.name)) {
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
        let today = facts.now.date_naive();
        for machine in &network.machines {
            let left = machine.until.signed_duration_since(today).num_days();
            let code = match left {
                ..0 => Code::MachineOver,
                0..=SOON_DAYS => Code::MachineSoonOver,
                _ => continue,
            };
            out.push(
                Finding::new(code, format!("gate {}", gate.name))
                    .with("gate", gate.name.as_str())
                    .with("machine", machine.name.as_str())
                    .with("owner", machine.owner.as_str())
                    .with("until", machine.until.to_string()),
            );
        }
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
