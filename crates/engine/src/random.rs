//! Random bytes from the system, and what is made of nothing else.

use aws_lc_rs::rand;
use uuid::Uuid;

/// A random UUID (RFC 9562, version 4).
pub fn new_uuid() -> Uuid {
    uuid::Builder::from_random_bytes(random()).into_uuid()
}

/// Random bytes from the system.
pub fn random<const N: usize>() -> [u8; N] {
    let mut out = [0u8; N];
    // The library's generator fails only where the system has no entropy source at all; nothing may go on then.
    assert!(rand::fill(&mut out).is_ok(), "the system gives no random bytes");
    out
}
