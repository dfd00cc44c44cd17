//! Sign-in routes, and trying them.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{Source, Step};

/// One sign-in route.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Route {
    pub name: String,
    /// What it asks for and where it leads, in one sentence.
    pub sentence: String,
    /// Ways in, by name.
    pub ways: Vec<String>,
}

/// Somebody who would sign in. What is not said is not known.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TryRoutes {
    /// The edition, draft or site file whose routes are tried.
    #[serde(flatten)]
    pub source: Source,
    /// A gate, `console` or `quay`.
    pub gate: String,
    /// The IP address they come from.
    #[serde(default)]
    pub address: Option<String>,
    /// What their browser calls itself (`User-Agent`).
    #[serde(default)]
    pub agent: Option<String>,
    /// The name they type, where they are asked for one.
    #[serde(default)]
    pub name: Option<String>,
}

/// Which way in they take.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RouteTried {
    /// Whose routes.
    pub source: String,
    /// Whether they are asked for a name first; then `ways` are those that are open without one.
    pub name_wanted: bool,
    /// The route that decides; none where no route fits.
    pub route: Option<String>,
    /// Ways in that are open to them, the first taken unless they are asked.
    pub ways: Vec<String>,
    /// Whether they are asked which of them they take.
    pub asked: bool,
    pub steps: Vec<Step>,
}
