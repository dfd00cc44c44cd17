//! Lines of a configuration: keyword and arguments, the blocks they stand in, and files that are included.

use super::Login;
use super::pattern::{matches, matches_address};
pub use crate::Place;

const DEPTH_MAX: usize = 16;
const LINES_MAX: usize = 20_000;
/// The most files, counted as often as they are included: sixteen of them that include each other would be opened for hours.
const FILES_MAX: usize = 500;

/// One line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Item {
    pub place: Place,
    /// In lower case.
    pub keyword: String,
    pub arguments: Vec<String>,
    /// As it is written, without what stands before and after.
    pub written: String,
    /// Blocks that it stands in; all must hold for it to count.
    pub within: Vec<Condition>,
}

impl Item {
    /// Its only argument, or the first of several.
    pub fn value(&self) -> &str {
        self.arguments.first().map_or("", String::as_str)
    }
}

/// When a block counts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Condition {
    pub place: Place,
    pub written: String,
    kind: Kind,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Kind {
    /// `Host`: patterns, of which one must and none with `!` may mean the host.
    Host(Vec<String>),
    /// `Match`: criteria with what each names, all of which must hold.
    Match(Vec<(String, String)>),
}

impl Condition {
    /// Whether it holds; none where that is not known from here.
    pub fn holds(&self, asked: &Login) -> Option<bool> {
        let host = asked.host.as_deref();
        match &self.kind {
            Kind::Host(patterns) => host.map(|h| matches(&patterns.join(","), h)),
            Kind::Match(criteria) => {
                let mut known = true;
                for (name, value) in criteria {
                    let (negated, name) = name.strip_prefix('!').map_or((false, name.as_str()), |n| (true, n));
                    let one = match name {
                        "all" => Some(true),
                        "user" => Some(matches(value, &asked.user)),
                        "group" => Some(group_matches(value, &asked.groups)),
                        "host" | "originalhost" => host.map(|h| matches(value, h)),
                        "address" => asked.address.as_deref().and_then(|a| matches_address(value, a)),
                        // What a program or the network says is not known from files.
                        _ => None,
                    };
                    match one {
                        Some(held) if held == negated => return Some(false),
                        Some(_) => {}
                        None => known = false,
                    }
                }
                known.then_some(true)
            }
        }
    }
}

/// Of several groups one must be meant, and none that is not.
fn group_matches(list: &str, groups: &[String]) -> bool {
    let refused = list.split(',').filter_map(|p| p.strip_prefix('!')).any(|p| groups.iter().any(|g| matches(p, g)));
    !refused && groups.iter().any(|g| matches(list, g))
}

/// All that is read.
#[derive(Clone, Debug, Default)]
pub struct Lines {
    pub items: Vec<Item>,
    /// Files in the order in which they were read.
    pub files: Vec<String>,
    /// What could not be read, and where it is asked for.
    pub troubles: Vec<(Place, String)>,
    /// Lines so far.
    lines: usize,
}

/// Opens what a line includes, by a path or pattern: files, each with its name and text.
pub type Open<'o> = dyn FnMut(&str) -> Vec<(String, String)> + 'o;

impl Lines {
    /// Reads files in order, and what they include. A block of one ends with it.
    pub fn read(files: &[(String, String)], open: &mut Open<'_>) -> Lines {
        let mut out = Lines::default();
        for (name, text) in files {
            out.file(name, text, open, &[], 0);
        }
        out
    }

    /// Notes once that not all is read.
    fn too_many(&mut self, place: Place, words: &str) {
        if !self.troubles.iter().any(|(_, w)| w == words) {
            self.troubles.push((place, words.to_owned()));
        }
    }

    fn file(&mut self, name: &str, text: &str, open: &mut Open<'_>, around: &[Condition], depth: usize) {
        self.files.push(name.to_owned());
        let mut within: Vec<Condition> = around.to_vec();
        for (i, line) in text.lines().enumerate() {
            let place = Place { file: name.to_owned(), line: i + 1 };
            self.lines += 1;
            if self.lines > LINES_MAX {
                return self.too_many(place, "there are more lines than can be read");
            }
            let written = line.trim();
            let mut arguments = match words(written) {
                Some(w) if w.is_empty() => continue,
                Some(w) => w,
                None => {
                    self.troubles.push((place, "a quotation does not end".to_owned()));
                    continue;
                }
            };
            let keyword = arguments.remove(0).to_ascii_lowercase();
            let condition = |kind| Condition { place: place.clone(), written: written.to_owned(), kind };
            match keyword.as_str() {
                "host" => {
                    within.truncate(around.len());
                    within.push(condition(Kind::Host(arguments)));
                }
                "match" => {
                    within.truncate(around.len());
                    within.push(condition(Kind::Match(criteria(&arguments))));
                }
                "include" if depth >= DEPTH_MAX => self.too_many(place, "files include each other without an end"),
                "include" => {
                    for pattern in &arguments {
                        if self.files.len() >= FILES_MAX {
                            self.too_many(place.clone(), "there are more files than can be read");
                            break;
                        }
                        for (file, text) in open(pattern) {
                            self.file(&file, &text, open, &within, depth + 1);
                        }
                    }
                }
                _ => {
                    self.items.push(Item { place, keyword, arguments, written: written.to_owned(), within: within.clone() });
                }
            }
        }
    }
}

fn criteria(words: &[String]) -> Vec<(String, String)> {
    let mut out = vec![];
    let mut rest = words.iter();
    while let Some(word) = rest.next() {
        let (name, value) = match word.split_once('=') {
            Some((name, value)) => (name.to_owned(), Some(value.to_owned())),
            None => (word.clone(), None),
        };
        let name = name.to_ascii_lowercase();
        let alone = matches!(name.trim_start_matches('!'), "all" | "canonical" | "final");
        let value = value.or_else(|| if alone { None } else { rest.next().cloned() }).unwrap_or_default();
        out.push((name, value));
    }
    out
}

/// Keyword and arguments of a line: blanks part them, after the keyword also one `=`; quotes hold blanks; `#` begins a comment.
/// None where a quotation does not end.
fn words(line: &str) -> Option<Vec<String>> {
    let mut out: Vec<String> = vec![];
    let mut rest = line;
    loop {
        rest = rest.trim_start();
        if out.len() == 1 {
            rest = rest.strip_prefix('=').map_or(rest, str::trim_start);
        }
        if rest.is_empty() || rest.starts_with('#') {
            return Some(out);
        }
        if let Some(quoted) = rest.strip_prefix('"') {
            let (word, after) = quoted.split_once('"')?;
            out.push(word.to_owned());
            rest = after;
            continue;
        }
        let first = out.is_empty();
        let end = rest.find(|c: char| c.is_whitespace() || (first && c == '=')).unwrap_or(rest.len());
        out.push(rest[..end].to_owned());
        rest = &rest[end..];
    }
}
