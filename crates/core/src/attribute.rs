//! One attribute of a person: never a bare string, always with where it came from or why it is not there.
//!
//! Rules and delivery look at the same [`Attribute`], so a crossing can always tell why a header was empty.

use serde::{Deserialize, Serialize};

use crate::step::Param;

/// Where a value was, or would have been, read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "from", rename_all = "kebab-case")]
pub enum Origin {
    /// A claim of the validated id_token (OpenID Connect Core 2).
    IdToken { claim: String },
    /// What was proven to us: a password, a code, a certificate, a ticket.
    Proof { claim: String },
    /// A claim of the userinfo answer (OpenID Connect Core 5.3).
    UserInfo { claim: String },
    /// A claim that the provider said where to have (OpenID Connect Core 5.6.2).
    Referred { claim: String, at: String },
    /// A claim looked for in both, found in neither.
    Claims { claim: String },
    /// An attribute of the SAML assertion (saml-core-2.0-os 2.7.3.1).
    Assertion { attribute: String },
    /// An attribute of the person's directory entry.
    Directory { directory: String, attribute: String },
    /// What the sign-in itself says (provider name, subject).
    SignIn,
    /// Made by a mapping, from these and by these transforms, as the site file writes them.
    Made { of: Vec<Origin>, by: Vec<String> },
    /// What the rules give.
    Rules,
    /// What the site file says.
    SiteFile,
}

impl Origin {
    /// The origin of what a mapping makes: that of its one source where nothing was done to it.
    pub fn made(mut of: Vec<Origin>, by: Vec<String>) -> Origin {
        match of.pop() {
            Some(only) if of.is_empty() && by.is_empty() => only,
            last => {
                of.extend(last);
                Origin::Made { of, by }
            }
        }
    }
}

/// Why an attribute has no value. Each has its own words in the story of a crossing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "reason", rename_all = "kebab-case")]
pub enum Absence {
    /// The provider did not release the claim.
    NotReleased,
    /// The directory entry does not hold the attribute.
    NotInEntry,
    /// The look-up that would have brought it failed.
    LookUpFailed { how: String },
    /// This edition maps nothing to the attribute for this gate.
    NotMapped,
    /// It was there and a step took it away.
    DroppedBy { step: String },
    /// It was there and may not be used.
    Unsafe { why: String },
    /// The evidence was recorded without it.
    NotRecorded,
    /// No rule that applies gives it.
    NotGiven,
}

impl Absence {
    /// A short code for filters and translation keys.
    pub fn code(&self) -> &'static str {
        match self {
            Absence::NotReleased => "not-released",
            Absence::NotInEntry => "not-in-entry",
            Absence::LookUpFailed { .. } => "look-up-failed",
            Absence::NotMapped => "not-mapped",
            Absence::DroppedBy { .. } => "dropped",
            Absence::Unsafe { .. } => "unsafe",
            Absence::NotRecorded => "not-recorded",
            Absence::NotGiven => "not-given",
        }
    }

    /// Whether nobody knows the value, or it may not be used: another source must not stand in for it, or somebody could be
    /// taken for another person.
    pub(crate) fn is_unknown(&self) -> bool {
        match self {
            Absence::LookUpFailed { .. } | Absence::NotRecorded | Absence::Unsafe { .. } => true,
            Absence::NotReleased | Absence::NotInEntry | Absence::NotMapped | Absence::DroppedBy { .. } | Absence::NotGiven => {
                false
            }
        }
    }

    /// The reason as a step parameter, translated when it is shown.
    pub fn param(&self) -> Param {
        let detail = match self {
            Absence::LookUpFailed { how } => how.clone(),
            Absence::DroppedBy { step } => step.clone(),
            Absence::Unsafe { why } => why.clone(),
            _ => String::new(),
        };
        Param::Reason { code: self.code().to_owned(), detail }
    }
}

/// An attribute of a person under one edition.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "state", rename_all = "kebab-case")]
pub enum Attribute {
    /// At least one value, in the order received.
    Present { values: Vec<String>, origin: Origin },
    /// No value, and why.
    Absent { absence: Absence, origin: Origin },
}

impl Attribute {
    /// All values, or the reason why there is none.
    pub fn values(&self) -> Result<&[String], &Absence> {
        match self {
            Attribute::Present { values, .. } => Ok(values),
            Attribute::Absent { absence, .. } => Err(absence),
        }
    }

    /// Where the value was, or would have been, read.
    pub fn origin(&self) -> &Origin {
        match self {
            Attribute::Present { origin, .. } | Attribute::Absent { origin, .. } => origin,
        }
    }

    /// From a list that may be empty: an attribute with no value is absent for `if_empty`.
    pub fn from_values(values: Vec<String>, origin: Origin, if_empty: Absence) -> Attribute {
        if values.is_empty() { Attribute::Absent { absence: if_empty, origin } } else { Attribute::Present { values, origin } }
    }
}
