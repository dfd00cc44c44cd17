//! People as a whole: what is taken away from them, and who is kept out.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::LookUpState;

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
    /// Personal profiles of tunnels, by the names of their machines.
    #[serde(default)]
    pub profiles: Vec<String>,
    /// Sessions of those that kept a password of theirs for an application.
    pub kept: u64,
    /// Who is kept out from now on.
    pub blocked: Vec<String>,
    /// Nodes that live and have not said within two seconds that they know; each refuses at the latest when it does.
    pub behind: Vec<String>,
    /// What may live on where nothing can be taken away from here.
    pub outside: Vec<Outside>,
    /// All of this in a text with a signature of the service, to be kept.
    pub summary: Option<Summary>,
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

/// Whom to look for.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FindRequest {
    /// A name, a mail address, or an identity as `provider/subject`.
    pub text: String,
}

/// Everybody whom a text may mean.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FoundPeople {
    pub people: Vec<FoundPerson>,
    /// Entries that directories have under that text.
    pub entries: Vec<FoundEntry>,
    /// More were found than are shown: look for something that fewer have.
    pub more: bool,
}

/// An identity, with what stands on it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FoundPerson {
    /// As `provider/subject`.
    pub person: String,
    pub name: String,
    /// When they were last told of.
    pub seen: Option<DateTime<Utc>>,
    /// What they share with whoever was found by the text itself; none for those.
    pub shares: Option<String>,
    pub sessions: u64,
    /// Of those, sessions that keep a password of theirs.
    pub kept: u64,
    pub personal_tokens: u64,
    pub api_tokens: u64,
    pub factors: u64,
    pub recovery_codes: u64,
    pub devices: u64,
    /// Entries in directories, each as `directory: name of the entry`.
    pub entries: Vec<String>,
    /// Why they are kept out, where they are.
    pub blocked: Option<String>,
}

/// An entry of a directory.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FoundEntry {
    pub directory: String,
    /// Its name there; none where it does not answer.
    pub entry: Option<String>,
    /// What the directory says of it.
    pub state: LookUpState,
}

/// What may live on outside of Passeur.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Outside {
    /// Where, and what.
    pub what: String,
    /// Until when at the latest; none where that is not known here.
    pub until: Option<DateTime<Utc>>,
}

/// A summary as it was given out, to be looked at again.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Summary {
    /// The text that was signed.
    pub text: String,
    /// In hexadecimal.
    pub signature: String,
}

/// Whether a summary is one of this service, unaltered.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SummaryAnswer {
    pub genuine: bool,
}
