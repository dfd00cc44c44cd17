//! What a node says of the zones that it guards, to whoever surveys.

use passeur_core::site::{Destination, Gate, Opener, Site, Zone};
use passeur_core::survey::GuardFacts;
use passeur_live::edition::Edition;
use passeur_sluice::words::ADMISSIONS_MAX;

use crate::gate::NetworkGate;
use crate::neighbours::{interface_number, own_addresses};
use crate::plan::guarded;

/// Names of the shape `*.name` that something opens in a zone, each with its reach.
fn below<'a>(site: &'a Site, gate: &'a Gate, zone: &'a Zone) -> impl Iterator<Item = (String, String)> + 'a {
    let here = move |(of, opener): (&Gate, Opener<'_>)| match opener {
        Opener::Zone(z) | Opener::First(z) => z.name == zone.name,
        Opener::Rule(_) | Opener::Machine(_) => of.name == gate.name,
    };
    let opened = site.reaches.iter().filter(move |r| site.openers(&r.name).any(here));
    let is_below = |d: &Destination| match d {
        Destination::Name(p) if p.host().is_none() => Some(p.to_string()),
        Destination::Name(_) | Destination::Network(_) => None,
    };
    opened.flat_map(move |r| r.to.iter().filter_map(is_below).map(move |n| (r.name.clone(), n)))
}

impl NetworkGate {
    /// How this node and its kernel stand under an edition.
    pub(crate) fn report(&self, edition: &Edition) -> GuardFacts {
        let state = self.state().unwrap_or_default();
        let mut out = GuardFacts {
            node: self.engine.node.clone(),
            zones: self.guards(edition),
            trouble: self.trouble(),
            restored: state.restored,
            found: state.found,
            bypassed: state.bypassed,
            nobody_asked: self.nobody_asked(),
            present: self.book().present.len() as u64,
            most: ADMISSIONS_MAX as u64,
            entrances: self.entrances(),
            ..GuardFacts::default()
        };
        let (mut v4, mut v6) = (false, false);
        // Where it cannot be read, nothing is said of it.
        let own = own_addresses().ok();
        for (gate, zone) in guarded(&edition.site, &state.allowed) {
            v4 |= zone.networks.iter().any(|n| n.addr().is_ipv4());
            v6 |= zone.networks.iter().any(|n| n.addr().is_ipv6());
            let answered = zone.resolver.iter().any(|r| self.answers_at.iter().any(|a| a.ip() == *r || a.ip().is_unspecified()));
            if !answered {
                out.names_unseen.extend(below(&edition.site, gate, zone).map(|(r, n)| (zone.name.clone(), r, n)));
            }
            if let Some(own) = &own {
                let elsewhere = zone.resolver.iter().filter(|r| !own.iter().any(|o| o.address == **r));
                out.resolver_elsewhere.extend(elsewhere.map(|r| (zone.name.clone(), r.to_string())));
            }
            let Some(number) = interface_number(&zone.interface) else {
                out.missing.push(zone.name.clone());
                continue;
            };
            let Some(own) = &own else { continue };
            let here: Vec<_> = own.iter().filter(|o| o.interface == number).map(|o| o.address).collect();
            let without = zone.networks.iter().filter(|n| !here.iter().any(|a| n.contains(a)));
            out.without_address.extend(without.map(|n| (zone.name.clone(), n.to_string())));
        }
        let off = |is: bool, file: &str| is && std::fs::read_to_string(file).is_ok_and(|t| t.trim() == "0");
        for (is, family, file) in
            [(v4, "IPv4", "/proc/sys/net/ipv4/ip_forward"), (v6, "IPv6", "/proc/sys/net/ipv6/conf/all/forwarding")]
        {
            if off(is, file) {
                out.forwards_not.push(family.to_owned());
            }
        }
        out
    }

    /// Tells the other nodes, where it is otherwise than it was told last.
    pub(crate) async fn tell(&self, edition: &Edition, told: &mut Option<GuardFacts>) {
        let report = self.report(edition);
        // How many are on changes all the time, and matters near the end alone.
        let alike = |a: &GuardFacts, b: &GuardFacts| {
            let rough = |g: &GuardFacts| GuardFacts { present: g.present / 1_000, ..g.clone() };
            rough(a) == rough(b)
        };
        if told.as_ref().is_some_and(|t| alike(t, &report)) {
            return;
        }
        let json = serde_json::to_value(&report).unwrap_or_default();
        match self.engine.store.node_guards(self.engine.node_id, json).await {
            Ok(true) => *told = Some(report),
            Ok(false) => {}
            Err(e) => tracing::warn!(error = %e, "what this node guards could not be told"),
        }
    }
}
