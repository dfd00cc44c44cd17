//! Reach: what networks open to whom, and whether somebody may reach something.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{FareVerdict, PersonRequest, Source, Step};

/// A named destination of the live edition.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Reach {
    pub name: String,
    pub title: String,
    /// Where it leads, in one line.
    pub leads_to: String,
    /// What opens it, each in a few words: rules of gates, zones, machines without a person.
    pub opened_by: Vec<String>,
}

/// May somebody reach something?
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ReachRequest {
    /// Where to: `host:port`, `host:port/udp` or `host icmp`.
    pub to: String,
    /// By which edition or document; the live one unless said.
    #[serde(default)]
    pub source: Source,
    /// Who, and when; none for a machine on which nobody is signed in.
    #[serde(default)]
    pub person: Option<PersonRequest>,
    /// At this gate; every network gate unless said.
    #[serde(default)]
    pub gate: Option<String>,
}

/// The answer, at each gate of kind `network`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReachAnswer {
    /// By which edition or document.
    pub source: String,
    /// Where to, as it was understood.
    pub to: String,
    /// What the host's name resolves to on the answering node just now; empty where an address was given, or the name does not resolve.
    pub addresses: Vec<String>,
    pub gates: Vec<ReachAtGate>,
}

/// The answer at one gate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReachAtGate {
    pub gate: String,
    pub open: bool,
    /// The answer in one sentence: what opens it, or what comes nearest.
    pub sentence: String,
    /// What would have to be written for it to be open; none where it is.
    pub remedy: Option<String>,
    /// The reach that opens it, or that comes nearest.
    pub reach: Option<String>,
    /// How the person fares at the gate; none where nobody is signed in.
    pub verdict: Option<FareVerdict>,
    /// What decided that, in one sentence.
    pub because: Option<String>,
    /// Every step of the decision.
    pub steps: Vec<Step>,
}

/// What people in a zone must reach before they have signed in, and what would open it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ZoneProposal {
    pub zone: String,
    pub gate: String,
    pub needs: Vec<ZoneNeed>,
    /// Providers whose addresses could not be read, each with why: what they need is not known.
    pub unknown: Vec<String>,
    /// The parts of a site file that would open what is closed; none where nothing is.
    pub document: Option<String>,
}

/// One host that a browser must reach.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ZoneNeed {
    pub way: String,
    pub host: String,
    pub port: u16,
    /// What for: `sign-in`, `sign-out`, `crl` or `ocsp`.
    pub code: String,
    /// The same in words.
    pub why: String,
    /// What the host resolves to on the answering node.
    pub addresses: Vec<String>,
    pub open: bool,
    /// The reach that opens it to every machine; none where it is closed, or in the zone itself.
    pub reach: Option<String>,
    /// Where it is closed: reaches by which rules open it to those who are signed in already.
    pub given: Vec<String>,
}
