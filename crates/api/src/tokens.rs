//! API tokens: scoped, with an end, never wider than their owner.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::Role;

/// An API token; its value is told once, when it is made.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ApiToken {
    pub name: String,
    /// How far it may go; never farther than its owner at the time of use.
    pub role: Role,
    /// Parts of the API it is good for, such as `crossings`; none means all.
    pub areas: Option<Vec<String>>,
    pub owner: Option<String>,
    pub created_at: DateTime<Utc>,
    /// None for the first token, which a file gives.
    pub expires_at: Option<DateTime<Utc>>,
    /// To the minute.
    pub used_at: Option<DateTime<Utc>>,
}

/// A token to make.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TokenRequest {
    pub name: String,
    pub role: Role,
    #[serde(default)]
    pub areas: Option<Vec<String>>,
    /// For how many days it is good, 1 to 365.
    pub days: u16,
}

/// A token that was made.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct MadeToken {
    /// Shown once.
    pub value: String,
    pub token: ApiToken,
}

impl std::fmt::Debug for MadeToken {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let MadeToken { value: _, token } = self;
        write!(f, "MadeToken({token:?})")
    }
}
