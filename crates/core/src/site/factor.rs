//! Second factors of our own, for people whose provider has none.

use ipnet::IpNet;

/// Which factors of our own there are, and where they may be enrolled.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OwnFactors {
    /// Codes of an authenticator (RFC 6238).
    pub totp: bool,
    /// Passkeys (Web Authentication).
    pub passkeys: bool,
    /// Networks from which one may be enrolled; none means from anywhere.
    pub enrol_from: Vec<IpNet>,
}

impl OwnFactors {
    /// Whether one of ours proves one of these methods.
    pub fn prove(&self, wanted: &[String]) -> bool {
        (self.totp && wanted.iter().any(|w| TOTP_PROVES.contains(&w.as_str())))
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
/// The same of a passkey, which verifies its holder.
pub const PASSKEY_PROVES: [&str; 4] = ["hwk", "user", "pop", "mfa"];
/// The same of a recovery code, which stands for a factor that was lost.
pub const RECOVERY_PROVES: [&str; 3] = ["kba", "otp", "mfa"];
