//! Directories with their servers.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A directory of the live edition.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Directory {
    pub name: String,
    /// Where people are.
    pub base: String,
    /// Whose values it is asked for; empty means everybody's.
    pub suffixes: Vec<String>,
    /// In the order in which they are asked, as the answering node sees them.
    pub servers: Vec<DirectoryServer>,
    /// Gates that may ask it, `console` among them.
    pub gates: Vec<String>,
    pub secret_stored: bool,
}

/// One server of a directory, as the answering node sees it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DirectoryServer {
    pub address: String,
    /// Whether its last answer was one; true before it was asked.
    pub well: bool,
    pub answers: u64,
    pub failures: u64,
    pub last_answer: Option<DateTime<Utc>>,
    /// Why it last failed, and when; kept when it is well again.
    pub last_failure: Option<String>,
    pub last_failure_at: Option<DateTime<Utc>>,
    /// Until when it is asked after the others.
    pub rests_until: Option<DateTime<Utc>>,
}
