//! One module an open standard: parse, build, validate. No sockets, clock or randomness: `now`, nonces and documents are
//! passed in, so every check can be tested with a table.

pub mod kerberos;
pub mod ndp;
pub mod netlink;
pub mod oidc;
pub mod openvpn;
pub mod pam;
pub mod radius;
pub mod saml;
pub mod ssh;

/// Where a line of a file stands.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    pub file: String,
    /// From 1.
    pub line: usize,
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:{}", self.file, self.line)
    }
}
