//! Paths as an upstream might read them: what two readers could take for the same place must be the same here.
//!
//! Upstreams differ in what they fold: percent-encoding (some twice), letter case, backslashes, repeated slashes, dot
//! segments and `;parameters`. [`canonical`] folds all of it, so that a path matched here cannot be spelt past the match.
//! It is for matching only; what goes upstream is what the client wrote. No folding holds for every server, so a gate that judges
//! paths first refuses those in [`doubt()`].

mod doubt;

use doubt::skeleton;
pub use doubt::{Doubt, doubt};

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

/// How many bytes an encoding takes.
const ENCODED: usize = 3;

/// The byte that an encoding at a place of a path stands for (RFC 3986 2.1), where there is one.
fn encoded(bytes: &[u8], at: usize) -> Option<u8> {
    let digit = |i: usize| bytes.get(i).and_then(|b| char::from(*b).to_digit(16));
    match bytes.get(at)? {
        b'%' => Some((digit(at + 1)? * 16 + digit(at + 2)?) as u8),
        _ => None,
    }
}

/// One round. A `%` that begins no encoding stays as it is, as most readers leave it.
fn once(text: &str) -> Option<String> {
    let bytes = text.as_bytes();
    let mut out = Vec::with_capacity(bytes.len());
    let mut i = 0;
    while i < bytes.len() {
        let (byte, read) = encoded(bytes, i).map_or((bytes[i], 1), |byte| (byte, ENCODED));
        out.push(byte);
        i += read;
    }
    String::from_utf8(out).ok()
}

