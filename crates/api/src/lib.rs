//! Requests and answers of the management API, shared by the service and its clients. No logic.
//!
//! Moments are RFC 3339 in UTC. Errors are problem documents (RFC 9457).

mod acts;
mod directories;
mod factors;
mod host;
mod kerberos;
mod people;
mod presences;
mod profiles;
mod providers;
mod reach;
mod rehearsal;
mod ring;
mod routes;
mod secrets;
mod site;
mod survey;
mod tokens;
mod trial;
mod words;

pub use acts::*;
pub use directories::*;
pub use factors::*;
pub use host::*;
pub use kerberos::*;
pub use people::*;
pub use presences::*;
pub use profiles::*;
pub use providers::*;
pub use reach::*;
pub use rehearsal::*;
pub use ring::{RetireKey, RingKey};
pub use routes::*;
pub use secrets::*;
pub use site::*;
pub use survey::*;
pub use tokens::*;
pub use trial::*;
pub use words::*;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A problem document (RFC 9457).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// A stable code, as a URN.
    #[serde(rename = "type")]
    pub kind: String,
    pub title: String,
    pub status: u16,
    /// What is wrong, where, and what to do next.
    pub detail: String,
    /// The crossing that tells the whole story, where there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub crossing: Option<String>,
    /// Mistakes of a site file.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub findings: Vec<Finding>,
    /// People who came in of late and no longer would.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub refuses: Vec<Affected>,
    /// Where the emergency account signs in, if it is offered to whoever asks.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub emergency: Option<String>,
    /// The word with which the same call goes through all the same.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub anyway: Option<String>,
}

/// Who is asking.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Me {
    pub name: String,
    pub role: Role,
    pub by: KnownBy,
    pub site: String,
    /// The live edition; 0 before the first.
    pub edition: i32,
    /// Until when the live edition must be confirmed; it goes back by itself then.
    pub confirm_by: Option<DateTime<Utc>>,
    /// What is wrong with the node that answers: an edition it cannot load.
    pub trouble: Option<String>,
    /// When the emergency account was last used, within seven days.
    pub emergency: Option<DateTime<Utc>>,
    pub version: String,
}

/// One gate with what it did of late.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Gate {
    pub name: String,
    pub title: String,
    pub kind: GateKind,
    pub address: String,
    /// Every address of the application, as this node sees it.
    pub upstreams: Vec<Upstream>,
    /// Names of the ways in that it takes, the usual one first.
    pub ways_in: Vec<String>,
    /// Directories, of which one is asked for a person.
    pub directories: Vec<String>,
    /// Zones that a gate of kind `network` guards.
    pub zones: Vec<GateZone>,
    /// Its machines without a person, each in one line.
    pub machines: Vec<String>,
    /// Each section of the gate in one sentence.
    pub sections: Vec<String>,
    /// Each rule in one sentence.
    pub rules: Vec<String>,
    /// Attributes that are made here, each with what from and by what.
    pub mappings: Vec<String>,
    /// Names of delivered headers, each with what feeds it.
    pub headers: Vec<String>,
    /// Crossings of the last 24 hours by outcome.
    pub last_day: Vec<OutcomeCount>,
    pub live_sessions: i64,
}

/// A zone of a network gate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct GateZone {
    pub name: String,
    /// What it is, in one line.
    pub words: String,
    /// Whether it is an entrance of tunnels whose VPN server is spoken with.
    pub entrance: bool,
}

/// One address of an application, as the answering node sees it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Upstream {
    pub address: String,
    /// Takes no new requests.
    pub draining: bool,
    /// Whether it answers: its health path, and the last request.
    pub well: bool,
    /// Whether anything was asked of it since this node uses it; until then `well` says nothing.
    pub tried: bool,
    pub requests: u64,
    pub failures: u64,
    /// Why it last failed; kept when it is well again.
    pub last_failure: Option<String>,
    /// What an engineer should know of it, with the remedy.
    pub finding: Option<String>,
}

/// The node that answers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Node {
    pub name: String,
    pub version: String,
    pub edition: i32,
    /// Counters since the node started: connections accepted and turned away.
    pub counters: Vec<Counter>,
}

/// One counter.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Counter {
    pub name: String,
    pub count: u64,
}

/// How often an outcome came about.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OutcomeCount {
    pub outcome: Outcome,
    pub words: String,
    pub count: i64,
}

