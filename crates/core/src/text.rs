//! Text from outside, made safe to look at. Terminal output, CSV cells and log lines all pass here.

/// Whether a character could move a cursor, hide text or reorder it: control characters, bidirectional controls
/// (Unicode UAX 9), invisible separators and tags.
fn is_unsafe(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{061C}' | '\u{200B}'..='\u{200F}' | '\u{2028}'..='\u{202E}' | '\u{2060}'..='\u{2069}' | '\u{FEFF}' | '\u{FFF9}'..='\u{FFFB}' | '\u{E0000}'..='\u{E007F}')
}

/// The text with every unsafe character shown as `\u{…}`.
pub fn visible(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if is_unsafe(c) { out.extend(c.escape_unicode()) } else { out.push(c) }
    }
    out
}

/// Whether a text is a token (RFC 9110 5.6.2), as every header name is.
pub fn is_token(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|b| b.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&b))
}

/// One CSV cell (RFC 4180), quoted always; a cell that a spreadsheet would run as a formula is led by an apostrophe.
pub fn csv_cell(text: &str) -> String {
    let guard = if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { "'" } else { "" };
    format!("\"{guard}{}\"", visible(text).replace('"', "\"\""))
}

/// The text with U+FFFD in the place of U+0000: no text of the store can hold that one, and nobody's name needs it.
pub fn storable(text: &str) -> String {
    text.replace('\0', "\u{FFFD}")
}

/// At most `max` characters, with an ellipsis where something was cut. A zero character, which the store could not hold, is shown as
/// one that is missing.
pub fn shorten(text: &str, max: usize) -> String {
    let whole = text.chars().count() <= max;
    let kept = if whole { max } else { max.saturating_sub(1) };
    let mut out = storable(&text.chars().take(kept).collect::<String>());
    if !whole {
        out.push('…');
    }
    out
}

/// The innermost cause of an error in words: the outer ones repeat what is known, and may hold parameters.
pub fn innermost(e: &dyn std::error::Error) -> String {
    let mut cause = e;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    cause.to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_that_moves_a_cursor_or_reorders_text_passes() {
        assert_eq!(visible("a\x1b[2Jb"), "a\\u{1b}[2Jb");
        assert_eq!(visible("pay\u{202E}gpj"), "pay\\u{202e}gpj");
        assert_eq!(visible("Élodie Kœnig 港"), "Élodie Kœnig 港");
        assert_eq!(visible("a\nb\u{9b}31m"), "a\\u{a}b\\u{9b}31m");
    }

    #[test]
    fn csv_cells_are_quoted_and_no_formula() {
        assert_eq!(csv_cell("=1+1"), "\"'=1+1\"");
        assert_eq!(csv_cell("a\"b,c"), "\"a\"\"b,c\"");
        assert_eq!(csv_cell("-x"), "\"'-x\"");
    }

    #[test]
    fn shortening_counts_characters() {
        assert_eq!(shorten("épée", 4), "épée");
        assert_eq!(shorten("épées", 4), "épé…");
        assert_eq!(shorten("a\0b", 4), "a\u{fffd}b");
    }
}
