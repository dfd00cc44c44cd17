//! Under which digest a gate knows what a program shows: nothing else of a token is kept.

use passeur_core::id::{hex, sha256};

/// Under which digest a token is known at a gate: at another gate it is another.
pub fn token_digest(gate: &str, token: &str) -> [u8; 32] {
    sha256(format!("caller\0{gate}\0{token}").as_bytes())
}

/// The same for a client certificate: two programs that were given the same one are one.
pub fn certificate_digest(gate: &str, chain: &[Vec<u8>]) -> [u8; 32] {
    let own = hex(&sha256(chain.first().map(Vec::as_slice).unwrap_or_default()));
    sha256(format!("certificate\0{gate}\0{own}").as_bytes())
}
