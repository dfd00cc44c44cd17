//! Personal profiles of tunnels, and certificates of a gate's own authority.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::Certificate;

/// A personal profile: a client certificate that was made for one person's machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TunnelProfile {
    pub id: Uuid,
    pub gate: String,
    pub name: String,
    pub provider: String,
    pub subject: String,
    /// What the person calls the machine.
    pub device: String,
    pub created_at: DateTime<Utc>,
    pub expires_at: DateTime<Utc>,
    pub used_at: Option<DateTime<Utc>>,
    pub revoked_at: Option<DateTime<Utc>>,
    pub revoked_by: Option<String>,
}

/// A profile that an engineer makes for somebody's machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MakeProfile {
    pub gate: String,
    /// The entrance that the machine connects to.
    pub entrance: String,
    /// Whose it is: a name, subject or other value that one person alone has who was here before.
    pub person: String,
    /// What the machine is called.
    pub device: String,
    /// The machine's public key in PEM (SubjectPublicKeyInfo), on P-256.
    pub public_key: String,
}

/// A profile that was made for somebody's machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MadeProfile {
    pub profile: TunnelProfile,
    /// The configuration of its client, but for the key, which goes into it between `<key>` and `</key>`.
    pub configuration: String,
}

/// Profiles to revoke.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RevokeProfiles {
    pub profiles: Vec<Uuid>,
}

/// Profiles that were revoked; tunnels that came by them are ended.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RevokedProfiles {
    pub revoked: Vec<TunnelProfile>,
}

/// A key for which a VPN server wants a certificate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ServerKey {
    /// The host name by which clients reach the server.
    pub host: String,
    /// The public key in PEM (SubjectPublicKeyInfo), on P-256: `openssl pkey -in server.key -pubout`.
    pub public_key: String,
}

/// A VPN server's certificate, with the authority that issued it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ServerCertificate {
    pub certificate: Certificate,
    pub authority: Certificate,
}
