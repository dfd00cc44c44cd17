//! Secrets: told about, never told.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A secret's metadata; its value is never told.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Secret {
    pub name: String,
    /// The version in use; 0 when it is named by the site and not stored yet.
    pub version: i32,
    pub changed_at: Option<DateTime<Utc>>,
    pub changed_by: Option<String>,
    /// The version that stands beside it: used where the one in use is refused.
    pub next: Option<i32>,
    /// Every version that is kept, the highest first.
    pub versions: Vec<SecretVersion>,
    /// What needs it.
    pub needed_by: Vec<String>,
}

/// A kept version of a secret.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SecretVersion {
    pub version: i32,
    pub changed_at: DateTime<Utc>,
    pub changed_by: String,
    /// Whether it waits for a second engineer: until one puts it into use it serves nothing.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub waits: bool,
}

/// A version to put into use.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct UseSecret {
    pub version: i32,
    /// `untried` uses it although a trial with it failed.
    #[serde(default)]
    pub anyway: Vec<String>,
}

/// A secret to store.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SecretValue {
    pub value: String,
    /// Stands beside the one in use instead of taking its place.
    #[serde(default)]
    pub stand_by: bool,
}

impl std::fmt::Debug for SecretValue {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let SecretValue { value: _, stand_by: _ } = self;
        f.write_str("SecretValue(…)")
    }
}

/// A key pair to make and store.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct MakeKey {
    /// Stands beside the one in use instead of taking its place.
    #[serde(default)]
    pub stand_by: bool,
    /// For how many years its certificate is good: 1 to 10.
    pub years: u8,
    /// Whether it is an authority that certifies personal profiles and VPN servers, on P-256.
    #[serde(default)]
    pub authority: bool,
}

/// A key pair that was made: all of it that may be told.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MadeKey {
    pub secret: Secret,
    pub certificate: Certificate,
}

/// A certificate, to compare and to hand over.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Certificate {
    /// SHA-256 in pairs, to read aloud.
    pub fingerprint: String,
    pub not_after: Option<DateTime<Utc>>,
    /// In PEM.
    pub pem: String,
}
