//! Paths that are refused where a gate judges paths, since no list of readings of them is complete: what one server serves for
//! them is decided by its decoder, its file system, its router or its framework. `tests/readings` holds what real servers did.

use unicode_normalization::UnicodeNormalization;
use unicode_normalization::char::{decompose_canonical, is_combining_mark};

use super::{ENCODED, encoded};

/// What in a path two servers read differently.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Doubt {
    /// It begins with no slash, or with two: some read a host name there.
    Beginning,
    /// A backslash, which some read as a slash.
    Backslash,
    /// A byte that is no part of an address (RFC 3986 3.3), written as it is.
    Unwritten,
    /// A `%` that begins no encoding, or encodes a `%`: some decode twice.
    Percent,
    /// An encoding of something that divides or ends a path: `/ \ ? # ; :`.
    Divider,
    /// An encoding of a dot, or a `.` or `..` segment.
    Dots,
    /// A control character, which cuts the path for some.
    Control,
    /// Not UTF-8 when decoded.
    NotUtf8,
    /// A segment ends with a dot or a blank, which some file systems drop.
    Ending,
    /// A name of a stream (`::$…`), under which some file systems serve the same file.
    Stream,
    /// A short name (`…~1`), under which some file systems serve the same file.
    ShortName,
    /// A character that some fold to an ASCII one.
    LookAlike,
    /// A character that some leave out.
    Invisible,
}

impl Doubt {
    /// Every one.
    pub const ALL: [Doubt; 13] = [
        Doubt::Beginning,
        Doubt::Backslash,
        Doubt::Unwritten,
        Doubt::Percent,
        Doubt::Divider,
        Doubt::Dots,
        Doubt::Control,
        Doubt::NotUtf8,
        Doubt::Ending,
        Doubt::Stream,
        Doubt::ShortName,
        Doubt::LookAlike,
        Doubt::Invisible,
    ];

    /// The reason code of the step.
    pub fn code(self) -> &'static str {
        match self {
            Doubt::Beginning => "path-beginning",
            Doubt::Backslash => "path-backslash",
            Doubt::Unwritten => "path-unwritten",
            Doubt::Percent => "path-percent",
            Doubt::Divider => "path-divider",
            Doubt::Dots => "path-dots",
            Doubt::Control => "path-control",
            Doubt::NotUtf8 => "path-not-utf8",
            Doubt::Ending => "path-ending",
            Doubt::Stream => "path-stream",
            Doubt::ShortName => "path-short-name",
            Doubt::LookAlike => "path-look-alike",
            Doubt::Invisible => "path-invisible",
        }
    }
}

/// What in the path of a request, as sent and without its query, two servers could read differently; none where all read it alike
/// but for letter case, `;parameters`, repeated slashes and accents, which are judged in every reading.
pub fn doubt(raw: &str) -> Option<Doubt> {
    if !raw.starts_with('/') || raw.starts_with("//") {
        return Some(Doubt::Beginning);
    }
    let mut decoded = Vec::with_capacity(raw.len());
    let bytes = raw.as_bytes();
    let mut i = 0;
    while let Some(byte) = bytes.get(i) {
        match byte {
            b'\\' => return Some(Doubt::Backslash),
            b'%' => {
                let Some(byte) = encoded(bytes, i) else { return Some(Doubt::Percent) };
                i += ENCODED;
                match byte {
                    b'%' => return Some(Doubt::Percent),
                    b'/' | b'\\' | b'?' | b'#' | b';' | b':' => return Some(Doubt::Divider),
                    b'.' => return Some(Doubt::Dots),
                    b if b.is_ascii_control() => return Some(Doubt::Control),
                    b => decoded.push(b),
                }
            }
            b if b.is_ascii_control() => return Some(Doubt::Control),
            b'?' | b'#' | b' ' => return Some(Doubt::Unwritten),
            b if !b.is_ascii() => return Some(Doubt::Unwritten),
            b => {
                decoded.push(*b);
                i += 1;
            }
        }
    }
    let Ok(text) = String::from_utf8(decoded) else { return Some(Doubt::NotUtf8) };
    text.split('/').find_map(of_segment).or_else(|| text.chars().filter(|c| !c.is_ascii()).find_map(of_character))
}

