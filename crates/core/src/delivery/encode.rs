//! From values to the bytes of one header field value (RFC 9110 5.5).

use crate::site::{Encoding, OnSeparator};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;

/// The longest value delivered, in bytes.
pub const VALUE_MAX: usize = 8_192;

/// Why a value may not be delivered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unfit {
    ControlCharacter,
    /// The member that holds it.
    Separator(String),
    /// Several, where one is told.
    Several,
    NotLatin1,
    TooLong,
}

impl Unfit {
    /// The reason code.
    pub fn code(&self) -> &'static str {
        match self {
            Unfit::ControlCharacter => "control-character",
            Unfit::Separator(_) => "separator",
            Unfit::Several => "several-values",
            Unfit::NotLatin1 => "not-latin-1",
            Unfit::TooLong => "too-long",
        }
    }
}

/// Joins members so that the upstream can take them apart again, or not at all. Without a separator nothing is a list: one value is
/// sent as it is, whatever it holds, and several are none.
pub fn join(values: &[String], separator: Option<&str>, on_separator: OnSeparator) -> Result<String, Unfit> {
    // A control character drops the value under every encoding: an upstream may decode before it looks.
    if values.iter().any(|v| v.chars().any(char::is_control)) {
        return Err(Unfit::ControlCharacter);
    }
    let Some(separator) = separator else {
        return match values {
            [one] => Ok(one.clone()),
            _ => Err(Unfit::Several),
        };
    };
    let members: Result<Vec<String>, Unfit> = values
        .iter()
        .map(|v| match on_separator {
            OnSeparator::Refuse if holds(v, separator) => Err(Unfit::Separator(v.clone())),
            OnSeparator::Refuse => Ok(v.clone()),
            OnSeparator::Escape => Ok(escape(v, separator)),
        })
        .collect();
    Ok(members?.join(separator))
}

/// Whether a member could be cut by someone who splits at the separator; blanks around it count as part of it, since
/// list syntaxes allow them (RFC 9110 5.6.1).
fn holds(member: &str, separator: &str) -> bool {
    let core = separator.trim();
    member.contains(if core.is_empty() { separator } else { core })
}

fn escape(member: &str, separator: &str) -> String {
    let mut out = String::with_capacity(member.len());
    for c in member.chars() {
        if c == '%' || separator.contains(c) {
            let mut buffer = [0; 4];
            c.encode_utf8(&mut buffer).bytes().for_each(|b| percent(&mut out, b));
        } else {
            out.push(c);
        }
    }
    out
}

fn percent(out: &mut String, byte: u8) {
    const HEX: &[u8; 16] = b"0123456789ABCDEF";
    out.push('%');
    out.push(HEX[usize::from(byte >> 4)] as char);
    out.push(HEX[usize::from(byte & 15)] as char);
}

