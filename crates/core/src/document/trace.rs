//! What a reading asked for: which keys of which tables, and what shape each has. The schema and the reference are made of it.

use std::collections::{BTreeMap, BTreeSet};

/// What a key may hold.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Shape {
    Text,
    /// Text that must be there.
    Needed,
    Flag {
        default: bool,
    },
    Number {
        default: Option<i64>,
        min: i64,
        max: i64,
    },
    AnyNumber,
    Duration {
        default: Option<String>,
        min: String,
        max: String,
    },
    Texts,
    Choice {
        words: Vec<String>,
        default: Option<String>,
    },
    /// A table of this kind.
    Table(String),
    Tables(String),
}

/// What was asked of each kind of table.
#[derive(Debug, Default)]
pub(crate) struct Trace {
    /// By kind, keys in the order in which they were first asked for.
    pub(super) kinds: BTreeMap<String, Vec<(&'static str, BTreeSet<Shape>)>>,
    /// Kinds that are the same wherever they stand, by where they stand.
    same: BTreeMap<String, String>,
}

impl Trace {
    fn entry(&mut self, kind: &str, key: &'static str) -> &mut BTreeSet<Shape> {
        let keys = self.kinds.entry(kind.to_owned()).or_default();
        let at = keys.iter().position(|(k, _)| *k == key).unwrap_or_else(|| {
            keys.push((key, BTreeSet::new()));
            keys.len() - 1
        });
        &mut keys[at].1
    }

    pub(crate) fn known(&mut self, kind: &str, key: &'static str) {
        self.entry(kind, key);
    }

    pub(crate) fn note(&mut self, kind: &str, key: &'static str, shape: Shape) {
        self.entry(kind, key).insert(shape);
    }

    pub(crate) fn is_kind(&mut self, place: &str, name: &str) {
        if place != name {
            self.same.insert(place.to_owned(), name.to_owned());
        }
    }

    pub(super) fn kind<'a>(&'a self, kind: &'a str) -> &'a str {
        self.same.get(kind).map_or(kind, String::as_str)
    }
}
