//! Short codes that one person reads out and another types: letters that make no words and are not mistaken for one another (RFC 8628 6.1).

use crate::Engine;
use crate::random::random;

const LETTERS: &[u8; 20] = b"BCDFGHJKLMNPQRSTVWXZ";

/// So many letters, each as likely as any other.
pub fn new(letters: usize) -> String {
    let mut out = String::new();
    while out.len() < letters {
        // Of a byte only what leaves every letter as likely as any other.
        out.extend(random::<16>().iter().filter(|b| **b < 240).map(|b| char::from(LETTERS[usize::from(b % 20)])));
    }
    out.truncate(letters);
    out
}

/// Whether a text may be such a code of eight letters.
pub fn is_one(text: &str) -> bool {
    text.len() == 8 && text.bytes().all(|b| LETTERS.contains(&b))
}

/// A code of eight letters as it is read out.
pub fn shown(code: &str) -> String {
    match (code.get(..4), code.get(4..)) {
        (Some(front), Some(back)) => format!("{front}-{back}"),
        _ => code.to_owned(),
    }
}

/// What a code is known by in the store, in whatever spelling it was typed, under each key of the ring.
pub fn macs(engine: &Engine, what: &str, typed: &str) -> Vec<[u8; 32]> {
    let plain: String = typed.chars().filter(char::is_ascii_alphabetic).take(20).collect::<String>().to_uppercase();
    engine.ring.macs(what, plain.as_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_codes_are_made_of_letters_that_are_told_apart() {
        for _ in 0..200 {
            assert!(is_one(&new(8)));
        }
        assert_eq!((new(10).len(), shown("BCDFGHJK").as_str()), (10, "BCDF-GHJK"));
        for no in ["", "BCDFGHJ", "BCDFGHJA", "bcdfghjk", "BCDF-GHJK", "BCDFGHJK1"] {
            assert!(!is_one(no), "{no}");
        }
    }
}
