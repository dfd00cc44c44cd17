//! Trials: sign-ins and entrances that an engineer tries out, and what came of them.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::{Crossing, FareVerdict, Outcome, Source, Step, SurveyFinding, TriedStage};

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

/// A trial of an entrance to begin: whoever it is about is decided on as always and told everything, and nothing is opened to them. At least
/// one of `from` and `person` is given, but at an entrance that opens nothing by itself.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EntranceTrialRequest {
    pub entrance: String,
    /// The address or network that the client connects from, as the VPN server sees it.
    pub from: Option<String>,
    /// Subject or name of the person who will sign in.
    pub person: Option<String>,
}

/// A trial of an entrance, with what came of it so far.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct EntranceTrial {
    pub id: Uuid,
    pub gate: String,
    pub entrance: String,
    pub from: Option<String>,
    pub person: Option<String>,
    pub begun_by: String,
    pub begun: DateTime<Utc>,
    /// Until when it goes on, unless it is ended before.
    pub until: DateTime<Utc>,
    /// When it was ended before that, and by whom.
    pub ended: Option<DateTime<Utc>>,
    pub ended_by: Option<String>,
    /// Whether it goes on.
    pub open: bool,
    /// How many crossings tell of it. In lists that is all that is said of what came.
    pub came: usize,
    /// Where clients connect: host, port and protocol.
    pub servers: Vec<String>,
    /// What is wrong with the entrance just now, as a survey would say it: this comes before any client does.
    pub findings: Vec<SurveyFinding>,
    /// Clients that wait for their person to sign in, the latest first.
    pub waiting: Vec<WaitingClient>,
    /// What came of it, the latest first.
    pub tried: Vec<EntranceTried>,
}

/// A client that waits for its person.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WaitingClient {
    /// The address that it connects from.
    pub outside: String,
    /// What it says of itself, which is a claim; empty where it says nothing.
    pub says: String,
    pub since: DateTime<Utc>,
    /// Whether its person answered: it is being decided on.
    pub answered: bool,
}

/// What came of one connection in a trial.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EntranceTried {
    pub stage: TriedStage,
    /// The same in words.
    pub stage_words: String,
    /// What the rules give, and would be open otherwise: reach, with the rule in parentheses.
    pub would_open: Vec<String>,
    /// What the client was told: routes, resolvers, options.
    pub lines: Vec<String>,
    /// Addresses that it was given.
    pub addresses: Vec<String>,
    #[serde(flatten)]
    pub crossing: Crossing,
}
