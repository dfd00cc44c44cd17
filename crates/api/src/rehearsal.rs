//! Rehearsal: people and past crossings against an edition, with nothing changed.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{Effect, FareVerdict, Source, Step};

/// Which past crossings to rehearse, and on what.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RehearseRequest {
    /// The edition to try: a site file, the draft, or a number.
    pub source: Source,
    /// How many days back, 1 to 90.
    #[serde(default)]
    pub days: Option<u16>,
    /// Only this gate; `console` for the console.
    #[serde(default)]
    pub gate: Option<String>,
}

/// Somebody for whom something would become different.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Affected {
    pub gate: String,
    pub person: String,
    pub provider: String,
    pub subject: String,
    /// How many of the crossings.
    pub crossings: i64,
    pub last: DateTime<Utc>,
    /// The latest of them.
    pub crossing: String,
    /// What decides now, in one sentence.
    pub now: String,
    /// What would decide then.
    pub then: String,
    /// What would be delivered otherwise, or what cannot be known.
    pub what: Vec<String>,
}

/// What an edition would have done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Rehearsal {
    pub before: String,
    pub after: String,
    pub since: DateTime<Utc>,
    /// Crossings looked at, and how many of them were of a kind.
    pub crossings: i64,
    pub distinct: i64,
    pub millis: u64,
    /// Crossings for which nothing would change.
    pub same: i64,
    /// Crossings that would be refused, and whose.
    pub refused: i64,
    pub admitted: i64,
    pub differing: i64,
    pub not_known: i64,
    /// People by what would change for them; at most 500 of each kind, those with the most crossings first.
    pub refuses: Vec<Affected>,
    pub admits: Vec<Affected>,
    pub differs: Vec<Affected>,
    pub cannot_be_known: Vec<Affected>,
}

/// Somebody to rehearse: known from their crossings, or described by hand.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct PersonRequest {
    /// The edition to try beside the live one; none tries the live one alone.
    #[serde(default)]
    pub source: Source,
    /// The provider's name in the site.
    pub provider: String,
    /// The provider's identifier of somebody who came before.
    #[serde(default)]
    pub subject: Option<String>,
    /// Asks the directories anew instead of believing what they said then.
    #[serde(default)]
    pub fresh: bool,
    /// Described by hand: claims as the provider would release them.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub claims: Option<serde_json::Map<String, serde_json::Value>>,
    /// Described by hand: authentication methods.
    #[serde(default)]
    pub amr: Vec<String>,
    #[serde(default)]
    pub acr: Option<String>,
    /// Described by hand: groups, instead of asking a directory.
    #[serde(default)]
    pub groups: Option<Vec<String>>,
    /// Described by hand: attributes of the directory entry, under the directory's names.
    #[serde(default)]
    #[schema(value_type = Object)]
    pub attributes: std::collections::BTreeMap<String, Vec<String>>,
    /// Described by hand: checks of devices that theirs passes, and no other. Where it is left out, what was seen of somebody who came before counts,
    /// and somebody described by hand passes none.
    #[serde(default)]
    pub device: Option<Vec<String>>,
    /// Only this gate.
    #[serde(default)]
    pub gate: Option<String>,
    /// The request they would come with: from this address, at this moment, with this method, for this path. Otherwise from
    /// nowhere known, now, with GET, for the first page.
    #[serde(default)]
    pub address: Option<String>,
    #[serde(default)]
    pub at: Option<DateTime<Utc>>,
    #[serde(default)]
    pub method: Option<String>,
    #[serde(default)]
    pub path: Option<String>,
    /// The tunnel by which they would come; none for somebody who comes by none.
    #[serde(default)]
    pub tunnel: Option<TunnelAsked>,
}

/// A tunnel by which somebody would come.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TunnelAsked {
    /// The entrance.
    pub entrance: String,
    /// What the client would say of itself.
    #[serde(default)]
    pub platform: Option<String>,
    #[serde(default)]
    pub version: Option<String>,
    /// Whether it would bring the person's own certificate.
    #[serde(default)]
    pub profile: bool,
}

/// How somebody would fare at each gate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PersonRehearsal {
    pub before: String,
    pub after: String,
    pub gates: Vec<GateRehearsal>,
}

/// How somebody would fare at one gate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GateRehearsal {
    pub gate: String,
    pub effect: Effect,
    pub now: Fare,
    pub then: Fare,
    /// What would be delivered otherwise, or what cannot be known.
    pub what: Vec<String>,
}

/// How it goes under one edition.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Fare {
    pub verdict: FareVerdict,
    /// What decided, in one sentence.
    pub because: String,
    pub roles: Vec<String>,
    /// What else comes with entry.
    pub terms: Vec<String>,
    /// Delivered headers, `Name: value`.
    pub headers: Vec<String>,
    pub steps: Vec<Step>,
}
