//! Second factors of our own, for people whose provider has none.

use std::net::SocketAddr;

use chrono::Duration;
use ipnet::IpNet;

use super::attribute_id::AttributeId;

/// Which factors of our own there are, and where they may be enrolled.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OwnFactors {
    /// Codes of an authenticator (RFC 6238).
    pub totp: bool,
    /// Passkeys (Web Authentication).
    pub passkeys: bool,
    /// Networks from which one may be enrolled; none means from anywhere.
    pub enrol_from: Vec<IpNet>,
    /// Codes that a server of others judges: nobody enrols one here.
    pub outside: Option<OutsideFactor>,
}

/// Codes that a RADIUS server of others judges (RFC 2865), such as those of key fobs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OutsideFactor {
    /// What people call it.
    pub title: String,
    /// The servers, in the order in which they are asked.
    pub servers: Vec<SocketAddr>,
    /// The secret that they share with us, by its name.
    pub secret: String,
    /// The attribute that is the person's name there.
    pub name: AttributeId,
    /// How long one server may take.
    pub within: Duration,
}

impl OwnFactors {
    /// Whether one of ours proves one of these methods.
    pub fn prove(&self, wanted: &[String]) -> bool {
        (self.totp && wanted.iter().any(|w| TOTP_PROVES.contains(&w.as_str())))
            || (self.outside.is_some() && wanted.iter().any(|w| OUTSIDE_PROVES.contains(&w.as_str())))
            || (self.passkeys && wanted.iter().any(|w| PASSKEY_PROVES.contains(&w.as_str())))
    }

    /// Whether somebody at an address may enrol one.
    pub fn enrols_from(&self, address: std::net::IpAddr) -> bool {
        let address = address.to_canonical();
        self.enrol_from.is_empty() || self.enrol_from.iter().any(|n| n.contains(&address))
    }
}

/// Methods (RFC 8176) that each factor proves, beside the sign-in that came before it.
pub const TOTP_PROVES: [&str; 2] = ["otp", "mfa"];
/// The same of a code that a server of others judges.
pub const OUTSIDE_PROVES: [&str; 2] = ["otp", "mfa"];
/// The same of a passkey, which verifies its holder.
pub const PASSKEY_PROVES: [&str; 4] = ["hwk", "user", "pop", "mfa"];
/// The same of a recovery code, which stands for a factor that was lost.
pub const RECOVERY_PROVES: [&str; 3] = ["kba", "otp", "mfa"];
