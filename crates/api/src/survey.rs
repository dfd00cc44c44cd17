//! What a survey found.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::Harm;

/// One survey of everything the site depends on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Survey {
    /// The node that looked.
    pub node: String,
    pub edition: i32,
    pub at: DateTime<Utc>,
    pub millis: u32,
    /// How many things were looked at.
    pub looked_at: usize,
    /// What could not be looked at, and why.
    pub not_seen: Vec<String>,
    /// The worst first.
    pub findings: Vec<SurveyFinding>,
}

/// One finding. See docs/survey.md for every code.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SurveyFinding {
    pub code: String,
    pub harm: Harm,
    pub place: String,
    /// What is wrong.
    pub what: String,
    /// How it was seen.
    pub seen: String,
    /// What to do.
    pub remedy: String,
}
