//! Principals (RFC 4120 6): a name of one or more components, and a realm.

use std::fmt;

/// The longest text that is read as a principal, in bytes.
const TEXT_MAX: usize = 1024;

/// A principal.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Principal {
    pub components: Vec<String>,
    pub realm: String,
}

impl Principal {
    /// Reads `name/instance@REALM`, with `\` before a character that would separate (RFC 1964 2.1.1). None where the realm is
    /// missing, a part is empty, or it holds a control character.
    pub fn parse(text: &str) -> Option<Principal> {
        if text.len() > TEXT_MAX || text.chars().any(char::is_control) {
            return None;
        }
        let (mut components, mut part, mut realm) = (vec![], String::new(), None::<String>);
        let mut chars = text.chars();
        while let Some(c) = chars.next() {
            let c = match c {
                // Escapes that stand for control characters stand for nothing that is taken.
                '\\' => chars.next().filter(|c| !matches!(c, 'n' | 't' | 'b' | '0'))?,
                '/' if realm.is_none() => {
                    components.push(std::mem::take(&mut part));
                    continue;
                }
                '@' if realm.is_none() => {
                    components.push(std::mem::take(&mut part));
                    realm = Some(String::new());
                    continue;
                }
                '@' => return None,
                c => c,
            };
            realm.as_mut().unwrap_or(&mut part).push(c);
        }
        let realm = realm.filter(|r| !r.is_empty())?;
        components.iter().all(|c| !c.is_empty()).then_some(Principal { components, realm })
    }

    /// The host of a service; none where it is no `service/host`.
    pub fn host(&self) -> Option<&str> {
        match self.components.as_slice() {
            [_, host] => Some(host),
            _ => None,
        }
    }

    /// The name without its realm, escaped.
    pub fn name(&self) -> String {
        self.components.iter().map(|c| escaped(c, &['/'])).collect::<Vec<_>>().join("/")
    }
}

impl fmt::Display for Principal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}@{}", self.name(), escaped(&self.realm, &[]))
    }
}

/// A part with backslashes before what would be read as more than a character of it, and before `besides`.
fn escaped(part: &str, besides: &[char]) -> String {
    let mut out = String::with_capacity(part.len());
    for c in part.chars() {
        if c == '\\' || c == '@' || besides.contains(&c) {
            out.push('\\');
        }
        out.push(if c.is_control() { '\u{fffd}' } else { c });
    }
    out
}