/// Whether any likely reading of a path lies in a place (folded): for places that ask for more.
pub fn may_be_below(raw: &str, place: &str) -> bool {
    let Some(folded) = canonical(raw) else { return true };
    if is_at_or_below(&folded, place) {
        return true;
    }
    let Some(decoded) = decode(raw) else { return true };
    let join = |segments: &mut dyn Iterator<Item = &str>| format!("/{}", segments.collect::<Vec<_>>().join("/")).to_lowercase();
    // An upstream that resolves no dot segments sees the place where it is written; one may know no parameters, another take all that
    // follows the first for one; and one may know no accents.
    let plain = |s: &&str| !matches!(*s, "" | ".");
    let unresolved = join(&mut written(&decoded));
    let whole = join(&mut decoded.split(['/', '\\']).filter(plain));
    let cut = join(&mut written(decoded.split(';').next().unwrap_or_default()));
    // Frameworks that tell formats by an extension serve the same page for `/assign.json`.
    let bare = |r: &str| {
        let (before, last) = r.rsplit_once('/').unwrap_or(("", r));
        format!("{before}/{}", last.split('.').next().unwrap_or_default())
    };
    let mut readings = vec![folded, unresolved, whole, cut];
    readings.extend(readings.clone().iter().map(|r| bare(r)));
    readings.iter().any(|r| is_at_or_below(r, place) || !r.is_ascii() && is_at_or_below(&skeleton(r), &skeleton(place)))
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

    /// What readers make of a path: decoding or not, once or twice, with and without parameters, backslashes, dots, case and repeats.
    fn readers(path: &str) -> Vec<String> {
        let mut all = vec![path.to_owned()];
        type Fold = fn(&str) -> String;
        let folds: [Fold; 7] = [
            |p| once(p).unwrap_or_else(|| p.to_owned()),
            |p| p.replace('\\', "/"),
            |p| p.split('/').map(|s| s.split(';').next().unwrap_or_default()).collect::<Vec<_>>().join("/"),
            |p| p.split(';').next().unwrap_or_default().to_owned(),
            |p| p.to_lowercase(),
            |p| p.split('/').map(|s| s.trim_end_matches(['.', ' '])).collect::<Vec<_>>().join("/"),
            |p| {
                let mut out: Vec<&str> = vec![];
                for s in p.split('/').filter(|s| !matches!(*s, "" | ".")) {
                    if s == ".." {
                        out.pop();
                    } else {
                        out.push(s)
                    }
                }
                format!("/{}", out.join("/"))
            },
        ];
        for fold in folds {
            let more: Vec<_> = all.iter().map(|p| fold(p)).collect();
            all.extend(more);
        }
        all.sort();
        all.dedup();
        all
    }

    /// What real servers answered, and which of them answered with the page of a section: see `tests/readings`.
    const OBSERVED: &str = include_str!("../../../../tests/readings/observed.tsv");

    #[test]
    fn whatever_a_real_server_read_as_a_section_is_refused_or_judged_as_it() {
        let servers: std::collections::HashSet<_> = OBSERVED
            .lines()
            .filter_map(|l| l.split_once('\t'))
            .flat_map(|(_, s)| s.split(' '))
            .filter(|s| !s.is_empty())
            .collect();
        assert!(servers.len() >= 9, "{servers:?}");
        let mut reached = 0;
        for line in OBSERVED.lines() {
            let (path, by) = line.split_once('\t').expect("a spelling and its servers");
            // A whole address as the target is read before: its path is what is judged.
            let path = path.strip_prefix("http://berths.example").unwrap_or(path).split('?').next().unwrap_or_default();
            if by.is_empty() {
                continue;
            }
            reached += 1;
            assert!(doubt(path).is_some() || may_be_below(path, "/assign"), "{path} was read as /assign by {by}");
            assert!(!is_plainly_below(path, "/open"), "{path}");
        }
        assert!(reached > 40, "{reached}");
    }

    #[test]
    fn honest_paths_are_in_no_doubt() {
        for path in [
            "/",
            "/assign",
            "/a/b/c.html",
            "/%C3%A9cluse/liste",
            "/a%20b/c",
            "/a//b",
            "/x;jsessionid=0A1B",
            "/items:batch",
            "/@user/~home",
            "/~benoit/",
            "/a.b..c",
            "/a+b",
            "/caf%C3%A9/",
            "/%E6%B8%AF",
            "/a%2Cb",
            "/file~backup",
            "/longer-than-eight~1",
            "/a'b(c)!*",
        ] {
            assert_eq!(doubt(path), None, "{path}");
        }
    }

    #[test]
    fn every_doubt_is_found_and_told() {
        let found: Vec<_> = [
            ("x", Doubt::Beginning),
            ("//x/assign", Doubt::Beginning),
            ("/a\\b", Doubt::Backslash),
            ("/é", Doubt::Unwritten),
            ("/a%", Doubt::Percent),
            ("/a%252f", Doubt::Percent),
            ("/a%2Fb", Doubt::Divider),
            ("/a%5cb", Doubt::Divider),
            ("/a%3fb", Doubt::Divider),
            ("/a%3bb", Doubt::Divider),
            ("/a/../b", Doubt::Dots),
            ("/a/..;x/b", Doubt::Dots),
            ("/a/%2e%2e/b", Doubt::Dots),
            ("/a%00", Doubt::Control),
            ("/a%0a", Doubt::Control),
            ("/a%7f", Doubt::Control),
            ("/%e1", Doubt::NotUtf8),
            ("/%c0%af", Doubt::NotUtf8),
            ("/assign.", Doubt::Ending),
            ("/assign%20", Doubt::Ending),
            ("/assign./x", Doubt::Ending),
            ("/assign.;x", Doubt::Ending),
            ("/assign::$DATA", Doubt::Stream),
            ("/assign:$i30:$INDEX_ALLOCATION", Doubt::Stream),
            ("/ASSIGN~1", Doubt::ShortName),
            ("/ASSIGN~1.HTM", Doubt::ShortName),
            ("/a%c5%bfsign", Doubt::LookAlike),
            ("/ass%c4%b1gn", Doubt::LookAlike),
            ("/%ef%bd%81ssign", Doubt::LookAlike),
            ("/x%ef%bc%8fassign", Doubt::LookAlike),
            ("/x%e2%88%95assign", Doubt::LookAlike),
            ("/x/%e2%80%a5/assign", Doubt::LookAlike),
            ("/as%e2%80%8bsign", Doubt::Invisible),
            ("/as%c2%adsign", Doubt::Invisible),
        ]
        .into_iter()
        .map(|(path, wanted)| {
            assert_eq!(doubt(path), Some(wanted), "{path}");
            wanted
        })
        .collect();
        for one in Doubt::ALL {
            assert!(found.contains(&one), "{one:?}");
            assert!(crate::step::reason_text(one.code(), crate::step::Lang::En).is_some(), "{one:?}");
        }
    }

    #[test]
    fn a_place_is_judged_under_every_reading_that_is_not_refused() {
        for path in [
            "/assign;x",
            "/assign;x/../..",
            "/assign/;y",
            "/x;/../assign",
            "/assign.json",
            "/ASSIGN.Json",
            "/%C3%A1ssign",
            "/a%CC%81ssign",
        ] {
            assert!(may_be_below(path, "/assign"), "{path}");
        }
        assert!(
            may_be_below("/%C3%A9cluse", "/ecluse") && may_be_below("/%C5%82awa", "/lawa") && may_be_below("/%e2%84%aa", "/k")
        );
        assert!(!may_be_below("/assignments", "/assign") && !may_be_below("/x/assign", "/assign"));
    }

    proptest! {
        #[test]
        fn a_path_in_no_doubt_is_read_alike_by_every_reader(path in "(/([a-zA-Z0-9.~:;+é%\\\\-]|%2[0-9a-fA-F]|%C3%A9|ſ){0,6}){1,4}") {
            // Every combination of what readers do must keep the path where its plain reading is, or it is in doubt.
            if doubt(&path).is_some() {
                return Ok(());
            }
            for reading in readers(&path) {
                let place = format!("/{}", reading.trim_start_matches('/').split('/').next().unwrap_or_default());
                if canonical(&place).is_some_and(|c| c == place.to_lowercase()) {
                    prop_assert!(may_be_below(&path, &place.to_lowercase()), "{} reads {} and slips past {}", path, reading, place);
                }
            }
        }

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
