//! What a document would cost, counted before anything is parsed. The parser compares each attribute of an element with every
//! other one of it, and each prefix with every declaration in scope; what is read afterwards looks at every node. One pass over the
//! bytes bounds all of them, in time that grows with the length alone.

use super::xml::BadXml;

/// The most attributes of one element, declarations of namespaces among them. Metadata of the largest providers has a dozen.
pub const ATTRIBUTES_MAX: usize = 64;
/// The most attributes of a document.
pub const ATTRIBUTES_IN_ALL_MAX: usize = 30_000;
/// The most declarations of namespaces in scope at any element.
pub const SCOPE_MAX: usize = 128;
/// How deep elements may nest.
pub const DEPTH_MAX: usize = 64;
/// The most pieces of markup: tags, comments, sections.
pub const MARKUP_MAX: usize = 40_000;

/// Counts the markup of a document.
///
/// # Errors
/// The first bound that it passes.
pub fn scan(text: &str) -> Result<(), BadXml> {
    let mut all = Counts::default();
    let mut rest = text;
    while let Some(at) = rest.find('<') {
        rest = &rest[at..];
        all.markup += 1;
        if all.markup > MARKUP_MAX {
            return Err(BadXml::TooMany);
        }
        let end = match () {
            () if rest.starts_with("<!--") => after(rest, 4, "-->"),
            () if rest.starts_with("<![CDATA[") => after(rest, 9, "]]>"),
            () if rest.starts_with("<?") => after(rest, 2, "?>"),
            // Document types are refused by whoever reads on.
            () if rest.starts_with("<!") => after(rest, 2, ">"),
            () if rest.starts_with("</") => {
                all.leave();
                after(rest, 2, ">")
            }
            () => all.enter(rest)?,
        };
        // What has no end is refused by the parser, in its own words.
        let Some(next) = rest.get(end..) else { return Ok(()) };
        rest = next;
    }
    Ok(())
}

/// Where markup ends that begins at the front of `text` and is closed by `close`.
fn after(text: &str, from: usize, close: &str) -> usize {
    text.get(from..).and_then(|t| t.find(close)).map_or(text.len(), |i| from + i + close.len())
}

#[derive(Default)]
struct Counts {
    markup: usize,
    attributes: usize,
    /// Declarations of each element that is open, and their sum.
    open: Vec<usize>,
    in_scope: usize,
}

impl Counts {
    fn leave(&mut self) {
        self.in_scope -= self.open.pop().unwrap_or_default();
    }

    /// Counts the attributes of the tag at the front of `text`, and gives where the tag ends.
    fn enter(&mut self, text: &str) -> Result<usize, BadXml> {
        let bytes = text.as_bytes();
        let (mut quote, mut word, mut attributes, mut declared) = (None, 1, 0, 0);
        let mut end = bytes.len();
        for (i, b) in bytes.iter().enumerate().skip(1) {
            match (quote, b) {
                (Some(q), b) if q == *b => (quote, word) = (None, i + 1),
                (Some(_), _) => {}
                (None, b'"' | b'\'') => quote = Some(*b),
                (None, b'=') => {
                    attributes += 1;
                    declared += usize::from(text.get(word..i).is_some_and(|name| name.trim_start().starts_with("xmlns")));
                    if attributes > ATTRIBUTES_MAX {
                        return Err(BadXml::TooManyAttributes);
                    }
                }
                (None, b'>') => {
                    end = i + 1;
                    break;
                }
                (None, b' ' | b'\t' | b'\r' | b'\n')
                    if !bytes[i + 1..].first().is_some_and(|n| n.is_ascii_whitespace() || *n == b'=') =>
                {
                    word = i + 1;
                }
                (None, _) => {}
            }
        }
        self.attributes += attributes;
        if self.attributes > ATTRIBUTES_IN_ALL_MAX {
            return Err(BadXml::TooManyAttributes);
        }
        if self.in_scope + declared > SCOPE_MAX {
            return Err(BadXml::TooManyNamespaces);
        }
        let empty = end >= 2 && bytes.get(end - 2) == Some(&b'/');
        if !empty {
            self.open.push(declared);
            self.in_scope += declared;
            if self.open.len() > DEPTH_MAX {
                return Err(BadXml::TooDeep);
            }
        }
        Ok(end)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn attributes(n: usize, name: &str) -> String {
        (0..n).map(|i| format!(" {name}{i}=\"x\"")).collect()
    }

    #[test]
    fn what_costs_too_much_is_refused_before_it_is_parsed() {
        let deep = |n: usize| "<a>".repeat(n) + &"</a>".repeat(n);
        for (text, wanted) in [
            (format!("<a{}/>", attributes(64, "b")), Ok(())),
            (format!("<a{}/>", attributes(65, "b")), Err(BadXml::TooManyAttributes)),
            // Tabs, line ends and none at all are as good as blanks, and a value may hold what ends a tag.
            (format!("<a{}/>", attributes(65, "b").replace(' ', "\n")), Err(BadXml::TooManyAttributes)),
            (format!("<a{}/>", attributes(65, "b").replace(" b", "b")), Err(BadXml::TooManyAttributes)),
            (format!("<a c='>' d=\"/>\"{}/>", attributes(63, "b")), Err(BadXml::TooManyAttributes)),
            (format!("<a{}/>", attributes(65, "b").replace('=', " = ")), Err(BadXml::TooManyAttributes)),
            (format!("<r>{}</r>", format!("<a{}/>", attributes(60, "b")).repeat(500)), Ok(())),
            (format!("<r>{}</r>", format!("<a{}/>", attributes(60, "b")).repeat(501)), Err(BadXml::TooManyAttributes)),
            (format!("<a{}><c{}/></a>", attributes(60, "xmlns:b"), attributes(60, "xmlns:d")), Ok(())),
            (
                format!("<a{0}><c{0}><e{0}/></c></a>", attributes(60, "xmlns:b").replace('=', "\n=")),
                Err(BadXml::TooManyNamespaces),
            ),
            // Beside each other they do not add up.
            (format!("<a>{}</a>", format!("<c{}></c>", attributes(60, "xmlns:d")).repeat(40)), Ok(())),
            (deep(64), Ok(())),
            (deep(65), Err(BadXml::TooDeep)),
            ("<a/>".repeat(40_000), Ok(())),
            ("<a/>".repeat(40_001), Err(BadXml::TooMany)),
            ("<![CDATA[<a>]]>".repeat(40_001), Err(BadXml::TooMany)),
            (format!("<a><![CDATA[<b{}>]]><!-- <b{} --></a>", attributes(99, "c"), attributes(99, "c")), Ok(())),
            ("<a b=\"".to_owned(), Ok(())),
            ("<".to_owned(), Ok(())),
            ("<é è=\"à\">ô</é>".to_owned(), Ok(())),
            (String::new(), Ok(())),
        ] {
            assert_eq!(scan(&text), wanted, "{}…", text.chars().take(60).collect::<String>());
        }
    }
}