/// Of a decoded segment, with what its parameters leave of it.
fn of_segment(segment: &str) -> Option<Doubt> {
    let name = segment.split(';').next().unwrap_or_default();
    if [name, segment].iter().any(|s| matches!(*s, "." | "..")) {
        Some(Doubt::Dots)
    } else if [name, segment].iter().any(|s| s.ends_with(['.', ' ', '+', '\u{a0}'])) || segment.starts_with([' ', '+']) {
        Some(Doubt::Ending)
    } else if segment.contains("::") || segment.contains(":$") {
        Some(Doubt::Stream)
    } else if is_short_name(name) {
        Some(Doubt::ShortName)
    } else {
        None
    }
}

/// Whether a name is one of eight letters and three, as file systems make them of longer names: `PUBLIC~1.HTM`.
fn is_short_name(name: &str) -> bool {
    let stem = name.split('.').next().unwrap_or_default();
    let Some((before, number)) = stem.rsplit_once('~') else { return false };
    let short = !before.is_empty() && stem.chars().count() <= 8;
    short && !number.is_empty() && number.bytes().all(|b| b.is_ascii_digit())
}

fn of_character(c: char) -> Option<Doubt> {
    if c.is_control() {
        return Some(Doubt::Control);
    }
    if is_ignorable(c) {
        return Some(Doubt::Invisible);
    }
    if is_combining_mark(c) {
        // What it is put on is judged without it.
        return None;
    }
    let cases_to_ascii = c.to_uppercase().chain(c.to_lowercase()).any(|o| o.is_ascii());
    let mut letters = String::new();
    decompose_canonical(c, |d| letters.push(d));
    // A compatibility decomposition that holds ASCII where the canonical one does not: full width letters, ligatures, ellipses.
    let folds = letters.nfkd().any(|d| d.is_ascii()) && !letters.chars().any(|d| d.is_ascii());
    (cases_to_ascii && !letters.chars().any(|d| d.is_ascii()) || folds || STANDS_FOR.contains(&c)).then_some(Doubt::LookAlike)
}

/// Characters that older code pages put in the place of ASCII ones that divide a path, or show as those.
const STANDS_FOR: &[char] = &[
    '\u{a5}', '\u{20a9}', '\u{2044}', '\u{2215}', '\u{2216}', '\u{2236}', '\u{29f5}', '\u{29f8}', '\u{29f9}', '\u{3002}',
    '\u{ff61}',
];

/// Characters that a comparison may leave out (Unicode, Default_Ignorable_Code_Point, the parts that are assigned).
fn is_ignorable(c: char) -> bool {
    matches!(u32::from(c),
        0xAD | 0x34F | 0x61C | 0x115F..=0x1160 | 0x17B4..=0x17B5 | 0x180B..=0x180F | 0x200B..=0x200F | 0x202A..=0x202E
        | 0x2060..=0x206F | 0x3164 | 0xFE00..=0xFE0F | 0xFEFF | 0xFFA0 | 0xFFF0..=0xFFF8 | 0xE0000..=0xE0FFF)
}

/// A text without accents and strokes, in lower case: as older file systems and code pages may keep it.
pub(super) fn skeleton(text: &str) -> String {
    text.nfd().filter(|c| !is_combining_mark(*c)).map(without_stroke).collect::<String>().to_lowercase()
}

/// Letters with strokes, which have no decomposition.
fn without_stroke(c: char) -> char {
    match c {
        'Đ' | 'đ' | 'Ð' | 'ð' | 'ɖ' => 'd',
        'Ħ' | 'ħ' => 'h',
        'ı' => 'i',
        'Ł' | 'ł' | 'ƚ' => 'l',
        'Ŧ' | 'ŧ' | 'ƫ' => 't',
        'Ø' | 'ø' => 'o',
        'ƀ' | 'Ƀ' | 'ɓ' => 'b',
        'ɡ' | 'Ǥ' | 'ǥ' => 'g',
        'Ɨ' | 'ɨ' => 'i',
        'Ƶ' | 'ƶ' => 'z',
        'Ⱥ' => 'a',
        'Ȼ' | 'ȼ' => 'c',
        'ŋ' | 'Ŋ' | 'ɲ' => 'n',
        c => c,
    }
}
