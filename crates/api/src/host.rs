//! What stands in the way at a host that people reach by SSH with a ticket.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::Harm;

/// A look at a host.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HostReport {
    pub person: String,
    /// The account that is asked for.
    pub user: String,
    pub comes_in: bool,
    /// Whether they can go on from here to another host of the realm.
    pub goes_on: bool,
    /// In the order in which the person meets them. See docs/hosts.md for every code.
    pub findings: Vec<HostFinding>,
}

/// One finding.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HostFinding {
    pub code: String,
    pub harm: Harm,
    pub what: String,
    pub seen: String,
    pub remedy: String,
    /// File and line.
    pub at: Option<String>,
    /// The line as it is.
    pub line: Option<String>,
    /// The line as it should be, and the file it belongs into.
    pub change: Option<HostChange>,
}

/// What to write.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HostChange {
    pub file: String,
    /// Empty where the line goes.
    pub written: String,
}
