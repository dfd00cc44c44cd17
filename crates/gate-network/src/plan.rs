//! From an edition to what the sluice is told.

use std::collections::BTreeSet;
use std::net::IpAddr;

use passeur_core::decide::Terms;
use passeur_core::site::{Destination, Gate, Machines, Reach, Service, Site, Transport, Zone};
use passeur_sluice::plan as sluice;

/// What of this machine every machine of a zone reaches.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Doors {
    /// Ports of the sign-in host and the gates.
    pub portal: Vec<u16>,
    /// The port that answers plain HTTP led there.
    pub redirect: Option<u16>,
}

/// Zones of the edition that this node guards, with their gates: those whose interface the sluice was given.
pub fn guarded<'a>(site: &'a Site, interfaces: &'a [String]) -> impl Iterator<Item = (&'a Gate, &'a Zone)> {
    let all = site.gates.iter().flat_map(move |g| site.zones_of(g).map(move |z| (g, z)));
    all.filter(|(_, z)| interfaces.contains(&z.interface))
}

/// The zone of those that an address is in, with its gate.
pub fn zone_at<'a>(site: &'a Site, interfaces: &'a [String], address: IpAddr) -> Option<(&'a Gate, &'a Zone)> {
    guarded(site, interfaces).find(|(_, z)| z.holds(address))
}

/// The plan of an edition for this node.
pub fn plan(number: i32, site: &Site, interfaces: &[String], doors: &Doors) -> sluice::Plan {
    let zone = |z: &Zone| {
        let mut before = z.before.clone();
        before.dedup();
        sluice::Zone {
            name: z.name.clone(),
            interface: z.interface.clone(),
            networks: z.networks.clone(),
            before,
            led: z.led.clone(),
            redirect: doors.redirect,
            portal: doors.portal.clone(),
            resolver: z.resolver.clone(),
        }
    };
    sluice::Plan {
        edition: number,
        zones: guarded(site, interfaces).map(|(_, z)| zone(z)).collect(),
        reaches: site.reaches.iter().map(|r| (r.name.clone(), reach(r))).collect(),
    }
}

fn reach(r: &Reach) -> sluice::Reach {
    let network = |d: &Destination| if let Destination::Network(n) = d { Some(*n) } else { None };
    sluice::Reach {
        to: r.to.iter().filter_map(network).collect(),
        named: r.has_names(),
        except: r.except.clone(),
        services: r.services.iter().map(service).collect(),
    }
}

/// A service as the sluice is told it.
pub(crate) fn service(s: &Service) -> sluice::Service {
    match *s {
        Service::All => sluice::Service::All,
        Service::Icmp => sluice::Service::Icmp,
        Service::Ports(Transport::Tcp, a, b) => sluice::Service::Tcp(a, b),
        Service::Ports(Transport::Udp, a, b) => sluice::Service::Udp(a, b),
    }
}

/// The class of what a decision opens.
pub fn class(terms: &Terms) -> sluice::Class {
    sluice::Class {
        reaches: terms.opens.iter().map(|o| o.reach.clone()).collect(),
        // Bits to octets; a rate that is less than one octet would let nothing through, and is no rate of the site file.
        rate: terms.rate.map(|bits| (bits / 8).max(1)),
    }
}

/// The class of reaches by name.
pub fn class_of(reaches: &[String]) -> sluice::Class {
    sluice::Class { reaches: reaches.iter().cloned().collect::<BTreeSet<_>>(), rate: None }
}

/// Whether machines of a zone are known by their hardware address.
pub fn on_link(zone: &Zone) -> bool {
    zone.machines == Machines::OnLink
}
