//! OpenID Connect, relying party side (OpenID Connect Core 1.0, Discovery 1.0, RP-Initiated Logout 1.0, RFC 6749, 7636,
//! 9207), hardened as RFC 9700 asks. `docs/oidc.md` lists each requirement with the place that meets it.
//!
//! The flow, each type made only from the one before:
//!
//! ```text
//! Metadata ─ authorization_url ─▶ browser ─▶ Answer ─ token request ─▶ Tokens ─ validate ─▶ ValidIdToken ─▶ userinfo
//! ```

mod access_token;
mod answer;
mod client_key;
mod id_token;
mod jwks;
mod logout;
mod metadata;
mod referred;
mod request;
mod tokens;
mod userinfo;

pub use access_token::{ExpectedAccess, ValidAccessToken, issuer_of, validate_access_token, validate_introspection};
pub use answer::{Answer, BadAnswer, parse_answer};
pub use client_key::{Assertion, ClientKey};
pub use id_token::{Expected, IdTokenError, ValidIdToken, key_id, validate};
pub use jwks::{BadKeys, KeySet};
pub use logout::{ExpectedLogout, LogoutToken, validate_logout};
pub use metadata::{BadMetadata, Metadata, discovery_url};
pub use referred::{ClaimSource, ExpectedClaims, Reference, is_of_provider, take_references, validate_referred};
pub use request::{AuthorizationRequest, Binding, Pkce, end_session_url};
pub use tokens::{ClientAuth, TokenError, Tokens, code_form, parse_tokens};
pub use userinfo::{BadUserInfo, validate_userinfo};

/// The largest document of a provider that is read, in bytes.
pub const DOCUMENT_MAX: usize = 512 * 1024;
