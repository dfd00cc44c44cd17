//! The ring of numbered keys: sealing of secrets and of state that travels through a browser.
//!
//! AES-256-GCM (NIST SP 800-38D) under a key derived per purpose with HKDF-SHA-256 (RFC 5869), so that text sealed for
//! one purpose can never be opened for another. What a seal is bound to (its name and version, say) is additional
//! authenticated data. Nonces are handed in: 96 random bits, far below the collision bound for the volumes here.

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use aws_lc_rs::{hkdf, hmac};
use base64::Engine;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};

/// What a seal is for. Each purpose has keys of its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Purpose {
    /// Secrets kept in the store, bound to name and version.
    Secret,
    /// The request to sign in that a gate hands to the sign-in host.
    Ask,
    /// The state parameter of a flow that a provider has not answered.
    Flow,
    /// What a session keeps for signing out at the provider.
    SessionHint,
    /// A form that a sign-in interrupted.
    Form,
    /// An answer of a provider that came by a form and waits for its browser.
    Parked,
    /// What a trial sign-in brought back.
    Trial,
    /// That a browser has signed in to an account before.
    Known,
    /// The secret of an authenticator, or a passkey, bound to the factor's id.
    Factor,
    /// A ceremony of enrolling or proving a factor that waits for the browser.
    Ceremony,
    /// The address that a code was mailed to.
    MailedCode,
    /// The password that somebody typed, kept for gates that hand it over, bound to the session.
    Kept,
    /// The order to a gate's host to forget its cookie and pages, given by the page that says one is signed out.
    Forget,
}

impl Purpose {
    fn label(self) -> &'static [u8] {
        match self {
            Purpose::Secret => b"passeur secret 1",
            Purpose::Ask => b"passeur ask 1",
            Purpose::Flow => b"passeur flow 1",
            Purpose::SessionHint => b"passeur session hint 1",
            Purpose::Form => b"passeur form 1",
            Purpose::Parked => b"passeur parked 1",
            Purpose::Trial => b"passeur trial 1",
            Purpose::Factor => b"passeur factor 1",
            Purpose::Ceremony => b"passeur ceremony 1",
            Purpose::Known => b"passeur known 1",
            Purpose::Kept => b"passeur kept password 1",
            Purpose::MailedCode => b"passeur mailed code 1",
            Purpose::Forget => b"passeur forget 1",
        }
    }
}

/// Why a ring could not be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadRing {
    #[error("line {line}: wants a number from 1 to 65535, a blank and 32 bytes in base64")]
    Line { line: usize },
    #[error("line {line}: key {number} stands twice")]
    Twice { line: usize, number: u16 },
    #[error("holds no key; make one with `passeur key-ring new FILE`")]
    Empty,
}

/// A sealed text could not be opened: altered, cut, for another purpose or name, or under a key no longer in the ring.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the sealed text cannot be opened with this key ring")]
pub struct NotOpened;

struct RingKey {
    number: u16,
    prk: hkdf::Prk,
}

/// The keys of a site. The highest number seals; all open.
pub struct Ring {
    keys: Vec<RingKey>,
}

impl std::fmt::Debug for Ring {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Ring { keys } = self;
        write!(f, "Ring({:?})", keys.iter().map(|k| k.number).collect::<Vec<_>>())
    }
}

struct Len32;
impl hkdf::KeyType for Len32 {
    fn len(&self) -> usize {
        32
    }
}

impl RingKey {
    fn derive(&self, label: &[u8]) -> [u8; 32] {
        let mut out = [0u8; 32];
        let info = [label];
        // The length is fixed and far below HKDF's limit, so expansion cannot fail.
        if let Ok(okm) = self.prk.expand(&info, Len32) {
            let _ = okm.fill(&mut out);
        }
        out
    }

    fn aead(&self, purpose: Purpose) -> Result<LessSafeKey, NotOpened> {
        let bytes = self.derive(purpose.label());
        UnboundKey::new(&AES_256_GCM, &bytes).map(LessSafeKey::new).map_err(|_| NotOpened)
    }
}

