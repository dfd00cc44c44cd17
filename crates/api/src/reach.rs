//! Reach: what networks open to whom, and whether somebody may reach something.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

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
    /// Whoever is on with this machine, by its address or its hardware address; in the place of `person`.
    #[serde(default)]
    pub machine: Option<String>,
    /// At this moment, where a machine is asked for; now unless said. For a moment that is over, the edition that was live
    /// then is asked, as it is for a person who came before.
    #[serde(default)]
    pub at: Option<DateTime<Utc>>,
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
    /// The machine that was asked for, or those on which the person is on now, each with what the kernel of its node holds.
    pub machines: Vec<ReachMachine>,
}

/// A machine that is or was on, beside what the rules say.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReachMachine {
    pub presence: Uuid,
    pub gate: String,
    pub zone: String,
    /// The node that guards the zone.
    pub node: String,
    /// Who is signed in on it, or what it is called.
    pub name: String,
    pub provider: String,
    pub subject: String,
    /// Its hardware address, or its address where another router stands between.
    pub known_by: String,
    pub began: DateTime<Utc>,
    pub ended_at: Option<DateTime<Utc>>,
    /// Reaches that the last decision on it opened.
    pub opens: Vec<String>,
    /// Whether the kernel lets it go there now; none where another node guards the zone, or a moment that is over was asked for.
    pub kernel_open: Option<bool>,
    /// What the kernel holds, in one sentence; or why that is not said.
    pub kernel: String,
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
