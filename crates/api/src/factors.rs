//! What one person holds: second factors of our own, tokens for programs, and roles.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::FactorKind;

/// One factor.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Factor {
    pub id: Uuid,
    pub kind: FactorKind,
    /// The kind in words.
    pub words: String,
    /// What the person calls it.
    pub name: String,
    pub enrolled: DateTime<Utc>,
    pub used: Option<DateTime<Utc>>,
}

/// Factors of a person.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Factors {
    pub factors: Vec<Factor>,
    /// How many recovery codes are left.
    pub recovery_codes: i64,
}

/// What was taken away.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FactorsRemoved {
    /// Names of the factors.
    pub removed: Vec<String>,
}

/// A token that somebody made for programs of theirs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PersonalToken {
    pub id: Uuid,
    pub name: String,
    pub gates: Vec<String>,
    /// Paths at or below which it is good; none for all.
    pub paths: Option<Vec<String>>,
    pub made: DateTime<Utc>,
    pub until: DateTime<Utc>,
    pub used: Option<DateTime<Utc>>,
}

/// What was revoked.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TokensRevoked {
    /// Names of the tokens.
    pub revoked: Vec<String>,
    /// Sessions that they had opened, which are ended.
    pub ended: Vec<Uuid>,
}

/// Roles of a person at a gate, or in the console, as last decided.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RolesAt {
    /// The gate, or `console`.
    pub gate: String,
    pub roles: Vec<String>,
    /// From when they are so.
    pub since: DateTime<Utc>,
    /// The crossing in which they became so.
    pub crossing: String,
    /// When it was last decided.
    pub seen: DateTime<Utc>,
}

/// One change of roles.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RoleChange {
    pub gate: String,
    pub at: DateTime<Utc>,
    pub crossing: String,
    pub gained: Vec<String>,
    pub lost: Vec<String>,
    /// What the rules that give them saw of the person.
    pub why: Vec<String>,
}

/// Roles of a person, and how they changed while crossings are kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PersonRoles {
    pub roles: Vec<RolesAt>,
    /// The latest first.
    pub changes: Vec<RoleChange>,
}
