//! Machines that network gates let through: who is on, who was, who had an address, and who accepted terms.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A machine that is, or was, let through.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Presence {
    pub id: Uuid,
    pub gate: String,
    pub zone: String,
    pub node: String,
    pub interface: String,
    /// Who signed in on it; a machine without a person has the provider `machine`.
    pub name: String,
    pub provider: String,
    pub subject: String,
    /// None for a machine without a person.
    pub session: Option<Uuid>,
    /// The hardware address on the link; none where another router stands between.
    pub hardware: Option<String>,
    /// What it calls itself to the lease daemon, or to its VPN server: which proves nothing.
    pub calls_itself: Option<String>,
    /// Where its tunnel comes from; none for a machine that came by none.
    pub outside: Option<String>,
    /// The address it came from, and all that it has or had.
    pub address: String,
    pub addresses: Vec<String>,
    /// What is open to it, each as the reach and the rule that gives it.
    pub opens: Vec<Opens>,
    /// An engineer tries its entrance out with it: nothing is opened.
    pub tried: bool,
    /// Groups that the decision saw the person in, as the site names them.
    pub groups: Vec<String>,
    /// The crossing that tells of it; none for a machine without a person.
    pub crossing: Option<String>,
    pub began: DateTime<Utc>,
    /// When it ends at the latest.
    pub until: Option<DateTime<Utc>>,
    /// How many octets may pass in 24 hours, over all machines of the person.
    pub quota: Option<i64>,
    /// Bits a second, each way.
    pub rate: Option<i64>,
    /// Octets from the machine, and to it, as they were counted last.
    pub up: i64,
    pub down: i64,
    pub counted_at: DateTime<Utc>,
    pub ended_at: Option<DateTime<Utc>>,
    /// Why it ended, in words.
    pub ended_by: Option<String>,
    /// How it is at a gateway that asks by RADIUS; none for a machine in a network or tunnel of ours.
    pub gateway: Option<AtGateway>,
    /// Whether the kernel of the node that answers lets it through now; none where another node guards it, or it is over.
    pub in_kernel: Option<bool>,
}

/// A machine at a gateway that asks by RADIUS, as the gateway tells of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AtGateway {
    /// What the gateway calls itself, and the number that it gives the session (Acct-Session-Id).
    pub nas: String,
    pub number: Option<String>,
    /// When it told anything last, by our clock; none where it told nothing.
    pub heard_at: Option<DateTime<Utc>>,
    /// When the session began there, by the gateway's clock.
    pub began_there: Option<DateTime<Utc>>,
    /// By how many seconds the gateway's clock is ahead of ours, where it tells.
    pub ahead: Option<i64>,
    /// The last order about it, in words with what came of it; and when.
    pub order: Option<String>,
    pub ordered_at: Option<DateTime<Utc>>,
    /// Whether that order was not carried out: the machine may be on there still.
    pub disobeyed: bool,
}

/// What is open, and by which rule.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Opens {
    pub reach: String,
    pub rule: String,
}

/// Machines, the latest first.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Presences {
    pub presences: Vec<Presence>,
    /// Pass as `before` for the next page; none at the end.
    pub before: Option<DateTime<Utc>>,
}

/// A quarter of an hour on networks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Quarter {
    pub at: DateTime<Utc>,
    /// Machines that were on in it, and people who were signed in on any of them.
    pub machines: i64,
    pub people: i64,
    /// Octets from the machines, and to them.
    pub up: i64,
    pub down: i64,
}

/// Which machines to end.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EndPresences {
    pub presences: Vec<Uuid>,
}

/// Who had an address, and when.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HadAddress {
    pub address: String,
    pub from: DateTime<Utc>,
    /// None where it has it still.
    pub until: Option<DateTime<Utc>>,
    pub name: String,
    pub provider: String,
    pub subject: String,
    pub hardware: Option<String>,
    pub gate: String,
    pub zone: String,
    pub crossing: Option<String>,
    pub presence: Uuid,
}

/// Terms of use that somebody accepted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Accepted {
    pub gate: String,
    pub version: String,
    pub name: String,
    pub provider: String,
    pub subject: String,
    pub address: String,
    pub at: DateTime<Utc>,
}
