//! Distinguished names as text (RFC 4514): their parts, and what is wrong with one.

/// The value of the first relative distinguished name of a type, with its escapes undone (RFC 4514 2.4, 3). A DN that cannot
/// be read has none.
pub fn rdn(dn: &str, kind: &str) -> Option<String> {
    let (mut rest, mut found) = (dn, None);
    loop {
        let (name, after) = rest.split_once('=')?;
        let (value, next) = rdn_value(after)?;
        if name.trim().eq_ignore_ascii_case(kind) && found.is_none() {
            found = Some(value);
        }
        match next {
            None => return found,
            Some(next) => rest = next,
        }
    }
}

/// A value up to an unescaped `,` or `+`, and what follows that, where one ends it.
fn rdn_value(text: &str) -> Option<(String, Option<&str>)> {
    let bytes = text.as_bytes();
    let mut out: Vec<u8> = vec![];
    // How much must stay whatever blanks follow: escaped blanks are part of the value.
    let mut solid = 0;
    let mut i = 0;
    while let Some(&b) = bytes.get(i) {
        match b {
            b',' | b'+' => return Some((finished(out, solid)?, Some(text.get(i + 1..)?))),
            b'\\' => {
                let next = *bytes.get(i + 1)?;
                let digits = text.get(i + 1..i + 3).filter(|d| d.bytes().all(|b| b.is_ascii_hexdigit()));
                match digits.and_then(|d| u8::from_str_radix(d, 16).ok()) {
                    Some(byte) => {
                        out.push(byte);
                        i += 3;
                    }
                    None => {
                        out.push(next);
                        i += 2;
                    }
                }
                solid = out.len();
            }
            b'"' | b';' | b'<' | b'>' | 0 => return None,
            b' ' if out.is_empty() => i += 1,
            _ => {
                out.push(b);
                i += 1;
                if b != b' ' {
                    solid = out.len();
                }
            }
        }
    }
    Some((finished(out, solid)?, None))
}

fn finished(mut out: Vec<u8>, solid: usize) -> Option<String> {
    out.truncate(solid);
    String::from_utf8(out).ok()
}

/// Whether a text is a distinguished name. An empty one names the root, which is nobody and no place that is meant here.
///
/// # Errors
/// What is wrong, with the part that it is about.
pub fn check(dn: &str) -> Result<(), String> {
    let mut rest = dn;
    loop {
        let Some((name, after)) = rest.split_once('=') else {
            return Err(format!("\"{}\" is no attribute with a value, such as cn=passeur", rest.trim()));
        };
        let kind = name.trim();
        // An unescaped separator ends a part: what stands before it has no value.
        if let Some((part, _)) = kind.split_once([',', '+']) {
            return Err(format!("\"{}\" is no attribute with a value, such as cn=passeur", part.trim()));
        }
        let descr =
            kind.starts_with(|c: char| c.is_ascii_alphabetic()) && kind.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-');
        let numbers = !kind.is_empty() && kind.split('.').all(|n| !n.is_empty() && n.bytes().all(|b| b.is_ascii_digit()));
        if !descr && !numbers {
            return Err(format!("\"{kind}\" is no attribute type (RFC 4512 2.5)"));
        }
        let Some((value, next)) = rdn_value(after) else {
            return Err(format!("the value of {kind} holds what must be written with a backslash (RFC 4514 2.4)"));
        };
        if value.is_empty() {
            return Err(format!("{kind} has no value"));
        }
        match next {
            None => return Ok(()),
            Some(next) => rest = next,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_of_a_distinguished_name_is_read_with_its_escapes() {
        for (dn, kind, value) in [
            ("cn=planners,ou=groups,dc=havrelune,dc=example", "cn", Some("planners")),
            ("CN=Planners , OU=groups", "cn", Some("Planners")),
            ("cn=Quay\\, north,ou=groups", "cn", Some("Quay, north")),
            ("cn=Quay\\2c north,ou=groups", "cn", Some("Quay, north")),
            ("cn=Lu\\C4\\8Di\\C4\\87", "cn", Some("Lučić")),
            ("cn=a\\ ,ou=x", "cn", Some("a ")),
            ("cn=a+uid=b,ou=x", "uid", Some("b")),
            ("ou=groups", "cn", None),
            // An escaped separator makes no second part.
            ("ou=a\\,cn=admins,dc=x", "cn", None),
            ("cn=a\\", "cn", None),
            ("cn=\\ff", "cn", None),
            ("cn=a;b", "cn", None),
            ("planners", "cn", None),
            ("", "cn", None),
        ] {
            assert_eq!(rdn(dn, kind).as_deref(), value, "{dn}");
        }
    }

    #[test]
    fn what_is_no_distinguished_name_is_told() {
        for good in
            ["cn=a,dc=example", "CN = Passeur , OU=Service accounts,DC=x", "2.5.4.3=a+uid=b,dc=x", "cn=Quay\\, north", "o=a=b"]
        {
            assert_eq!(check(good), Ok(()), "{good}");
        }
        for (bad, words) in [
            ("", "\"\" is no attribute with a value, such as cn=passeur"),
            ("passeur", "\"passeur\" is no attribute with a value, such as cn=passeur"),
            ("cn=passeur,services,dc=x", "\"services\" is no attribute with a value, such as cn=passeur"),
            ("cn=a,,dc=x", "\"\" is no attribute with a value, such as cn=passeur"),
            ("cn=a;dc=x", "the value of cn holds what must be written with a backslash (RFC 4514 2.4)"),
            ("cn=a,dc=", "dc has no value"),
            ("cn=a,", "\"\" is no attribute with a value, such as cn=passeur"),
            ("common name=a", "\"common name\" is no attribute type (RFC 4512 2.5)"),
        ] {
            assert_eq!(check(bad).unwrap_err(), words, "{bad}");
        }
    }
}
