//! What a mapping does to values, one after the other. A transform that leaves nothing is the reason for the absence, told
//! as it stands in the site file.

use std::collections::HashMap;

use aws_lc_rs::hmac;
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;

use crate::attribute::{Absence, Attribute};
use crate::condition::Pattern;
use crate::delivery::Piece;
use crate::identity::Identity;
use crate::site::{AttributeId, Site};

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

impl Affix {
    fn cut<'a>(&self, value: &'a str) -> Option<(&'a str, &'a str)> {
        if self.last { value.rsplit_once(&*self.separator) } else { value.split_once(&*self.separator) }
    }

    fn part(&self, value: String, after: bool) -> Option<String> {
        match self.cut(&value) {
            Some((a, b)) => Some(if after { b } else { a }.to_owned()),
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

    /// The values that are left. An error is an absence of its own; nothing left is this transform's doing.
    pub(super) fn apply(&self, site: &Site, who: &Identity, values: Vec<String>) -> Result<Vec<String>, Absence> {
        fn each(values: Vec<String>, f: impl Fn(String) -> Option<String>) -> Vec<String> {
            values.into_iter().filter_map(f).collect()
        }
        let out = match self {
            Transform::Choose(choice) => match choice {
                Choice::First => values.into_iter().take(1).collect(),
                Choice::Last => values.into_iter().next_back().into_iter().collect(),
                Choice::Nth(n) => n.checked_sub(1).and_then(|i| values.into_iter().nth(i)).into_iter().collect(),
            },
            Transform::Join(by) => vec![values.join(by)],
            Transform::Split(at) => values.iter().flat_map(|v| v.split(&**at)).map(|p| p.trim().to_owned()).collect(),
            Transform::Case(Case::Lower) => each(values, |v| Some(v.to_lowercase())),
            Transform::Case(Case::Upper) => each(values, |v| Some(v.to_uppercase())),
            Transform::Before(a) => each(values, |v| a.part(v, false)),
            Transform::After(a) => each(values, |v| a.part(v, true)),
            Transform::Keep(p) => each(values, |v| p.matches(&v).then_some(v)),
            Transform::Drop(p) => each(values, |v| (!p.matches(&v)).then_some(v)),
            Transform::Table { rows, without, .. } => each(values, |v| match rows.get(&v) {
                Some(to) => Some(to.clone()),
                None => (*without == Without::Keep).then_some(v),
            }),
            Transform::Format { pieces, .. } => formatted(who, pieces, &values)?,
            Transform::Hash { secret, sector } => {
                let salt = site.salts.get(secret).ok_or_else(|| Absence::Unsafe { why: "no-secret".to_owned() })?;
                let key = hmac::Key::new(hmac::HMAC_SHA256, salt);
                each(values, |v| {
                    let mut context = hmac::Context::with_key(&key);
                    for part in [b"passeur pairwise".as_slice(), sector.as_bytes(), v.as_bytes()] {
                        context.update(&(part.len() as u64).to_be_bytes());
                        context.update(part);
                    }
                    Some(URL_SAFE_NO_PAD.encode(context.sign()))
                })
            }
            Transform::Part(kind) => each(values, |v| crate::dn::rdn(&v, kind)),
            Transform::Distinct => {
                let mut seen = std::collections::HashSet::new();
                values.into_iter().filter(|v| seen.insert(v.clone())).collect()
            }
        };
        Ok(out.into_iter().filter(|v| !v.trim().is_empty()).collect())
    }
}

fn formatted(who: &Identity, pieces: &[Option<Piece>], values: &[String]) -> Result<Vec<String>, Absence> {
    let mut around = vec![];
    for p in pieces {
        around.push(match p {
            None => None,
            Some(Piece::Text(t)) => Some(t.clone()),
            Some(Piece::Attribute(id)) => match who.attribute(*id) {
                Attribute::Present { values, .. } => Some(values.join(" ")),
                Attribute::Absent { absence, .. } if absence.is_unknown() => return Err(absence.clone()),
                Attribute::Absent { .. } => return Ok(vec![]),
            },
        });
    }
    // One text for all values where the value itself is not asked for.
    let one = [String::new()];
    let values = if pieces.iter().any(Option::is_none) { values } else { &one };
    let longest = crate::delivery::VALUE_MAX;
    let mut out = Vec::with_capacity(values.len());
    for v in values {
        let mut text = String::new();
        for piece in &around {
            text.push_str(piece.as_deref().unwrap_or(v));
            if text.len() > longest {
                return Err(Absence::Unsafe { why: "too-long".to_owned() });
            }
        }
        out.push(text);
    }
    Ok(out)
}
