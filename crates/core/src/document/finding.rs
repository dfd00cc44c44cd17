//! What is wrong with a document: where, what, and how to mend it.

use serde::{Deserialize, Serialize};

/// Whether a finding prevents publishing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    Error,
    Warning,
}

impl Severity {
    /// A stable code.
    pub fn code(self) -> &'static str {
        match self {
            Severity::Error => "error",
            Severity::Warning => "warning",
        }
    }
}

/// One mistake, or one thing worth a second look.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    pub severity: Severity,
    /// From 1; 0 where no line can be named.
    pub line: usize,
    /// The place in the document, such as `gate berths › rule 2 › when`.
    pub place: String,
    pub what: String,
    pub remedy: String,
}

impl std::fmt::Display for Finding {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let sev = self.severity.code();
        write!(f, "line {}: {sev}: {}: {}\n    {}", self.line, self.place, self.what, self.remedy)
    }
}

/// The most similar of the known words, if any is close enough to have been meant.
pub(crate) fn nearest<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    known
        .into_iter()
        .map(|k| (distance(word, k), k))
        .filter(|(d, k)| *d <= 1 + k.len() / 4)
        .min_by_key(|(d, _)| *d)
        .map(|(_, k)| k)
}

fn distance(a: &str, b: &str) -> usize {
    let b: Vec<char> = b.chars().collect();
    let mut row: Vec<usize> = (0..=b.len()).collect();
    for (i, ca) in a.chars().take(64).enumerate() {
        let mut diagonal = row[0];
        row[0] = i + 1;
        for (j, cb) in b.iter().enumerate() {
            let cost = diagonal + usize::from(ca != *cb);
            diagonal = row[j + 1];
            row[j + 1] = cost.min(row[j] + 1).min(diagonal + 1);
        }
    }
    row[b.len()]
}

/// The most similar of several names, if any is close enough to have been meant.
pub(crate) fn nearest_word<'a>(word: &str, known: &'a [String]) -> Option<&'a str> {
    nearest(word, known.iter().map(String::as_str))
}

#[cfg(test)]
mod tests {
    #[test]
    fn a_misspelt_word_finds_the_meant_one() {
        assert_eq!(super::nearest("upsteam", ["upstream", "address"]), Some("upstream"));
        assert_eq!(super::nearest("colour", ["upstream", "address"]), None);
    }
}
