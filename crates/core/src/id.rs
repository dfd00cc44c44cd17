//! Identifiers, tokens and their digests. Random bytes are handed in.

use aws_lc_rs::digest;
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use serde::{Deserialize, Serialize};

use crate::Moment;

/// SHA-256, under which tokens are stored and evidence is filed.
pub fn sha256(bytes: &[u8]) -> [u8; 32] {
    let mut out = [0u8; 32];
    out.copy_from_slice(digest::digest(&digest::SHA256, bytes).as_ref());
    out
}

/// Equality without a timing difference that depends on where two secrets part.
pub fn same_secret(a: &[u8], b: &[u8]) -> bool {
    aws_lc_rs::constant_time::verify_slices_are_equal(a, b).is_ok()
}

/// Lower-case hexadecimal.
pub fn hex(bytes: &[u8]) -> String {
    use std::fmt::Write;
    bytes.iter().fold(String::with_capacity(bytes.len() * 2), |mut s, b| {
        let _ = write!(s, "{b:02x}");
        s
    })
}

/// What hexadecimal stands for; none where it is not in pairs of digits.
pub fn unhex(text: &str) -> Option<Vec<u8>> {
    (0..text.len()).step_by(2).map(|i| u8::from_str_radix(text.get(i..i + 2)?, 16).ok()).collect()
}

/// What personal tokens begin with, so that they are known wherever they turn up.
pub const PERSONAL_TOKEN: &str = "passeur_";

/// A bearer secret of 256 random bits in base64url. Only its SHA-256 is stored; Debug shows nothing of it.
#[derive(Clone, PartialEq, Eq)]
pub struct Token(String);

impl Token {
    /// The length of a token's text.
    pub const LEN: usize = 43;

    /// From random bytes.
    pub fn from_random(bytes: [u8; 32]) -> Token {
        Token(URL_SAFE_NO_PAD.encode(bytes))
    }

    /// From what a client presented; anything that cannot be one of ours is none.
    pub fn parse(text: &str) -> Option<Token> {
        (text.len() == Token::LEN && text.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_'))
            .then(|| Token(text.to_owned()))
    }

    /// The text to hand to the one who may hold it. Named so that every use can be found.
    pub fn reveal(&self) -> &str {
        &self.0
    }

    /// The digest under which the token is stored.
    pub fn digest(&self) -> [u8; 32] {
        sha256(self.0.as_bytes())
    }
}

impl std::fmt::Debug for Token {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Token(_) = self;
        f.write_str("Token(…)")
    }
}

const ALPHABET: &[u8; 32] = b"0123456789ABCDEFGHJKMNPQRSTVWXYZ";
/// Day numbers in ids count from 1 January 2024.
const EPOCH_DAY: i64 = 19_723;

/// The short id of a crossing: three characters of day and eight random ones (40 bits), written `DDD-RRRR-RRRR`.
///
/// The alphabet has no I, L, O and U, so that it survives being read out over the telephone. The day leads the store to
/// the partition without an index over all days.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct CrossingId(u64);

impl CrossingId {
    /// For a crossing that begins at `now`.
    pub fn new(now: Moment, random: [u8; 5]) -> CrossingId {
        let day = now.timestamp().div_euclid(86_400) - EPOCH_DAY;
        CrossingId(random.iter().fold(day.clamp(0, 32_767) as u64, |n, b| (n << 8) | u64::from(*b)))
    }

    /// The day (UTC) in which the crossing began.
    pub fn day(&self) -> chrono::NaiveDate {
        let days = EPOCH_DAY + (self.0 >> 40) as i64;
        chrono::DateTime::from_timestamp(days * 86_400, 0).map(|t| t.date_naive()).unwrap_or_default()
    }
}

impl std::fmt::Display for CrossingId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let CrossingId(n) = self;
        for i in (0..11).rev() {
            if i == 7 || i == 3 {
                f.write_str("-")?;
            }
            let c = ALPHABET[((n >> (i * 5)) & 31) as usize];
            f.write_str(char::from(c).encode_utf8(&mut [0; 4]))?;
        }
        Ok(())
    }
}

impl std::fmt::Debug for CrossingId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{self}")
    }
}

/// The text is not the id of a crossing.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("not a crossing id: eleven letters and digits such as 11V-4K2P-9QRM are wanted")]
pub struct NotAnId;

impl std::str::FromStr for CrossingId {
    type Err = NotAnId;

    /// Reads what a person typed: any case, hyphens and blanks anywhere, O for 0, I and L for 1.
    fn from_str(text: &str) -> Result<CrossingId, NotAnId> {
        if text.len() > 40 {
            return Err(NotAnId);
        }
        let (mut n, mut len) = (0u64, 0);
        for c in text.chars().filter(|c| !matches!(c, '-' | ' ')) {
            let c = match c.to_ascii_uppercase() {
                'O' => '0',
                'I' | 'L' => '1',
                c => c,
            };
            let v = ALPHABET.iter().position(|a| char::from(*a) == c).ok_or(NotAnId)?;
            len += 1;
            if len > 11 {
                return Err(NotAnId);
            }
            n = (n << 5) | v as u64;
        }
        if len != 11 {
            return Err(NotAnId);
        }
        Ok(CrossingId(n))
    }
}

impl Serialize for CrossingId {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for CrossingId {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        let text = String::deserialize(d)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_id_survives_being_written_and_read_out() {
        let now = chrono::DateTime::from_timestamp(1_795_000_000, 0).unwrap();
        let id = CrossingId::new(now, [0xFF, 0, 0x12, 0x34, 0x56]);
        assert_eq!(id.to_string().len(), 13);
        assert_eq!(id.to_string().parse(), Ok(id));
        assert_eq!(id.to_string().to_lowercase().replace('-', " ").parse(), Ok(id));
        assert_eq!(id.to_string().replace('0', "o").replace('1', "l").parse(), Ok(id));
        assert_eq!(id.day(), now.date_naive());
    }

    #[test]
    fn what_is_no_id_is_refused() {
        for bad in ["", "1", "11V-4K2P-9QR", "11V-4K2P-9QRMM", "11V-4K2P-9QRU", &"1".repeat(100)] {
            assert_eq!(bad.parse::<CrossingId>(), Err(NotAnId), "{bad}");
        }
    }

    #[test]
    fn a_token_never_shows_in_debug_and_only_its_own_shape_is_read() {
        let t = Token::from_random([7; 32]);
        assert_eq!(t.reveal().len(), Token::LEN);
        assert_eq!(format!("{t:?}"), "Token(…)");
        assert_eq!(Token::parse(t.reveal()).unwrap().digest(), t.digest());
        assert!(Token::parse(&t.reveal()[1..]).is_none());
        assert!(Token::parse(&t.reveal().replace('B', "=")).is_none());
    }
}
