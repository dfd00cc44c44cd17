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

use passeur_core::id::{hex, same_secret};
use passeur_core::site::Site;

use passeur_engine::Engine;

use crate::journey::flow::{Leg, Saml};

/// The identifier of the request of a flow.
fn request_id(nonce: &str) -> String {
    format!("_{nonce}")
}

/// What the cookie that holds the flow ends with: enough to tell the open tabs of one browser apart.
fn tab(nonce: &str) -> &str {
    nonce.get(..TAB).unwrap_or(nonce)
}

const TAB: usize = 16;
/// With the second at which it was sent, and a MAC of both: all in hexadecimal digits.
const RELAY_STATE: usize = TAB + 8 + 32;

fn relay_mac(provider: &str, front: &str) -> Vec<u8> {
    format!("{provider}\0{front}").into_bytes()
}

/// RelayState of a flow: 56 of the 80 bytes that it may hold. Only what names a flow of ours is kept when a form posts it.
fn relay_state(engine: &Engine, leg: &Leg<Saml>) -> String {
    let front = format!("{}{:08x}", tab(&leg.nonce), leg.sent.div_euclid(1000));
    let mac = engine.ring.mac("relay state", &relay_mac(&leg.by.provider, &front));
    front + &hex(&mac[..16])
}

/// Whether a RelayState has the form of ours.
fn looks_ours(state: &str) -> bool {
    state.len() == RELAY_STATE && state.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b))
}

/// The tab of a RelayState that we made for this provider, of late.
fn tab_of<'a>(engine: &Engine, provider: &str, state: &'a str) -> Option<&'a str> {
    let (front, mac) = state.split_at_checked(TAB + 8).filter(|_| looks_ours(state))?;
    let macs = engine.ring.macs("relay state", &relay_mac(provider, front));
    let ours = macs.iter().any(|m| same_secret(hex(&m[..16]).as_bytes(), mac.as_bytes()));
    let sent = i64::from_str_radix(front.get(TAB..)?, 16).ok()?;
    let age = engine.now().timestamp() - sent;
    (ours && (-60..FLOW_MAX_S).contains(&age)).then(|| &front[..TAB])
}

/// The longest that any flow may be on its way, in seconds: what its provider allows is judged with the flow itself.
const FLOW_MAX_S: i64 = 86_400;

/// The cookie that holds a flow.
fn flow_cookie(site: &Site, tab: &str) -> (String, bool) {
    site.address.cookie(&format!("asked-{tab}"))
}