impl Ring {
    /// Reads a ring file: a line a key, `NUMBER BASE64`, `#` begins a comment.
    pub fn parse(text: &str) -> Result<Ring, BadRing> {
        let mut keys: Vec<RingKey> = Vec::new();
        for (i, raw) in text.lines().enumerate() {
            let line = i + 1;
            let content = raw.split('#').next().unwrap_or_default().trim();
            if content.is_empty() {
                continue;
            }
            let (number, key) = content.split_once(' ').ok_or(BadRing::Line { line })?;
            let number: u16 = number.parse().ok().filter(|n| *n > 0).ok_or(BadRing::Line { line })?;
            let bytes = STANDARD.decode(key.trim()).ok().filter(|b| b.len() == 32).ok_or(BadRing::Line { line })?;
            if keys.iter().any(|k| k.number == number) {
                return Err(BadRing::Twice { line, number });
            }
            let prk = hkdf::Salt::new(hkdf::HKDF_SHA256, b"passeur key ring").extract(&bytes);
            keys.push(RingKey { number, prk });
        }
        if keys.is_empty() {
            return Err(BadRing::Empty);
        }
        keys.sort_by_key(|k| std::cmp::Reverse(k.number));
        Ok(Ring { keys })
    }

    /// A line for a ring file.
    pub fn line(number: u16, key: [u8; 32]) -> String {
        format!("{number} {}\n", STANDARD.encode(key))
    }

    /// Seals bytes: key number, nonce, ciphertext and tag.
    pub fn seal(&self, purpose: Purpose, bound_to: &[u8], nonce: [u8; 12], plain: &[u8]) -> Vec<u8> {
        let key = &self.keys[0]; // parse() leaves at least one
        let mut out = Vec::with_capacity(plain.len() + 30);
        out.extend(key.number.to_be_bytes());
        out.extend(nonce);
        let mut body = plain.to_vec();
        let sealed = key.aead(purpose).ok().and_then(|aead| {
            aead.seal_in_place_append_tag(Nonce::assume_unique_for_key(nonce), Aad::from(bound_to), &mut body).ok()
        });
        if sealed.is_none() {
            body.clear(); // fails closed: what cannot be sealed cannot be opened either
        }
        out.extend(body);
        out
    }

    /// Opens what [`Ring::seal`] made for the same purpose and binding.
    pub fn open(&self, purpose: Purpose, bound_to: &[u8], sealed: &[u8]) -> Result<Vec<u8>, NotOpened> {
        let (number, rest) = sealed.split_first_chunk::<2>().ok_or(NotOpened)?;
        let (nonce, body) = rest.split_first_chunk::<12>().ok_or(NotOpened)?;
        let number = u16::from_be_bytes(*number);
        let key = self.keys.iter().find(|k| k.number == number).ok_or(NotOpened)?;
        let mut body = body.to_vec();
        let plain = key
            .aead(purpose)?
            .open_in_place(Nonce::assume_unique_for_key(*nonce), Aad::from(bound_to), &mut body)
            .map_err(|_| NotOpened)?;
        Ok(plain.to_vec())
    }

    /// Seals into text for a URL.
    pub fn seal_text(&self, purpose: Purpose, nonce: [u8; 12], plain: &[u8]) -> String {
        URL_SAFE_NO_PAD.encode(self.seal(purpose, b"", nonce, plain))
    }

    /// Opens text from a URL; `max` bounds what is even looked at.
    pub fn open_text(&self, purpose: Purpose, text: &str, max: usize) -> Result<Vec<u8>, NotOpened> {
        if text.len() > max {
            return Err(NotOpened);
        }
        let sealed = URL_SAFE_NO_PAD.decode(text).map_err(|_| NotOpened)?;
        self.open(purpose, b"", &sealed)
    }

    /// Numbers of all keys, the newest first.
    pub fn numbers(&self) -> impl Iterator<Item = u16> {
        self.keys.iter().map(|k| k.number)
    }

