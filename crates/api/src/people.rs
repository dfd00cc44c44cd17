//! People as a whole: what is taken away from them, and who is kept out.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// Whose sessions, tokens and command lines are taken away.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TakeAwayRequest {
    /// People, each as `provider/subject`; at most 100.
    pub people: Vec<String>,
    /// Their second factors and recovery codes as well.
    #[serde(default)]
    pub factors: bool,
    /// Keeps them out until it is lifted, whatever the rules say, for this reason.
    #[serde(default)]
    pub block: Option<String>,
}

/// What was taken away.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TakenAway {
    pub people: Vec<String>,
    pub sessions: Vec<Uuid>,
    /// Names of tokens that they made for programs, and of API tokens of theirs.
    pub personal_tokens: Vec<String>,
    pub api_tokens: Vec<String>,
    /// Names of factors.
    pub factors: Vec<String>,
    pub recovery_codes: u64,
    /// Command lines that waited to be let in.
    pub devices: u64,
    /// Sessions of those that kept a password of theirs for an application.
    pub kept: u64,
    /// Who is kept out from now on.
    pub blocked: Vec<String>,
    /// Nodes that live and have not said within two seconds that they know; each refuses at the latest when it does.
    pub behind: Vec<String>,
}

/// Who is let in again.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LiftRequest {
    /// People, each as `provider/subject`; at most 100.
    pub people: Vec<String>,
}

/// Who was kept out and is not any more.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Lifted {
    pub lifted: Vec<String>,
}

/// Somebody who is kept out.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Block {
    /// As `provider/subject`.
    pub person: String,
    pub name: String,
    pub at: DateTime<Utc>,
    pub by: String,
    pub why: String,
}
