//! Kerberos as it is seen from a node, and files of it as they are read.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{AccountState, KerberosFileKind, NoteKind, RealmAnswer, ServiceFound, SurveyFinding};

/// Kerberos as far as the live edition uses it, asked now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KerberosSeen {
    /// The node that looked.
    pub node: String,
    pub edition: i32,
    pub at: DateTime<Utc>,
    pub millis: u32,
    pub keytabs: Vec<KerberosKeytab>,
    pub realms: Vec<KerberosRealm>,
    pub services: Vec<KerberosService>,
    pub accounts: Vec<KerberosAccount>,
    /// What is wrong, the worst first; the survey finds the same.
    pub findings: Vec<SurveyFinding>,
}

/// A stored keytab, in one version of its secret.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KerberosKeytab {
    pub secret: String,
    pub version: i32,
    pub needed_by: Vec<String>,
    pub keys: Vec<KerberosKey>,
    /// Why it cannot be used.
    pub trouble: Option<String>,
}

/// One key, without the key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KerberosKey {
    pub principal: String,
    pub kvno: u32,
    /// The registered name of its encryption type.
    pub enctype: String,
    /// Whether that is deprecated (RFC 6649, RFC 8429).
    pub weak: bool,
    pub written: Option<DateTime<Utc>>,
}

/// A realm, as its KDC answers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KerberosRealm {
    pub realm: String,
    pub answer: RealmAnswer,
    pub words: String,
    /// Seconds that its clock is ahead of ours, where it is known.
    pub ahead: Option<i64>,
}

/// A service, as the KDC gives tickets for it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KerberosService {
    pub service: String,
    /// What needs it, such as `way in ticket`.
    pub of: String,
    pub found: ServiceFound,
    pub words: String,
    pub kvno: Option<u32>,
    pub enctype: Option<String>,
}

/// An account that acts for people.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KerberosAccount {
    pub gate: String,
    pub account: String,
    pub service: String,
    pub state: AccountState,
    pub words: String,
}

/// A file that Kerberos reads or writes, read by itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KerberosFile {
    pub path: String,
    pub kind: KerberosFileKind,
    pub keys: Vec<KerberosKey>,
    /// Whose tickets they are.
    pub owner: Option<String>,
    pub tickets: Vec<KerberosTicket>,
    pub settings: Vec<KerberosSetting>,
    /// What is wrong with it.
    pub notes: Vec<KerberosNote>,
    /// What the KDC says of its services, where it was asked.
    pub services: Vec<KerberosService>,
    pub realms: Vec<KerberosRealm>,
}

/// One ticket of a cache, without the ticket.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KerberosTicket {
    pub service: String,
    pub proven: Option<DateTime<Utc>>,
    pub starts: Option<DateTime<Utc>>,
    pub ends: Option<DateTime<Utc>>,
    pub renewable_until: Option<DateTime<Utc>>,
    pub forwardable: bool,
    /// By which key of the service it is sealed.
    pub kvno: Option<u32>,
    pub enctype: Option<String>,
}

/// One setting of krb5.conf that counts.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KerberosSetting {
    pub path: String,
    pub value: String,
    /// File and line.
    pub at: String,
}

/// One thing that is not as it should be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KerberosNote {
    pub kind: NoteKind,
    /// File and line, a principal or a service.
    pub at: String,
    pub words: String,
}