    /// What tells a key from another of the same number, and nothing else of it. None where the ring has no such key.
    pub fn proof(&self, number: u16) -> Option<[u8; 32]> {
        self.mac_under(number, "passeur ring key 1", b"")
    }

    /// The number of the key that seals.
    pub fn newest(&self) -> u16 {
        self.keys[0].number // parse() leaves at least one
    }

    /// HMAC-SHA-256 under one key of the ring; none when it is not there.
    pub fn mac_under(&self, number: u16, label: &str, bytes: &[u8]) -> Option<[u8; 32]> {
        let key = self.keys.iter().find(|k| k.number == number)?;
        let key = hmac::Key::new(hmac::HMAC_SHA256, &key.derive(label.as_bytes()));
        hmac::sign(&key, bytes).as_ref().try_into().ok()
    }

    /// The same under every key of the ring, the newest first.
    pub fn macs(&self, label: &str, bytes: &[u8]) -> Vec<[u8; 32]> {
        self.keys.iter().filter_map(|k| self.mac_under(k.number, label, bytes)).collect()
    }

    /// HMAC-SHA-256 under the ring, for values too short to be stored as a bare digest.
    pub fn mac(&self, label: &str, bytes: &[u8]) -> [u8; 32] {
        let key = hmac::Key::new(hmac::HMAC_SHA256, &self.keys[0].derive(label.as_bytes()));
        let mut out = [0u8; 32];
        out.copy_from_slice(hmac::sign(&key, bytes).as_ref());
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ring() -> Ring {
        Ring::parse(&format!("# keys\n{}{}", Ring::line(1, [1; 32]), Ring::line(2, [2; 32]))).unwrap()
    }

    #[test]
    fn what_was_sealed_opens_and_nothing_else_does() {
        let r = ring();
        let sealed = r.seal(Purpose::Secret, b"name/1", [9; 12], b"tide table");
        assert_eq!(r.open(Purpose::Secret, b"name/1", &sealed).unwrap(), b"tide table");
        assert_eq!(r.open(Purpose::Secret, b"name/2", &sealed), Err(NotOpened));
        assert_eq!(r.open(Purpose::Flow, b"name/1", &sealed), Err(NotOpened));
        for cut in 0..sealed.len() {
            assert_eq!(r.open(Purpose::Secret, b"name/1", &sealed[..cut]), Err(NotOpened), "cut at {cut}");
        }
        for i in 0..sealed.len() {
            let mut bad = sealed.clone();
            bad[i] ^= 1;
            assert_eq!(r.open(Purpose::Secret, b"name/1", &bad), Err(NotOpened), "bit at {i}");
        }
    }

    #[test]
    fn the_highest_key_seals_and_older_ones_still_open() {
        let old = Ring::parse(&Ring::line(1, [1; 32])).unwrap();
        let text = old.seal_text(Purpose::Flow, [3; 12], b"x");
        assert_eq!(ring().open_text(Purpose::Flow, &text, 1000).unwrap(), b"x");
        let new = ring().seal_text(Purpose::Flow, [3; 12], b"x");
        assert_eq!(old.open_text(Purpose::Flow, &new, 1000), Err(NotOpened));
        assert_eq!(old.open_text(Purpose::Flow, &text, 3), Err(NotOpened));
    }

    #[test]
    fn a_bad_ring_names_its_line() {
        assert_eq!(Ring::parse("").err(), Some(BadRing::Empty));
        assert_eq!(Ring::parse("1 abc").err(), Some(BadRing::Line { line: 1 }));
        assert_eq!(Ring::parse(&format!("0 {}", "A".repeat(43))).err(), Some(BadRing::Line { line: 1 }));
        let twice = format!("{}{}", Ring::line(1, [1; 32]), Ring::line(1, [2; 32]));
        assert_eq!(Ring::parse(&twice).err(), Some(BadRing::Twice { line: 2, number: 1 }));
    }
}
