//! Identity providers, and what we are to them.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{Certificate, ProviderKind, TrialCheck};

/// A provider and how the flows sent to it ended in the last 24 hours.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Provider {
    pub name: String,
    pub title: String,
    /// The protocol.
    pub kind: ProviderKind,
    pub issuer: String,
    /// How it knows us: the client id, or our entity id.
    pub known_as: String,
    /// Whether the secrets it takes are stored.
    pub secret_stored: bool,
    pub sent: i64,
    pub answered: i64,
    /// Sent longer ago than the time limit and never answered: a wrong redirect address shows only here.
    pub never_came_back: i64,
}

/// What a provider says of itself, to make its part of the site file from: one of `address` and `text`.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ReadProvider {
    /// Where its discovery document or SAML metadata is; of OpenID Connect the issuer will do.
    #[serde(default)]
    pub address: Option<String>,
    /// Its SAML metadata itself.
    #[serde(default)]
    pub text: Option<String>,
    /// The name it gets; made from its own unless given.
    #[serde(default)]
    pub name: Option<String>,
    /// PEM certificates to trust beside the system's: a file on the server.
    #[serde(default)]
    pub ca_file: Option<String>,
}

/// A provider as it was read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ProviderPart {
    pub name: String,
    pub kind: ProviderKind,
    pub issuer: String,
    /// Its part of the site file, in TOML.
    pub part: String,
    /// What was looked at on the way: address, clock, dates of certificates.
    pub checks: Vec<TrialCheck>,
}

/// What we are to SAML providers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SamlParty {
    pub entity_id: String,
    /// Certificates of our keys: the one in use first.
    pub certificates: Vec<Certificate>,
    /// Why the key that the site file names cannot be used.
    pub trouble: Option<String>,
    /// Where our metadata is.
    pub address: String,
    /// Our metadata, in XML.
    pub metadata: String,
}

/// What was fetched anew of a provider.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Refreshed {
    pub provider: String,
    /// Identifiers of its keys, or fingerprints of its certificates.
    pub keys: Vec<String>,
}
