//! SAML 2.0, the part of a service provider (saml-core-2.0-os, saml-profiles-2.0-os 4.1, 4.4): asking an identity provider,
//! reading what it sends, and believing only what is signed.
//!
//! [`scan`] counts what a document would cost before [`xml`] reads it within bounds, and refuses every construct that two readers could see differently. [`signature`]
//! says which elements a trusted key has signed; nothing is read from any other. [`encryption`] opens what was encrypted for us.
//! [`response`] checks a Response and hands out the one Assertion that counts; [`sign_out`] does so for messages to sign out.
//! [`metadata`] reads what a provider says of itself, [`own`] writes what we say of ourselves. [`request`] asks, [`binding`]
//! carries messages through the browser, [`write`] writes and signs XML; [`told`] is for telling what came.

pub mod binding;
pub mod encryption;
pub mod metadata;
pub mod own;
pub mod request;
pub mod response;
mod scan;
pub mod sign_out;
pub mod signature;
pub mod told;
pub mod write;
pub mod xml;

/// Namespace of SAML assertions.
pub const ASSERTION: &str = "urn:oasis:names:tc:SAML:2.0:assertion";
/// Namespace of SAML protocol messages.
pub const PROTOCOL: &str = "urn:oasis:names:tc:SAML:2.0:protocol";
/// Namespace of XML signatures (XML Signature 1.1).
pub const DSIG: &str = "http://www.w3.org/2000/09/xmldsig#";
/// The status of whatever went well (saml-core-2.0-os 3.2.2.2).
const SUCCESS: &str = "urn:oasis:names:tc:SAML:2.0:status:Success";
