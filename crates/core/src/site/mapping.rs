//! Attributes that are made from others: what the site file says of them. They are made in [`crate::mapping`].

use super::attribute_id::AttributeId;
use super::comparison::Pattern;
use super::delivery::Piece;
use std::collections::{BTreeMap, HashMap};

/// One attribute that is made.
#[derive(Clone, Debug)]
pub struct Mapping {
    pub attribute: AttributeId,
    pub source: Source,
    pub transforms: Vec<Transform>,
    /// The value when the source is known to have none, or none is left.
    pub otherwise: Option<String>,
    /// Whether it needs what the rules give, directly or through another mapping.
    pub after_rules: bool,
}

/// What a mapping begins with.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Source {
    /// The first of these attributes that is present.
    FirstOf(Vec<AttributeId>),
    /// The values of all of these that are present, in order.
    AllOf(Vec<AttributeId>),
    GroupNames,
    /// Distinguished names of groups (RFC 4514).
    GroupDns,
    Roles,
    /// A value that a rule gives, by its name.
    Given(String),
}

impl Mapping {
    /// Every attribute it looks at.
    pub fn attributes(&self) -> Vec<AttributeId> {
        let mut out = match &self.source {
            Source::FirstOf(ids) | Source::AllOf(ids) => ids.clone(),
            _ => vec![],
        };
        out.extend(self.transforms.iter().flat_map(Transform::attributes));
        out
    }

    /// Whether it looks at groups.
    pub fn groups(&self) -> bool {
        matches!(self.source, Source::GroupNames | Source::GroupDns)
    }
}

/// Secrets by which identifiers are made pairwise. They come from the store, never from the document, and are not shown.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct Salts(BTreeMap<String, Vec<u8>>);

impl Salts {
    /// From names and values.
    pub fn new(all: impl IntoIterator<Item = (String, Vec<u8>)>) -> Salts {
        Salts(all.into_iter().filter(|(_, v)| !v.is_empty()).collect())
    }

    pub(crate) fn get(&self, name: &str) -> Option<&[u8]> {
        self.0.get(name).map(Vec::as_slice)
    }
}

impl std::fmt::Debug for Salts {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_set().entries(self.0.keys()).finish()
    }
}

/// One change of the values.
#[derive(Clone, Debug, PartialEq)]
pub enum Transform {
    /// One of several values.
    Choose(Choice),
    /// All values in one text, with this between them.
    Join(String),
    /// Each value cut at this; blanks around the parts and empty parts are dropped.
    Split(String),
    Case(Case),
    /// The part before a separator.
    Before(Affix),
    /// The part after it.
    After(Affix),
    /// Only values that match as a whole.
    Keep(Pattern),
    /// Only values that do not.
    Drop(Pattern),
    /// What a table gives for a value. The name, where it is one of the site's tables.
    Table {
        name: Option<String>,
        rows: HashMap<String, String>,
        without: Without,
    },
    /// Each value set in text, among other attributes; no piece stands for the value itself.
    Format {
        text: String,
        pieces: Vec<Option<Piece>>,
    },
    /// A pairwise identifier (OpenID Connect Core 8.1): a keyed hash of the value for one sector.
    Hash {
        secret: String,
        sector: String,
    },
    /// The value of the first relative distinguished name of this type (RFC 4514).
    Part(String),
    /// Each value once.
    Distinct,
}

/// Which value to choose.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Choice {
    First,
    Last,
    /// From 1.
    Nth(usize),
}

/// How letters are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Case {
    Lower,
    Upper,
}

/// What becomes of a value that has no separator, or stands in no table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Without {
    Drop,
    Keep,
}

/// A separator, and which one counts when there are several.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Affix {
    pub separator: String,
    pub last: bool,
    pub without: Without,
}

/// What is kept of a value that is cut in two.
#[derive(Clone, Copy)]
pub(crate) enum Side {
    Before,
    After,
}

impl Affix {
    pub(crate) fn cut<'a>(&self, value: &'a str) -> Option<(&'a str, &'a str)> {
        if self.last { value.rsplit_once(&*self.separator) } else { value.split_once(&*self.separator) }
    }

    pub(crate) fn part(&self, value: String, side: Side) -> Option<String> {
        match self.cut(&value) {
            Some((a, b)) => Some(match side {
                Side::Before => a.to_owned(),
                Side::After => b.to_owned(),
            }),
            None if self.without == Without::Keep => Some(value),
            None => None,
        }
    }

    fn text(&self, key: &str) -> String {
        let last = if self.last { ", last = true" } else { "" };
        let keep = if self.without == Without::Keep { ", without = \"keep\"" } else { "" };
        format!("{key} = {:?}{last}{keep}", self.separator)
    }
}

impl Transform {
    /// Every attribute it looks at.
    pub(super) fn attributes(&self) -> Vec<AttributeId> {
        match self {
            Transform::Format { pieces, .. } => pieces.iter().flatten().filter_map(Piece::attribute).collect(),
            _ => vec![],
        }
    }

    /// As it stands in the site file, in short.
    pub fn text(&self) -> String {
        match self {
            Transform::Choose(Choice::First) => "choose = \"first\"".to_owned(),
            Transform::Choose(Choice::Last) => "choose = \"last\"".to_owned(),
            Transform::Choose(Choice::Nth(n)) => format!("choose = {n}"),
            Transform::Join(by) => format!("join = {by:?}"),
            Transform::Split(at) => format!("split = {at:?}"),
            Transform::Case(Case::Lower) => "case = \"lower\"".to_owned(),
            Transform::Case(Case::Upper) => "case = \"upper\"".to_owned(),
            Transform::Before(a) => a.text("before"),
            Transform::After(a) => a.text("after"),
            Transform::Keep(p) => format!("keep = {:?}", p.text()),
            Transform::Drop(p) => format!("drop = {:?}", p.text()),
            Transform::Table { name: Some(name), .. } => format!("table = {name:?}"),
            Transform::Table { name: None, rows, .. } => format!("table of {}", rows.len()),
            Transform::Format { text, .. } => format!("format = {text:?}"),
            Transform::Hash { sector, .. } => format!("hash for {sector}"),
            Transform::Part(of) => format!("part = {of:?}"),
            Transform::Distinct => "distinct = true".to_owned(),
        }
    }
}
