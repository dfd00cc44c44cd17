//! For the team of a network that a gate of kind `network` guards.

use super::{Part, Row, Sheet};
use crate::site::{Gate, Machines, OpenNetwork, Reach, Site, Zone};
use crate::step::Lang;

pub(super) fn sheet(site: &Site, gate: &Gate, network: &OpenNetwork) -> Sheet {
    let mut parts: Vec<Part> = vec![];
    for zone in site.zones_of(gate) {
        parts.push(Part { code: "enter", heading: "Please enter", rows: of_zone(site, gate, zone) });
    }
    parts.push(Part { code: "receive", heading: "What rules may open", rows: opened(site, gate) });
    if !network.machines.is_empty() {
        let row = |m: &crate::site::Machine| {
            let why = format!("{}; answers for it: {}; until {}", m.purpose, m.owner, m.until);
            Row::new(&m.name, format!("{} → {}", m.hardware, m.reach.join(", ")), why)
        };
        parts.push(Part {
            code: "receive",
            heading: "Machines without a person",
            rows: network.machines.iter().map(row).collect(),
        });
    }
    Sheet {
        title: format!("{}, guarded by the gate {}", gate.title, gate.name),
        state: String::new(),
        connected: true,
        parts,
        steps: vec![
            format!(
                "From a machine that is not signed in, open {}: the page comes, and nothing else does.",
                gate.address.at("/")
            ),
            "From the same machine, ask for an address outside: the answer is a refusal at once, and no silence.".to_owned(),
            format!(
                "passeur reach try --gate {} --person NAME HOST:PORT says what somebody reaches, and by which rule.",
                gate.name
            ),
        ],
    }
}

fn of_zone(site: &Site, gate: &Gate, zone: &Zone) -> Vec<Row> {
    let networks = zone.networks.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    let tied = match &zone.machines {
        Machines::OnLink => "its machines are on the link: what is opened is tied to the hardware address",
        Machines::Routed => "another router is between: what is opened is tied to the single address",
        Machines::InTunnels(_) => "each machine is given an address of each; the first of a network is the server's own",
    };
    let mut out = vec![
        Row::new("Zone", zone.title.clone(), format!("{} in the site file", zone.name)),
        Row::new("Interface", zone.interface.clone(), "of the node that guards it; nothing else may forward from there"),
        Row::new("Networks", networks, tied),
        Row::new("Portal", gate.address.at("/"), "must be reached by every machine, by name and address"),
    ];
    if !zone.led.is_empty() {
        let ports = zone.led.iter().map(|p| format!("tcp/{p}")).collect::<Vec<_>>().join(", ");
        out.push(Row::new("Led to the portal", ports, "plain HTTP of unknown machines; TLS is refused at once"));
    }
    let named = |name: &String| site.reach(name);
    out.extend(zone.before.iter().filter_map(named).map(|r| Row::new("Open to everybody", destinations(r), r.title.clone())));
    if let Some(first) = &zone.first
        && let Some(r) = site.reach(&first.reach)
    {
        let why = format!("{}: for {} min, once a day, before sign-in", r.title, first.lasts.num_minutes());
        out.push(Row::new("Open at first", destinations(r), why));
    }
    out
}

/// Every reach that a rule of the gate gives, with the rules.
pub(super) fn opened(site: &Site, gate: &Gate) -> Vec<Row> {
    let mut out = vec![];
    for reach in &site.reaches {
        let gives = gate.access.rules.iter().filter(|r| r.effect.opens(&reach.name));
        let rules: Vec<String> = gives.map(|r| r.sentence(site, Lang::En)).collect();
        if !rules.is_empty() {
            out.push(Row::new(&reach.title, destinations(reach), rules.join("; ")));
        }
    }
    if out.is_empty() {
        out.push(Row::new("Nothing", "", "no rule grants reach"));
    }
    out
}

fn destinations(reach: &Reach) -> String {
    reach.sentence(Lang::En)
}