/// A line of the list of crossings.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CrossingLine {
    pub id: String,
    pub at: DateTime<Utc>,
    pub gate: String,
    pub outcome: Outcome,
    /// The outcome in words.
    pub outcome_words: String,
    /// The person's name; none where nobody was known.
    pub person: Option<String>,
    pub provider: Option<String>,
    pub subject: Option<String>,
    pub address: String,
    pub method: String,
    pub target: String,
    /// Why, in one sentence.
    pub why: String,
    /// The code of the step that decided.
    pub code: Option<String>,
    pub edition: i32,
    /// Further attempts like this one, counted and not recorded.
    pub repeats: i64,
    /// Requests and bytes let through on this decision.
    pub requests: i64,
    pub bytes_in: i64,
    pub bytes_out: i64,
}

/// A page of crossings, latest first.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CrossingList {
    pub crossings: Vec<CrossingLine>,
    /// Pass as `before` for the next page; none at the end.
    pub next: Option<String>,
    /// Anonymous attempts of the last 24 hours that were only counted.
    pub unrecorded: i64,
}

/// One step of a crossing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Step {
    /// From 1.
    pub number: usize,
    /// Milliseconds since the crossing began.
    pub at_ms: u32,
    pub stage: Stage,
    pub code: String,
    pub bearing: StepBearing,
    /// Whether this step decided.
    pub decided: bool,
    pub sentence: String,
    pub remedy: Option<String>,
    /// Its parameters by name.
    #[schema(value_type = Object)]
    pub params: serde_json::Value,
}

/// The whole story of a crossing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Crossing {
    #[serde(flatten)]
    pub line: CrossingLine,
    pub node: String,
    pub ended_at: DateTime<Utc>,
    pub session: Option<Uuid>,
    pub steps: Vec<Step>,
    /// What the decision was made on; no secret material.
    #[schema(value_type = Option<Object>)]
    pub evidence: Option<serde_json::Value>,
}

/// A live session.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Session {
    pub id: Uuid,
    pub name: String,
    pub provider: String,
    pub subject: String,
    pub began: DateTime<Utc>,
    pub last_seen: DateTime<Utc>,
    /// When it ends at the latest if it is not used again.
    pub good_until: DateTime<Utc>,
    pub address: String,
    pub agent: String,
}

/// Which sessions to end.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EndRequest {
    pub sessions: Vec<Uuid>,
}

/// Which sessions were ended just now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EndAnswer {
    pub ended: Vec<Uuid>,
    /// Nodes that live and have not said within two seconds that they know; each refuses at the latest when it does.
    pub behind: Vec<String>,
}

/// Rights of a session, read again.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReRead {
    pub session: Uuid,
    pub name: String,
    /// Whether the person is gone from a directory, so that the session was ended.
    pub ended: bool,
    pub directories: Vec<ReReadDirectory>,
}

/// What a directory said when it was asked again.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ReReadDirectory {
    pub directory: String,
    /// `dead` where it did not answer, so that what it said before still counts.
    pub state: LookUpState,
    pub gained: Vec<String>,
    pub lost: Vec<String>,
}

/// Whom to look up.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LookUpRequest {
    pub value: String,
}

/// What a directory knows of a person, looked up exactly as a gate does.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LookUpAnswer {
    pub directory: String,
    pub key: String,
    pub value: String,
    pub state: LookUpState,
    /// The state in words, with detail.
    pub words: String,
    pub cached: bool,
    pub millis: u32,
    pub dn: Option<String>,
    pub attributes: Vec<LookUpAttribute>,
    pub groups: Vec<LookUpGroup>,
}

/// One attribute of a look-up under its name in the site.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LookUpAttribute {
    pub name: String,
    /// The directory's own name of it.
    pub from: String,
    pub values: Vec<String>,
    /// Why there is none.
    pub absent: Option<String>,
}

/// One group of a look-up.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LookUpGroup {
    pub name: String,
    pub dn: String,
    pub via: Option<String>,
}

/// A handover sheet: everything that another team must enter on its side.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Handover {
    /// For whom.
    pub part: SheetFor,
    /// The provider's, directory's or gate's name.
    pub name: String,
    pub title: String,
    /// Which edition it is of, in words.
    pub state: String,
    pub edition: i32,
    /// Whether that part is in the edition already.
    pub connected: bool,
    pub tables: Vec<HandoverTable>,
    /// How to try it, in order.
    pub steps: Vec<String>,
    /// The whole sheet as Markdown.
    pub markdown: String,
}

