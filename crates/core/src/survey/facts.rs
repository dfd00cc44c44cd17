//! What was seen outside, as data.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use super::{KerberosFacts, Recent, SourceCount};
use crate::Moment;
use crate::before::Need;
use crate::expect::Broken;

/// Whether something was well, or what was wrong in words of whoever answered.
pub type Seen = Result<(), String>;

/// Everything that was asked.
#[derive(Clone, Debug, Default)]
pub struct Facts {
    pub now: Moment,
    pub providers: Vec<ProviderFacts>,
    pub directories: Vec<DirectoryFacts>,
    pub upstreams: Vec<UpstreamFacts>,
    pub kerberos: KerberosFacts,
    /// Certificates of our own TLS listener; none where there is no such listener.
    pub certificates: Option<Vec<CertificateFacts>>,
    /// Our own SAML key, where the site names one: its certificate's fingerprint and end, or why it cannot be used.
    pub own_saml: Option<Result<(String, Moment), String>>,
    pub secrets: Vec<SecretFacts>,
    pub tokens: Vec<TokenFacts>,
    /// Other nodes than the one that looks.
    pub nodes: Vec<NodeFacts>,
    /// Why the node that looks does not use the live edition, if it does not, and its name.
    pub trouble: Option<(String, String)>,
    pub database: DatabaseFacts,
    /// The first act at which the record does not hold.
    pub acts_break: Option<i64>,
    pub sources: Vec<SourceCount>,
    pub expectations: Vec<Broken>,
    pub has_emergency: bool,
    /// Requests through trusted proxies with the field that is believed, and with the other alone.
    pub proxied: (u64, u64),
    /// Nodes that guard zones, with how their packet filters are.
    pub guards: Vec<GuardFacts>,
    /// RADIUS clients, by what they asked and told.
    pub radius: Vec<RadiusFacts>,
    /// Personal profiles that were in use, and ran out of late or soon will, without a successor.
    pub profiles: Vec<ProfileFacts>,
    /// Addresses at which nobody says whether a device's certificate was revoked.
    pub device_authorities: Vec<SilentAuthority>,
    /// The node that looks, and servers for codes that did not answer it the last time, each with why.
    pub code_servers: (String, Vec<(String, String)>),
    /// What browsers must reach for the sign-in of providers that people in zones may use.
    pub before: Vec<Need>,
    /// Host names of reaches that do not resolve, each with why.
    pub dead_names: Vec<(String, String)>,
    /// Until when the live edition must be confirmed, where it waits for that.
    pub confirm_by: Option<Moment>,
}

/// An address of a device check at which nobody says whether a certificate was revoked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SilentAuthority {
    pub check: String,
    pub address: String,
    pub why: String,
}

/// A personal profile of a gate's tunnels.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ProfileFacts {
    pub gate: String,
    /// What its person calls the machine, and who that is.
    pub device: String,
    pub person: String,
    /// Until when it counts.
    pub until: Moment,
}

/// A node that guards zones, as it says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct GuardFacts {
    pub node: String,
    /// Names of the zones that its kernel holds as the live edition says.
    pub zones: Vec<String>,
    /// Why its kernel is not as it should be, where it is not.
    pub trouble: Option<String>,
    /// How often somebody else changed its table since its sluice began, and what was found the last time.
    pub restored: u64,
    pub found: Option<String>,
    /// Families (`IPv4`, `IPv6`) of its zones that its kernel does not forward.
    pub forwards_not: Vec<String>,
    /// Zones whose interface is not there.
    pub missing: Vec<String>,
    /// Zones with a network of which the node has no address there, as zone and network.
    pub without_address: Vec<(String, String)>,
    /// Resolvers of zones that are no address of the node, as zone and address.
    #[serde(default)]
    pub resolver_elsewhere: Vec<(String, String)>,
    /// Names below one that reaches lead to, and that no node learns of since another resolver answers there: zone, reach and name.
    #[serde(default)]
    pub names_unseen: Vec<(String, String, String)>,
    /// Zones in which people came on, and no machine's system asked how it stands: with how many.
    #[serde(default)]
    pub nobody_asked: Vec<(String, u64)>,
    /// Flow tables of others on guarded interfaces, which packets take past every rule.
    #[serde(default)]
    pub bypassed: Vec<String>,
    /// How many machines are let through, and how many can be.
    pub present: u64,
    pub most: u64,
    /// Entrances of tunnels whose VPN servers it is to speak with.
    #[serde(default)]
    pub entrances: Vec<EntranceFacts>,
}

