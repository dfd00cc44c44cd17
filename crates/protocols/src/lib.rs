//! One module an open standard: parse, build, validate. No sockets, clock or randomness: `now`, nonces and documents are
//! passed in, so every check can be tested with a table.

pub mod kerberos;
pub mod oidc;
pub mod saml;
