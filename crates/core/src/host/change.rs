//! Changes of files, line by line: what is advised can be written down, looked at as a difference, and taken or left. Nothing is
//! changed in place.

use std::collections::BTreeMap;

use super::facts::Line;

/// One change of one file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// The line becomes another.
    Replace { line: Line, to: String },
    /// The line goes.
    Remove { line: Line },
    /// A new line before this one, from 1; beyond the last, at the end.
    Insert { file: String, before: usize, text: String },
}

impl Change {
    /// The file it changes.
    pub fn file(&self) -> &str {
        match self {
            Change::Replace { line, .. } | Change::Remove { line } => &line.file,
            Change::Insert { file, .. } => file,
        }
    }

    fn at(&self) -> usize {
        match self {
            Change::Replace { line, .. } | Change::Remove { line } => line.line,
            Change::Insert { before, .. } => *before,
        }
    }

    /// The line as it will be.
    pub fn written(&self) -> String {
        match self {
            Change::Replace { to, .. } => to.clone(),
            Change::Remove { .. } => String::new(),
            Change::Insert { text, .. } => text.clone(),
        }
    }
}

/// Changes by file; of several of one line the first stands.
pub fn by_file(changes: impl IntoIterator<Item = Change>) -> BTreeMap<String, Vec<Change>> {
    let mut out: BTreeMap<String, Vec<Change>> = BTreeMap::new();
    for change in changes {
        let of = out.entry(change.file().to_owned()).or_default();
        let same_line = |c: &Change| {
            c.at() == change.at() && !matches!((c, &change), (Change::Insert { .. }, _) | (_, Change::Insert { .. }))
        };
        if !of.contains(&change) && !of.iter().any(same_line) {
            of.push(change);
        }
    }
    out
}

/// A file with changes made to it. A line that is not as it was read is left as it is.
pub fn apply(text: &str, changes: &[Change]) -> String {
    let mut lines: Vec<Vec<String>> = text.lines().map(|l| vec![l.to_owned()]).collect();
    let mut ahead: BTreeMap<usize, Vec<String>> = BTreeMap::new();
    for change in changes {
        match change {
            Change::Insert { before, text, .. } => {
                let at = (*before).clamp(1, lines.len() + 1);
                ahead.entry(at - 1).or_default().push(text.clone());
            }
            Change::Replace { line, .. } | Change::Remove { line } => {
                let Some(old) = line.line.checked_sub(1).and_then(|i| lines.get_mut(i)) else { continue };
                if old.first().is_some_and(|l| l.trim() == line.text.trim()) {
                    *old = match change {
                        Change::Replace { to, .. } => vec![to.clone()],
                        _ => vec![],
                    };
                }
            }
        }
    }
    let mut out = String::new();
    for i in 0..=lines.len() {
        for text in ahead.get(&i).into_iter().flatten().chain(lines.get(i).into_iter().flatten()) {
            out.push_str(text);
            out.push('\n');
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(n: usize, text: &str) -> Line {
        Line { file: "f".into(), line: n, text: text.into() }
    }

    #[test]
    fn lines_are_changed_and_others_stay() {
        let text = "one\n  two\nthree\n";
        let changes = [
            Change::Replace { line: line(2, "two"), to: "2".into() },
            Change::Insert { file: "f".into(), before: 1, text: "zero".into() },
            Change::Insert { file: "f".into(), before: 99, text: "four".into() },
            Change::Remove { line: line(3, "three") },
        ];
        assert_eq!(apply(text, &changes), "zero\none\n2\nfour\n");
        // A file that changed meanwhile is not changed at the wrong place.
        assert_eq!(apply("one\nother\n", &changes[..1]), "one\nother\n");
        assert_eq!(apply("", &changes[1..2]), "zero\n");
        assert_eq!(apply(text, &[]), text);
    }

    #[test]
    fn one_line_is_changed_once() {
        let a = Change::Replace { line: line(2, "two"), to: "a".into() };
        let b = Change::Replace { line: line(2, "two"), to: "b".into() };
        let c = Change::Insert { file: "f".into(), before: 2, text: "c".into() };
        assert_eq!(by_file([a.clone(), b, c.clone(), c.clone()])["f"], [a, c]);
    }
}
