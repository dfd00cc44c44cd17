//! Entrances of tunnels: VPN servers with which nobody speaks, or that are not as the site file says; and personal profiles that run out.

use super::{Code, Facts, Finding, ProfileFacts};
use crate::site::{Gate, Site};

/// The most profiles that a finding names.
const NAMED: usize = 5;

/// Profiles that ran out, and those that soon will.
fn profiles(gate: &Gate, facts: &Facts, out: &mut Vec<Finding>) {
    for (code, is) in [(Code::ProfilesExpired, true), (Code::ProfilesRunOut, false)] {
        let of = |p: &&ProfileFacts| p.gate == gate.name && (p.until <= facts.now) == is;
        let all: Vec<String> = facts.profiles.iter().filter(of).map(|p| format!("{} of {}", p.device, p.person)).collect();
        if all.is_empty() {
            continue;
        }
        let more = if all.len() > NAMED { ", …" } else { "" };
        let which = format!("{}{more}", all.iter().take(NAMED).cloned().collect::<Vec<_>>().join(", "));
        out.push(
            Finding::new(code, format!("gate {}", gate.name))
                .with("gate", gate.name.as_str())
                .with("count", all.len().to_string())
                .with("which", which),
        );
    }
}

/// How findings name an entrance.
pub(super) fn place(entrance: &str) -> String {
    format!("entrance {entrance}")
}

pub(super) fn look(site: &Site, facts: &Facts, out: &mut Vec<Finding>) {
    for gate in site.gates.iter().filter(|g| g.is_vpn()) {
        profiles(gate, facts, out);
        for zone in site.zones_of(gate) {
            let Some(tunnel) = zone.tunnel() else { continue };
            let said = |code: Code| Finding::new(code, place(&zone.name)).with("entrance", zone.name.as_str());
            let seen: Vec<_> = facts
                .guards
                .iter()
                .flat_map(|g| g.entrances.iter().map(move |e| (g, e)))
                .filter(|(_, e)| e.name == zone.name)
                .collect();
            if !seen.iter().any(|(_, e)| e.speaks) {
                let words: Vec<String> =
                    seen.iter().filter_map(|(g, e)| Some(format!("{}: {}", g.node, e.trouble.as_ref()?))).collect();
                out.push(
                    said(Code::TunnelServerLost)
                        .with("gate", gate.name.as_str())
                        .with("words", if words.is_empty() { "—".to_owned() } else { words.join("; ") }),
                );
            }
            for (guard, entrance) in seen {
                let node = guard.node.as_str();
                let patience = tunnel.patience.num_seconds();
                if let Some(window) = entrance.hand_window.filter(|w| i64::from(*w) < patience) {
                    out.push(
                        said(Code::TunnelHandWindow).with("window", window.to_string()).with("patience", patience.to_string()),
                    );
                }
                if let Some((folder, mode)) = &entrance.open_to_others {
                    out.push(
                        said(Code::TunnelSocketOpen)
                            .with("node", node)
                            .with("folder", folder.as_str())
                            .with("mode", mode.as_str()),
                    );
                }
                if let Some((given, places)) = entrance.near_full {
                    out.push(
                        said(Code::TunnelPoolNearFull)
                            .with("node", node)
                            .with("given", given.to_string())
                            .with("places", places.to_string()),
                    );
                }
            }
        }
    }
}
