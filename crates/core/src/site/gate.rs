//! Gates, and what every named part of a site shares.

use super::access::Access;
use super::network::Limits;
use super::open_network::OpenNetwork;
use super::place::Place;
use super::response::ResponseEdits;
use super::section::Section;
use super::upstream::Upstreams;
use super::upstream_ticket::UpstreamTicket;
use crate::address::PublicAddress;

/// How a password is handed to an application.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HandOver {
    /// As HTTP Basic authentication (RFC 7617).
    Basic,
}

/// One thing put behind sign-in.
#[derive(Clone, Debug)]
pub struct Gate {
    pub name: String,
    pub title: String,
    pub address: PublicAddress,
    pub access: Access,
    /// How long sessions last here, where that is shorter.
    pub session: Limits,
    /// The values that are handed over.
    pub delivery: Option<String>,
    pub kind: GateKind,
}

/// What stands behind a gate, with what only that kind has. Another kind is another variant, which does not compile until everything that
/// asks for one of them says what it means there.
#[derive(Clone, Debug)]
pub enum GateKind {
    /// A web application, behind the data path.
    Web(Box<Web>),
    /// Networks that open after sign-in.
    Network(Box<OpenNetwork>),
    /// Tunnels that open after sign-in: their entrances are the zones that it guards.
    Vpn(Box<OpenNetwork>),
}

/// A web application.
#[derive(Clone, Debug)]
pub struct Web {
    pub upstreams: Upstreams,
    /// Whether the password that somebody typed at a form of ours is handed to the application, and how.
    pub hand_over: Option<HandOver>,
    /// The ticket that the application is shown.
    pub ticket: Option<UpstreamTicket>,
    /// Parts of the gate that are open or ask for more.
    pub sections: Vec<Section>,
    /// Edits on what the application answers.
    pub response: ResponseEdits,
}

impl Gate {
    /// The web application behind it; none behind a gate of another kind.
    pub fn web(&self) -> Option<&Web> {
        match &self.kind {
            GateKind::Web(web) => Some(web),
            GateKind::Network(_) | GateKind::Vpn(_) => None,
        }
    }

    /// The network behind it, which tunnels may lead to; none behind a gate of another kind.
    pub fn network(&self) -> Option<&OpenNetwork> {
        match &self.kind {
            GateKind::Network(network) | GateKind::Vpn(network) => Some(network),
            GateKind::Web(_) => None,
        }
    }

    /// Whether people come to it by tunnels.
    pub fn is_vpn(&self) -> bool {
        matches!(self.kind, GateKind::Vpn(_))
    }

    /// Parts of a web application that are open or ask for more.
    pub fn sections(&self) -> &[Section] {
        self.web().map_or(&[], |w| &w.sections)
    }

    /// The ticket that a web application is shown.
    pub fn ticket(&self) -> Option<&UpstreamTicket> {
        self.web()?.ticket.as_ref()
    }

    /// How a web application is given the password that somebody typed.
    pub fn hand_over(&self) -> Option<HandOver> {
        self.web()?.hand_over
    }

    /// The gate as a place.
    pub fn place(&self) -> Place {
        Place::gate(&self.name)
    }
}
