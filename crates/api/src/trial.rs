//! Trial sign-ins: what an engineer begins, and what came back.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{FareVerdict, Outcome, Source, Step};

/// A trial sign-in to begin: through this provider, of the live edition or of another document.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct TrialSignInRequest {
    pub provider: String,
    #[serde(flatten)]
    pub source: Source,
}

/// A trial sign-in, waiting or with what came back.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TrialSignIn {
    pub id: String,
    pub provider: String,
    /// What it is made with, such as `edition 3` or `the draft`.
    pub source: String,
    pub begun_by: String,
    pub begun: DateTime<Utc>,
    /// Until when it is open, and kept.
    pub until: DateTime<Utc>,
    /// Where the person to be signed in opens it, in any browser.
    pub address: String,
    /// The redirect address that the provider must know for this trial alone, where its name stands for another issuer in the live
    /// edition.
    pub register: Option<String>,
    /// What came back; none while it is waited for.
    pub brought: Option<TrialBrought>,
}

/// What came back from a trial sign-in.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TrialBrought {
    pub at: DateTime<Utc>,
    /// `tried` where it was believed; otherwise as crossings end.
    pub outcome: Outcome,
    pub outcome_words: String,
    /// The crossing that tells the same story.
    pub crossing: String,
    /// What decided, in one sentence.
    pub why: String,
    pub steps: Vec<Step>,
    /// As received and decoded; nothing in it can be used again.
    pub raw: Vec<TrialRaw>,
    /// The person's key with the provider; none where it was not believed.
    pub subject: Option<String>,
    /// How the person would fare at each gate if it were entered by this provider, and at the console.
    pub gates: Vec<TrialGate>,
}

/// One thing as received.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TrialRaw {
    /// `id_token`, `userinfo` or `SAMLResponse`.
    pub name: String,
    pub text: String,
}

/// How the person would fare at one gate.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TrialGate {
    pub gate: String,
    /// Whether the gate is entered by this provider as it stands.
    pub uses: bool,
    pub verdict: FareVerdict,
    pub because: String,
    /// Attributes and headers that are missing there, each with why.
    pub missing: Vec<String>,
    pub headers: Vec<String>,
    pub steps: Vec<Step>,
}
