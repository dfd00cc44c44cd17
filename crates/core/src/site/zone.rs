//! Zones: networks that a network gate guards, each behind one interface of the node that guards it. An entrance of tunnels is a zone too.

use chrono::Duration;
use ipnet::IpNet;

use super::tunnel::Tunnel;

/// A guarded network.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Zone {
    pub name: String,
    /// What people read.
    pub title: String,
    /// The interface on which its machines are.
    pub interface: String,
    /// The addresses of its machines, of both families.
    pub networks: Vec<IpNet>,
    /// What an admission is tied to.
    pub machines: Machines,
    /// Names of what is open to every machine, signed in or not.
    pub before: Vec<String>,
    /// TCP ports on which plain HTTP leads an unknown machine to the portal; everything else is refused at once.
    pub led: Vec<u16>,
    /// Where unknown machines' questions about names go; one address of a family at most.
    pub resolver: Vec<std::net::IpAddr>,
    /// Ways in that may be used here; empty where all of the gate's may.
    pub ways: Vec<String>,
    /// What a machine may reach for a short time once a day before anybody has signed in on it.
    pub first: Option<FirstReach>,
}

/// A short reach before sign-in, so that a mailed code can be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FirstReach {
    pub reach: String,
    pub lasts: Duration,
}

/// How machines of a zone are told apart.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Machines {
    /// They are on the link: by hardware address, with all addresses of both families.
    OnLink,
    /// Another router is between: by single addresses.
    Routed,
    /// They are at the far ends of tunnels: each by the addresses that it was given.
    InTunnels(Box<Tunnel>),
}

impl Zone {
    /// What it has as an entrance of tunnels; none where it is none.
    pub fn tunnel(&self) -> Option<&Tunnel> {
        match &self.machines {
            Machines::InTunnels(tunnel) => Some(tunnel),
            Machines::OnLink | Machines::Routed => None,
        }
    }

    /// Whether an address is one of its machines'.
    pub fn holds(&self, address: std::net::IpAddr) -> bool {
        let address = address.to_canonical();
        self.networks.iter().any(|n| n.contains(&address))
    }
}
