//! RADIUS in a stream (RFC 6614 over TLS, by the rules of RFC 6613): packets follow one another, each as long as it says.

use super::packet::{LENGTH_MAX, LENGTH_MIN, Malformed};

/// By which name RADIUS/1.1 is chosen in the handshake (RFC 9765 section 3.2).
pub const ALPN_1_1: &[u8] = b"radius/1.1";
/// The same of RADIUS as it was.
pub const ALPN_1_0: &[u8] = b"radius/1.0";
/// How many octets tell how long a packet is.
pub const HEAD: usize = 4;

/// How long a packet is that begins with these octets.
///
/// # Errors
/// No packet is that long: whatever follows cannot be told apart, and the stream ends (RFC 6613 section 2.6.4).
pub fn length_of(head: [u8; HEAD]) -> Result<usize, Malformed> {
    let said = usize::from(u16::from_be_bytes([head[2], head[3]]));
    if (LENGTH_MIN..=LENGTH_MAX).contains(&said) { Ok(said) } else { Err(Malformed::Length(said)) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stream_goes_on_while_each_packet_says_how_long_it_is() {
        for (said, length) in [
            (0, Err(Malformed::Length(0))),
            (19, Err(Malformed::Length(19))),
            (20, Ok(20)),
            (4_096, Ok(4_096)),
            (4_097, Err(Malformed::Length(4_097))),
            (65_535, Err(Malformed::Length(65_535))),
        ] {
            let [high, low] = u16::to_be_bytes(said);
            assert_eq!(length_of([1, 0, high, low]), length);
        }
    }
}
