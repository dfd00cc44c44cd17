//! SAML at the sign-in host: asking a provider ([`ask`]), its answer ([`answer`], told by [`told`]), signing out both ways
//! ([`out`]), and our own metadata ([`metadata`]). What counts and what does not is decided in `protocols::saml`.
//!
//! RelayState holds 80 bytes at most (saml-bindings-2.0-os 3.4.3), so that the sealed flow travels in a cookie of the browser
//! instead, and RelayState says in which. The cookie also binds the flow to that browser.

pub mod answer;
pub mod ask;
pub mod metadata;
pub mod out;
mod told;

use passeur_core::site::Site;

/// The identifier of the request of a flow.
fn request_id(nonce: &str) -> String {
    format!("_{nonce}")
}

/// RelayState, and what the cookie that holds the flow ends with: enough to tell the open tabs of one browser apart.
fn relay_state(nonce: &str) -> &str {
    nonce.get(..16).unwrap_or(nonce)
}

/// Whether a RelayState is of our making.
fn is_ours(state: &str) -> bool {
    state.len() == 16 && state.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b))
}

/// The cookie that holds a flow.
fn flow_cookie(site: &Site, state: &str) -> (String, bool) {
    site.address.cookie(&format!("asked-{state}"))
}
