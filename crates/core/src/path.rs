//! Paths as an upstream might read them: what two readers could take for the same place must be the same here.
//!
//! Upstreams differ in what they fold: percent-encoding (some twice), letter case, backslashes, repeated slashes, dot
//! segments and `;parameters`. [`canonical`] folds all of it, so that a path matched here cannot be spelt past the match.
//! It is for matching only; what goes upstream is what the client wrote.

/// How often percent-encoding is undone: beyond this a path is not understood.
const ROUNDS_MAX: usize = 4;

/// A path folded for matching: begins with `/`, holds no empty, `.` or `..` segment, no parameters, no percent-encoding,
/// lower case. None for a path that cannot be read one way: encoding nested too deep, not UTF-8 after decoding, a control
/// character, or more `..` than there are segments (RFC 3986 5.2.4 would drop them silently).
pub fn canonical(path: &str) -> Option<String> {
    let decoded = decode(path)?;
    if decoded.chars().any(char::is_control) {
        return None;
    }
    let mut segments: Vec<&str> = vec![];
    for segment in written(&decoded) {
        match segment {
            ".." => {
                segments.pop()?;
            }
            s => segments.push(s),
        }
    }
    Some(format!("/{}", segments.join("/").to_lowercase()))
}

/// The segments of a decoded path as they are written, `..` among them: without parameters, empty ones and single dots.
fn written(decoded: &str) -> impl Iterator<Item = &str> {
    decoded.split(['/', '\\']).map(|s| s.split(';').next().unwrap_or_default().trim_end()).filter(|s| !matches!(*s, "" | "."))
}

/// Undoes percent-encoding until nothing changes.
fn decode(path: &str) -> Option<String> {
    let mut text = path.to_owned();
    for _ in 0..ROUNDS_MAX {
        if !text.contains('%') {
            return Some(text);
        }
        let next = once(&text)?;
        if next == text {
            return Some(text);
        }
        text = next;
    }
    None
}

/// One round. A `%` that begins no encoding stays as it is, as most readers leave it.
fn once(text: &str) -> Option<String> {
    let bytes = text.as_bytes();
    let hex = |i: usize| bytes.get(i).and_then(|b| char::from(*b).to_digit(16));
    let mut out = Vec::with_capacity(bytes.len());
    let mut i = 0;
    while i < bytes.len() {
        match (bytes[i], hex(i + 1), hex(i + 2)) {
            (b'%', Some(high), Some(low)) => {
                out.push((high * 16 + low) as u8);
                i += 3;
            }
            (b, ..) => {
                out.push(b);
                i += 1;
            }
        }
    }
    String::from_utf8(out).ok()
}

/// Whether any likely reading of a path lies in a place (folded): for places that ask for more.
pub fn may_be_below(raw: &str, place: &str) -> bool {
    let Some(folded) = canonical(raw) else { return true };
    if is_at_or_below(&folded, place) {
        return true;
    }
    // An upstream that resolves no dot segments sees the place where it is written.
    let Some(decoded) = decode(raw) else { return true };
    let segments: Vec<&str> = written(&decoded).collect();
    is_at_or_below(&format!("/{}", segments.join("/")).to_lowercase(), place)
}

/// Whether every likely reading of a path lies in a place (as written): for places that are open. Only a path without
/// anything to fold qualifies.
pub fn is_plainly_below(raw: &str, place: &str) -> bool {
    let plain = raw.bytes().all(|b| b.is_ascii_alphanumeric() || b"/-._~!$&'()*+,=:@".contains(&b));
    let trimmed = raw.strip_suffix('/').filter(|t| !t.is_empty()).unwrap_or(raw);
    plain && canonical(raw).is_some_and(|c| c == trimmed.to_lowercase()) && is_at_or_below(trimmed, place)
}

/// Whether a folded path is a place or lies below it. The place is folded too.
pub fn is_at_or_below(path: &str, place: &str) -> bool {
    place == "/" || path == place || (path.starts_with(place) && path.as_bytes().get(place.len()) == Some(&b'/'))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn spellings_of_one_place_fold_together() {
        for spelling in [
            "/admin/users",
            "/ADMIN/Users",
            "//admin//users",
            "/admin/users/",
            "/./admin/./users",
            "/x/../admin/users",
            "/admin;a=b/users;c",
            "/%61dmin/users",
            "/%2561dmin/users",
            "/admin%2fusers",
            "/admin%5cusers",
            "/admin\\users",
            "/%2e/admin/%2e%2e/admin/users",
            "/admin/users%20",
            "/x/%252e%252e/admin/users",
            "admin/users",
        ] {
            assert_eq!(canonical(spelling).as_deref(), Some("/admin/users"), "{spelling}");
        }
        assert_eq!(canonical("").as_deref(), Some("/"));
        assert_eq!(canonical("/100%").as_deref(), Some("/100%"));
        assert_eq!(canonical("/%zz").as_deref(), Some("/%zz"));
        assert_eq!(canonical("/%C3%89cluse").as_deref(), Some("/écluse"));
    }

    #[test]
    fn what_cannot_be_read_one_way_is_not_read() {
        for odd in ["/..", "/a/../../b", "/%2e%2e/x", "/%ff", "/a%00", "/a%0d%0ab", "/%25252525252e"] {
            assert_eq!(canonical(odd), None, "{odd}");
        }
    }

    #[test]
    fn a_place_holds_what_lies_below_and_no_more() {
        for (path, place, inside) in [
            ("/admin", "/admin", true),
            ("/admin/x", "/admin", true),
            ("/administration", "/admin", false),
            ("/", "/admin", false),
            ("/x", "/", true),
        ] {
            assert_eq!(is_at_or_below(path, place), inside, "{path} {place}");
        }
    }

    proptest! {
        #[test]
        fn folding_twice_changes_nothing(path in "[/a-zA-Z.%;\\\\0-9é]{0,40}") {
            if let Some(once) = canonical(&path) {
                // A lone % may begin an encoding only once its neighbours were folded: then nothing is promised.
                if !once.contains('%') {
                    prop_assert_eq!(canonical(&once), Some(once.clone()));
                }
                prop_assert!(once.starts_with('/') && !once.contains("//") && !once.contains("/../"));
            }
        }

        #[test]
        fn encoding_any_letters_hides_nothing(path in "(/[a-z.]{1,6}){1,4}", which in any::<u64>()) {
            let hidden: String = path.chars().enumerate().map(|(i, c)| match which >> (i % 64) & 1 {
                1 if c != '/' => format!("%{:02X}", c as u32),
                _ => c.to_string(),
            }).collect();
            prop_assert_eq!(canonical(&hidden), canonical(&path));
        }
    }
}
