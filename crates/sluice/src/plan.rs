//! What an edition guards, as the sluice is told it: zones, reaches and classes of reach. Everything is typed and bounded, so that no text of
//! anybody's becomes a rule.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use ipnet::IpNet;
use serde::{Deserialize, Serialize};

use crate::words::{Admission, MARK_END, MARK_FIRST};

/// The most zones, reaches and networks of a plan.
const ZONES_MAX: usize = 200;
const REACHES_MAX: usize = 2_000;
const NETWORKS_MAX: usize = 2_000;

/// What an edition guards on this machine.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Plan {
    /// The number of the edition.
    pub edition: i32,
    pub zones: Vec<Zone>,
    pub reaches: BTreeMap<String, Reach>,
}

/// An interface that is closed but for what is said here.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Zone {
    pub name: String,
    pub interface: String,
    /// Where packets of the zone come from; others go nowhere.
    pub networks: Vec<IpNet>,
    /// Reaches that are open to every machine.
    pub before: Vec<String>,
    /// Ports of plain HTTP that lead an unknown machine to `redirect`.
    pub led: Vec<u16>,
    /// The port on this machine that answers what is led there.
    pub redirect: Option<u16>,
    /// Ports on this machine that every machine reaches: sign-in, gate, status.
    pub portal: Vec<u16>,
    /// Where an unknown machine's questions about names go, whomever it asks.
    pub resolver: Vec<IpAddr>,
}

/// Where to, as networks; names come as addresses later.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Reach {
    pub to: Vec<IpNet>,
    /// Whether it has names, whose addresses are told apart.
    pub named: bool,
    pub except: Vec<IpNet>,
    pub services: Vec<Service>,
}

impl Reach {
    /// Whether it leads to an address on a service, with the addresses that its names have.
    pub fn leads(&self, names: &BTreeSet<IpAddr>, to: IpAddr, service: Service) -> bool {
        let within = |all: &[IpNet]| all.iter().any(|n| n.contains(&to));
        !within(&self.except)
            && (within(&self.to) || (self.named && names.contains(&to)))
            && self.services.iter().any(|s| s.covers(service))
    }
}

impl Service {
    /// Whether every packet of another is one of this.
    fn covers(self, other: Service) -> bool {
        match (self, other) {
            (Service::All, _) | (Service::Icmp, Service::Icmp) => true,
            (Service::Tcp(a, b), Service::Tcp(c, d)) | (Service::Udp(a, b), Service::Udp(c, d)) => a <= c && d <= b,
            _ => false,
        }
    }
}

/// Protocol and ports.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Service {
    All,
    Icmp,
    Tcp(u16, u16),
    Udp(u16, u16),
}

/// What several admissions have in common: which reaches are open to them, and at which rate.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Class {
    pub reaches: BTreeSet<String>,
    /// Octets a second in each direction; none for no limit.
    pub rate: Option<u64>,
}

/// Whether a text may be part of a rule's name: lower-case letters, digits and hyphens, not too long.
pub fn is_name(text: &str) -> bool {
    let of = |b: u8| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-';
    (1..=64).contains(&text.len()) && text.bytes().all(of) && text.as_bytes()[0] != b'-'
}

/// Whether a text may name an interface (15 octets, IFNAMSIZ without its zero).
pub fn is_interface(text: &str) -> bool {
    let of = |b: u8| b.is_ascii_alphanumeric() || b"-_.".contains(&b);
    (1..=15).contains(&text.len()) && text.bytes().all(of) && text.as_bytes()[0].is_ascii_alphanumeric()
}

impl Plan {
    /// Whether every name is one, every part is there, and nothing is beyond what it may be.
    ///
    /// # Errors
    /// What is wrong.
    pub fn check(&self, interfaces: &[String]) -> Result<(), String> {
        if self.zones.len() > ZONES_MAX || self.reaches.len() > REACHES_MAX {
            return Err(format!("a plan has at most {ZONES_MAX} zones and {REACHES_MAX} reaches"));
        }
        let mut seen = BTreeSet::new();
        for zone in &self.zones {
            if !is_name(&zone.name) || !is_interface(&zone.interface) {
                return Err(format!(
                    "zone {:?} on {:?}: a name is of lower-case letters, digits and hyphens",
                    zone.name, zone.interface
                ));
            }
            if !interfaces.contains(&zone.interface) {
                return Err(format!(
                    "zone {}: interface {} is not given to the sluice; start it with --interface {}",
                    zone.name, zone.interface, zone.interface
                ));
            }
            if !seen.insert(&zone.interface) {
                return Err(format!("interface {} is in two zones", zone.interface));
            }
            if let Some(missing) = zone.before.iter().find(|r| !self.reaches.contains_key(*r)) {
                return Err(format!("zone {}: reach {missing:?} is not in the plan", zone.name));
            }
            if zone.networks.is_empty() || zone.networks.len() > NETWORKS_MAX || zone.portal.len() > 100 || zone.led.len() > 100 {
                return Err(format!("zone {} has no network, or too many of something", zone.name));
            }
            if zone.portal.contains(&0) || zone.led.contains(&0) || zone.redirect == Some(0) {
                return Err(format!("zone {}: 0 is no port", zone.name));
            }
        }
        for (name, reach) in &self.reaches {
            if !is_name(name) {
                return Err(format!("reach {name:?}: a name is of lower-case letters, digits and hyphens"));
            }
            if reach.to.len() + reach.except.len() > NETWORKS_MAX || reach.services.len() > 1_000 {
                return Err(format!("reach {name} has more than {NETWORKS_MAX} networks or 1000 services"));
            }
        }
        Ok(())
    }

    /// Whether an admission is one under this plan, whoever else is let through.
    ///
    /// # Errors
    /// What is wrong.
    pub fn admits(&self, admission: &Admission) -> Result<(), String> {
        if !(MARK_FIRST..MARK_END).contains(&admission.mark) {
            return Err(format!("mark {:#x} is not between {MARK_FIRST:#x} and {MARK_END:#x}", admission.mark));
        }
        if !self.zones.iter().any(|z| z.interface == admission.interface) {
            return Err(format!("interface {} is in no zone of edition {}", admission.interface, self.edition));
        }
        if !admission.class.reaches.iter().all(|r| self.reaches.contains_key(r)) {
            return Err(format!("edition {} has no such reach: {:?}", self.edition, admission.class.reaches));
        }
        if admission.lease_ms == 0 || admission.lease_ms > 86_400_000 {
            return Err("a lease lasts between a millisecond and a day".to_owned());
        }
        Ok(())
    }
}
