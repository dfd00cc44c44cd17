//! Keys of the ring, and what still needs each.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A key of the ring. What it is made of is never told.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RingKey {
    pub number: u16,
    /// Since when this database knows it.
    pub since: DateTime<Utc>,
    /// Whether the node that answers has it.
    pub here: bool,
    /// Whether that node seals with it.
    pub seals: bool,
    /// When it was retired; nothing needs it then.
    pub retired: Option<DateTime<Utc>>,
    pub secrets: i64,
    pub factors: i64,
    pub sessions: i64,
    pub recovery_codes: i64,
    pub acts: i64,
}

/// A key to retire.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RetireKey {
    /// `recovery-codes` takes those away that were made under the key: nobody can seal them anew.
    #[serde(default)]
    pub anyway: Vec<String>,
}