/// An entrance of tunnels, as a node says of it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct EntranceFacts {
    pub name: String,
    /// Whether it speaks with the VPN server, which said who is connected; and why not.
    pub speaks: bool,
    pub trouble: Option<String>,
    /// How long the server was heard to let a client wait, in seconds.
    pub hand_window: Option<u32>,
    /// The folder of the management socket and its mode, where others than its owner may enter.
    pub open_to_others: Option<(String, String)>,
    /// How many addresses are given out of how many, where few are left.
    pub near_full: Option<(u64, u64)>,
}

/// A RADIUS client, by what it asked and told.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RadiusFacts {
    pub client: String,
    /// When it asked anything last that was proven; none where it never did since crossings are kept.
    pub asked: Option<Moment>,
    /// How many of its requests of the last day were not proven.
    pub unproven: i64,
    /// When somebody was let in there last, and when it told of any session last.
    pub let_in: Option<Moment>,
    pub heard: Option<Moment>,
    /// By how many seconds its clock is ahead, where it tells.
    pub ahead: Option<i64>,
    /// Sessions there for which nobody here let anybody in, and those that it did not end or change when it was ordered to.
    pub unknown: i64,
    pub disobeyed: i64,
    /// Those that are over here, and of which it cannot be told.
    pub untold: i64,
}

/// What was asked of a provider.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ProviderCheck {
    Reach,
    Issuer,
    Keys,
    Clock,
    Client,
    Redirect,
    Metadata,
}

/// A provider.
#[derive(Clone, Debug, Default)]
pub struct ProviderFacts {
    pub name: String,
    /// What was wrong.
    pub wrong: Vec<(ProviderCheck, String)>,
    /// The end of its certificate.
    pub certificate: Option<Moment>,
    /// Certificates it signs with by SAML: fingerprint and end.
    pub signing: Vec<(String, Moment)>,
    /// What is no longer as this node read it.
    pub changed: Option<String>,
    /// People sent there in the last day, and those who never came back.
    pub sent: i64,
    pub never_came_back: i64,
    /// What came of its answers in the last hour.
    pub recent: Recent,
}

/// A directory.
#[derive(Clone, Debug, Default)]
pub struct DirectoryFacts {
    pub name: String,
    pub servers: Vec<ServerFacts>,
    /// Binding the account; none where no server answers.
    pub account: Option<Seen>,
    /// Bases that are not as they should be.
    pub bases: Vec<String>,
    /// Somebody who signed in of late, and how the look-up of them ended.
    pub sample: Option<(String, Seen)>,
    /// Groups that rules name, by the name rules know them by, and that are not there.
    pub missing_groups: Vec<String>,
    /// Whether the first server that answers says that it matches in chains, where the site wants it.
    pub chain: Option<bool>,
}

/// One server of a directory.
#[derive(Clone, Debug)]
pub struct ServerFacts {
    pub address: String,
    pub answer: Seen,
    pub certificate: Option<Moment>,
}

/// One address of an application.
#[derive(Clone, Debug)]
pub struct UpstreamFacts {
    pub gate: String,
    pub address: String,
    pub answer: Result<(), UpstreamTrouble>,
    pub certificate: Option<Moment>,
}

/// Why an application was not reached.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UpstreamTrouble {
    /// Its certificate is not accepted.
    pub certificate: bool,
    pub words: String,
}

/// A certificate of our own.
#[derive(Clone, Debug)]
pub struct CertificateFacts {
    /// The file.
    pub of: String,
    /// DNS names, `*.example` among them.
    pub names: Vec<String>,
    pub until: Moment,
}

/// A stored secret.
#[derive(Clone, Debug)]
pub struct SecretFacts {
    pub name: String,
    /// When the version in use was stored.
    pub stored_at: Moment,
    /// The version that stands beside it, and since when.
    pub next: Option<(i32, Moment)>,
}

/// An API token that is good.
#[derive(Clone, Debug)]
pub struct TokenFacts {
    pub name: String,
    /// None for the first token, which belongs to nobody.
    pub until: Option<Moment>,
    pub has_owner: bool,
}

/// A node.
#[derive(Clone, Debug)]
pub struct NodeFacts {
    pub name: String,
    pub seen_at: Moment,
}

/// The database.
#[derive(Clone, Debug, Default)]
pub struct DatabaseFacts {
    /// How long a small question took.
    pub millis: u32,
    /// The last day for which crossings have a place.
    pub partitions_until: Option<NaiveDate>,
}
