//! The chained record of what engineers do.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One act.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Act {
    /// From 1, without a gap.
    pub number: i64,
    pub at: DateTime<Utc>,
    /// Who did it; none once erased.
    pub who: Option<String>,
    /// `session`, `token`, `emergency` or `service`.
    pub by: Option<String>,
    pub what: String,
    /// What it was done to, by name.
    #[schema(value_type = Object)]
    pub about: serde_json::Value,
    /// People it concerned.
    pub people: Vec<String>,
}

/// A page of acts, latest first.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ActList {
    pub acts: Vec<Act>,
    /// Pass as `before` for the next page; none at the end.
    pub next: Option<i64>,
}

/// Whether the chain holds.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ActsCheck {
    pub holds: bool,
    /// How many acts were walked.
    pub acts: i64,
    /// In how many of them names were erased.
    pub erased: i64,
    /// The head of the chain in hexadecimal, to note elsewhere; empty when it does not hold.
    pub head: String,
    /// The first act that does not hold.
    pub broken_at: Option<i64>,
    /// Why, with what to do.
    pub why: Option<String>,
}

/// Somebody whose name is to be erased from acts.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EraseRequest {
    /// The name as acts show it, to the letter.
    pub person: String,
}

/// In how many acts names were erased.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EraseAnswer {
    pub acts: usize,
}