/// One table of a handover sheet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HandoverTable {
    /// `enter`, `release`, `send-back`, `receive` or `allow`.
    pub code: String,
    pub heading: String,
    pub rows: Vec<HandoverValue>,
}

/// One line of a handover sheet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HandoverValue {
    pub label: String,
    /// Empty where the other team fills it in.
    pub value: String,
    pub why: String,
    /// The command that proves it; empty where there is none.
    #[serde(default)]
    pub check: String,
}

/// Values of a provider to try. Nothing is saved. With only `name`, the values of the live edition, or of the document that is named,
/// are tried.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct ProviderTrial {
    pub name: String,
    /// Where the values come from that are not given here.
    #[serde(flatten)]
    pub source: Source,
    /// Of a provider that is not in the live edition: `oidc` unless set.
    #[serde(default)]
    pub kind: Option<ProviderKind>,
    /// Where a SAML provider's metadata is.
    #[serde(default)]
    pub metadata: Option<String>,
    #[serde(default)]
    pub issuer: Option<String>,
    #[serde(default)]
    pub client_id: Option<String>,
    /// A secret not stored yet; without it the stored one is used.
    #[serde(default)]
    pub secret: Option<String>,
    /// The stored version to try, instead of the one in use.
    #[serde(default)]
    pub secret_version: Option<i32>,
    #[serde(default)]
    pub ca_file: Option<String>,
}

impl ProviderTrial {
    /// A trial of a provider of the live edition, as it is.
    pub fn named(name: &str) -> ProviderTrial {
        ProviderTrial { name: name.to_owned(), ..ProviderTrial::default() }
    }

    /// The live edition's values with a stored version of the secret.
    pub fn stored(name: &str, version: i32) -> ProviderTrial {
        let secret_version = Some(version);
        ProviderTrial { secret_version, ..ProviderTrial::named(name) }
    }
}

impl std::fmt::Debug for ProviderTrial {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let ProviderTrial { name, source: _, kind, metadata, issuer, client_id, secret: _, secret_version: _, ca_file } = self;
        write!(f, "ProviderTrial({name} {kind:?} {metadata:?} {issuer:?} {client_id:?} {ca_file:?})")
    }
}

/// Values of a directory to try. Nothing is saved. What is left out is taken from the directory `name` of the live edition, or of the
/// document that is named.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct DirectoryTrial {
    pub name: String,
    /// Where the values come from that are not given here.
    #[serde(flatten)]
    pub source: Source,
    #[serde(default)]
    pub url: Option<String>,
    #[serde(default)]
    pub start_tls: Option<bool>,
    #[serde(default)]
    pub account: Option<String>,
    #[serde(default)]
    pub password: Option<String>,
    /// The stored version of the password to try, instead of the one in use.
    #[serde(default)]
    pub secret_version: Option<i32>,
    #[serde(default)]
    pub base: Option<String>,
    #[serde(default)]
    pub key: Option<String>,
    #[serde(default)]
    pub group_base: Option<String>,
    /// The key's value of somebody who should be found.
    #[serde(default)]
    pub sample: Option<String>,
    #[serde(default)]
    pub ca_file: Option<String>,
}

impl DirectoryTrial {
    /// A trial of a directory as it is.
    pub fn named(name: &str) -> DirectoryTrial {
        DirectoryTrial { name: name.to_owned(), ..DirectoryTrial::default() }
    }

    /// The live edition's values with a stored version of the password.
    pub fn stored(name: &str, version: i32) -> DirectoryTrial {
        DirectoryTrial { name: name.to_owned(), secret_version: Some(version), ..DirectoryTrial::default() }
    }
}

impl std::fmt::Debug for DirectoryTrial {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let DirectoryTrial {
            name,
            source: _,
            url,
            start_tls: _,
            account,
            password: _,
            secret_version: _,
            base,
            key,
            group_base: _,
            sample,
            ca_file: _,
        } = self;
        write!(f, "DirectoryTrial({name} {url:?} {account:?} {base:?} {key:?} {sample:?})")
    }
}

/// What a trial found, check by check.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TrialAnswer {
    /// Whether every check passed.
    pub good: bool,
    pub checks: Vec<TrialCheck>,
}

/// One check of a trial.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TrialCheck {
    /// Which value was tried: `address`, `tls`, `issuer`, `clock`, `keys`, `client`, `redirect address`, `account`, `base`, …
    pub value: String,
    pub verdict: CheckVerdict,
    pub words: String,
    pub remedy: Option<String>,
}
