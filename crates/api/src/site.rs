//! The site file and its editions.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{ChangeBearing, Severity};

/// A mistake in a site file, or something worth a second look.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Finding {
    pub severity: Severity,
    /// From 1; 0 where no line can be named.
    pub line: usize,
    pub place: String,
    pub what: String,
    pub remedy: String,
}

/// A site file to check.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CheckRequest {
    pub document: String,
}

/// What a check found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CheckAnswer {
    /// Whether it could be published.
    pub sound: bool,
    pub findings: Vec<Finding>,
}

/// A document to look at: exactly one of a site file, the draft, or an edition by number; none means the live edition.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Source {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub document: Option<String>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub draft: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub edition: Option<i32>,
}

/// What to publish as the next edition: a site file, the draft, or an earlier edition, which is a roll-back.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct PublishRequest {
    #[serde(flatten)]
    pub source: Source,
    /// Why, for those who read the history.
    pub note: String,
    /// The edition the change was made on; publishing is refused when another is live. None does not check.
    #[serde(default)]
    pub based_on: Option<i32>,
    /// What is accepted by name: `locked-out`, `refuses-people`, `expectations`, `other-issuer`, `other-source`.
    #[serde(default)]
    pub anyway: Vec<String>,
    /// Providers whose issuer only changed its address: what people keep (factors, tokens) goes with them.
    #[serde(default)]
    pub move_issuers: Vec<String>,
    /// Goes back by itself unless somebody who signed in under the new edition confirms within so many minutes, 1 to 60.
    #[serde(default)]
    pub confirm_within: Option<u32>,
}

/// One edition in the history.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EditionLine {
    pub number: i32,
    pub note: String,
    pub author: String,
    pub published_at: DateTime<Utc>,
    /// Whether it is in use.
    pub live: bool,
    /// The earlier edition it is a copy of, where it is a roll-back.
    pub copy_of: Option<i32>,
    /// Until when it must be confirmed; it goes back by itself then.
    pub confirm_by: Option<DateTime<Utc>>,
    pub confirmed_by: Option<String>,
}

/// The next edition, while it is written.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Draft {
    pub document: String,
    /// The edition it was begun on.
    pub based_on: i32,
    pub author: String,
    pub changed_at: DateTime<Utc>,
    /// Its version; the answer's ETag, to be sent back in If-Match.
    pub version: i64,
    /// Whether a second engineer must agree, and who did; none while it holds mistakes.
    pub second: Option<Agreements>,
    /// Whether it could be published, and what to look at.
    pub sound: bool,
    pub findings: Vec<Finding>,
}

/// Whether a change of who may do what needs a second engineer, and who agreed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Agreements {
    /// Whether the live edition asks for it.
    pub wanted: bool,
    pub given: Vec<Agreement>,
}

/// One engineer's agreement to exactly this document.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Agreement {
    pub name: String,
    pub at: DateTime<Utc>,
}

/// A draft to keep.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DraftRequest {
    pub document: String,
    pub based_on: i32,
}

/// Two editions to compare.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct CompareRequest {
    /// None means the live edition.
    #[serde(default)]
    pub before: Source,
    pub after: Source,
}

/// What a change means.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Comparison {
    /// Such as `edition 3`.
    pub before: String,
    pub after: String,
    pub changes: Vec<Change>,
    /// The plain difference; empty when the documents are equal.
    pub difference: String,
}

/// One change between two editions.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Change {
    pub bearing: ChangeBearing,
    pub place: String,
    pub code: String,
    pub words: String,
}

/// A published edition.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Edition {
    pub number: i32,
    pub note: String,
    pub author: String,
    pub published_at: DateTime<Utc>,
    /// The site file.
    pub document: String,
    /// Warnings only.
    pub findings: Vec<Finding>,
    /// The earlier edition it is a copy of, where it is a roll-back.
    pub copy_of: Option<i32>,
    /// Until when it must be confirmed.
    pub confirm_by: Option<DateTime<Utc>>,
    pub confirmed_by: Option<String>,
    /// The secrets it uses, and the version each has now: a roll-back does not bring back an old secret.
    pub secrets: Vec<SecretUse>,
}

/// A secret as an edition uses it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SecretUse {
    pub name: String,
    /// The version in use; 0 when none is stored.
    pub version: i32,
    /// The version in use when the edition was published; none where that is not known.
    pub version_then: Option<i32>,
}
