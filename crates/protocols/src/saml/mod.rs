//! SAML 2.0, the part of a service provider (saml-core-2.0-os, saml-profiles-2.0-os 4.1): reading what an identity provider
//! sends, and believing only what is signed.
//!
//! [`xml`] reads a document within bounds and refuses every construct that two readers could see differently. [`signature`]
//! says which elements a trusted key has signed; nothing is read from any other. [`response`] checks a Response and hands out
//! the one Assertion that counts. [`metadata`] reads what a provider says
//! of itself, [`request`] asks it.

pub mod metadata;
pub mod request;
pub mod response;
pub mod signature;
pub mod xml;

/// Namespace of SAML assertions.
pub const ASSERTION: &str = "urn:oasis:names:tc:SAML:2.0:assertion";
/// Namespace of SAML protocol messages.
pub const PROTOCOL: &str = "urn:oasis:names:tc:SAML:2.0:protocol";
/// Namespace of XML signatures (XML Signature 1.1).
pub const DSIG: &str = "http://www.w3.org/2000/09/xmldsig#";