/// Encodes a joined value. Leading and trailing blanks are dropped, as every recipient would (RFC 9110 5.5).
pub fn encode(text: &str, encoding: Encoding) -> Result<Vec<u8>, Unfit> {
    if text.chars().any(char::is_control) {
        return Err(Unfit::ControlCharacter);
    }
    let bytes = match encoding {
        Encoding::Utf8 => text.trim_matches(' ').as_bytes().to_vec(),
        Encoding::Latin1 => text
            .trim_matches(' ')
            .chars()
            .map(|c| u8::try_from(u32::from(c)).map_err(|_| Unfit::NotLatin1))
            .collect::<Result<_, _>>()?,
        Encoding::Percent => {
            let mut out = String::with_capacity(text.len());
            for b in text.bytes() {
                if b.is_ascii_alphanumeric() || matches!(b, b'-' | b'.' | b'_' | b'~') {
                    out.push(b as char);
                } else {
                    percent(&mut out, b);
                }
            }
            out.into_bytes()
        }
        Encoding::Base64 => STANDARD.encode(text).into_bytes(),
    };
    if bytes.len() > VALUE_MAX { Err(Unfit::TooLong) } else { Ok(bytes) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn own(v: &[&str]) -> Vec<String> {
        v.iter().map(|s| s.to_string()).collect()
    }

    #[test]
    fn a_member_that_holds_the_separator_never_becomes_two() {
        use OnSeparator::{Escape, Refuse};
        for (values, sep, on, want) in [
            (&["a", "b"][..], ",", Refuse, Ok("a,b")),
            (&["a,admin"], ",", Refuse, Err(Unfit::Separator("a,admin".into()))),
            (&["a", "b,admin"], ", ", Refuse, Err(Unfit::Separator("b,admin".into()))),
            (&["a,admin", "b"], ",", Escape, Ok("a%2Cadmin,b")),
            (&["50%", "b"], ";", Escape, Ok("50%25;b")),
            (&["a\nb"], ",", Escape, Err(Unfit::ControlCharacter)),
            (&["one"], ",", Refuse, Ok("one")),
            (&["a,admin"], ", ", Refuse, Err(Unfit::Separator("a,admin".into()))),
            (&["a admin"], " ", Refuse, Err(Unfit::Separator("a admin".into()))),
        ] {
            assert_eq!(join(&own(values), Some(sep), on).as_deref(), want.as_ref().map(|s| *s), "{values:?} {sep:?}");
        }
        // Where nothing is a list, one value is what it is, and two are none.
        assert_eq!(join(&own(&["Dupré, Jean"]), None, Refuse).as_deref(), Ok("Dupré, Jean"));
        assert_eq!(join(&own(&["50%, half"]), None, Escape).as_deref(), Ok("50%, half"));
        assert_eq!(join(&own(&["a", "b"]), None, Refuse), Err(Unfit::Several));
        assert_eq!(join(&own(&["a\nb"]), None, Refuse), Err(Unfit::ControlCharacter));
    }

    #[test]
    fn each_encoding_keeps_or_drops_as_stated() {
        for (text, encoding, want) in [
            ("Élodie", Encoding::Utf8, Ok("Élodie".as_bytes())),
            ("Élodie", Encoding::Latin1, Ok(&b"\xC9lodie"[..])),
            ("港", Encoding::Latin1, Err(Unfit::NotLatin1)),
            ("Kœnig", Encoding::Latin1, Err(Unfit::NotLatin1)),
            ("É/ a", Encoding::Percent, Ok(&b"%C3%89%2F%20a"[..])),
            ("港", Encoding::Base64, Ok(&b"5riv"[..])),
            ("a\r\nX: y", Encoding::Percent, Err(Unfit::ControlCharacter)),
            ("a\u{85}b", Encoding::Latin1, Err(Unfit::ControlCharacter)),
            ("a\u{7f}", Encoding::Utf8, Err(Unfit::ControlCharacter)),
            ("  a ", Encoding::Utf8, Ok(&b"a"[..])),
        ] {
            assert_eq!(encode(text, encoding).as_deref(), want.as_ref().map(|b| *b), "{text:?}");
        }
        assert_eq!(encode(&"a".repeat(VALUE_MAX + 1), Encoding::Utf8), Err(Unfit::TooLong));
    }

    proptest! {
        #[test]
        fn whatever_is_joined_comes_apart_into_as_many_members(values in prop::collection::vec("[ -~é港]{1,12}", 1..6), sep in "[,;|]") {
            if let Ok(joined) = join(&values, Some(&sep), OnSeparator::Escape) {
                prop_assert_eq!(joined.split(sep.as_str()).count(), values.len());
            }
            match join(&values, Some(&sep), OnSeparator::Refuse) {
                Ok(joined) => prop_assert_eq!(joined.split(sep.as_str()).count(), values.len()),
                Err(e) => prop_assert!(matches!(e, Unfit::Separator(_)) && values.iter().any(|v| v.contains(&sep))),
            }
        }

        #[test]
        fn no_encoding_lets_a_control_byte_out(text in "\\PC{0,40}|.{0,40}") {
            for encoding in [Encoding::Utf8, Encoding::Latin1, Encoding::Percent, Encoding::Base64] {
                if let Ok(bytes) = encode(&text, encoding) {
                    prop_assert!(bytes.iter().all(|b| *b >= 0x20 && *b != 0x7f));
                }
            }
        }
    }
}
