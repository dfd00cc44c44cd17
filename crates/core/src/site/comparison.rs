//! What values of an attribute are compared with.

use std::cmp::Ordering;

use chrono::{DateTime, NaiveDateTime};
use regex::{Regex, RegexBuilder};

use super::condition::{Truth, truth};
use crate::Moment;

/// The longest pattern, in bytes, and the largest program it may become.
pub(crate) const PATTERN_MAX: usize = 500;
const PROGRAM_MAX: usize = 256 * 1024;

/// A regular expression over a whole value. It takes linear time whatever the value is.
#[derive(Clone, Debug)]
pub struct Pattern {
    text: String,
    compiled: Regex,
}

impl PartialEq for Pattern {
    fn eq(&self, other: &Pattern) -> bool {
        self.text == other.text
    }
}

impl Pattern {
    /// Compiles a pattern; the error says what is wrong, in a line.
    pub fn new(text: &str) -> Result<Pattern, String> {
        if text.len() > PATTERN_MAX {
            return Err(format!("it is longer than {PATTERN_MAX} bytes"));
        }
        let whole = format!("^(?:{text})$");
        let compiled = RegexBuilder::new(&whole).size_limit(PROGRAM_MAX).dfa_size_limit(PROGRAM_MAX).build();
        let compiled = compiled.map_err(|e| e.to_string().lines().last().unwrap_or_default().trim().to_owned())?;
        Ok(Pattern { text: text.to_owned(), compiled })
    }

    /// Whether a whole value matches.
    pub fn matches(&self, value: &str) -> bool {
        self.compiled.is_match(value)
    }

    /// As it was written.
    pub fn text(&self) -> &str {
        &self.text
    }
}

/// Which side of a value another must lie on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Order {
    AtLeast,
    MoreThan,
    AtMost,
    LessThan,
}

impl Order {
    fn holds(self, o: Ordering) -> bool {
        match self {
            Order::AtLeast => o != Ordering::Less,
            Order::MoreThan => o == Ordering::Greater,
            Order::AtMost => o != Ordering::Greater,
            Order::LessThan => o == Ordering::Less,
        }
    }

    /// The sign that says it.
    pub fn sign(self) -> &'static str {
        match self {
            Order::AtLeast => "≥",
            Order::MoreThan => ">",
            Order::AtMost => "≤",
            Order::LessThan => "<",
        }
    }
}

/// A version: numbers parted by points.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Version(Vec<u64>);

impl Version {
    /// Reads `10.2.1`, with or without a `v` before it. Zeros at the end count nothing.
    pub fn parse(text: &str) -> Option<Version> {
        let text = text.trim();
        let text = text.strip_prefix(['v', 'V']).unwrap_or(text);
        let mut parts = text.split('.').map(|p| p.parse().ok()).collect::<Option<Vec<u64>>>()?;
        while parts.last() == Some(&0) {
            parts.pop();
        }
        (parts.len() <= 16).then_some(Version(parts))
    }
}

impl std::fmt::Display for Version {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0.iter().map(ToString::to_string).collect::<Vec<_>>().join("."))
    }
}

/// What a value is compared with.
#[derive(Clone, Debug, PartialEq)]
pub enum Compared {
    Number(f64),
    Version(Version),
    Time(Moment),
    /// The moment of the request.
    Now,
}

impl std::fmt::Display for Compared {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Compared::Number(n) => write!(f, "{n}"),
            Compared::Version(v) => v.fmt(f),
            Compared::Time(t) => f.write_str(&t.format("%Y-%m-%dT%H:%M:%SZ").to_string()),
            Compared::Now => f.write_str("now"),
        }
    }
}

/// A test of an attribute's values; one that passes is enough.
#[derive(Clone, Debug, PartialEq)]
pub enum Test {
    /// Equals one of these, exactly.
    OneOf(Vec<String>),
    StartsWith(Vec<String>),
    EndsWith(Vec<String>),
    Matches(Pattern),
    Compared(Order, Compared),
}

/// Reads a moment: RFC 3339, a directory's GeneralizedTime (RFC 4517 3.3.13), or seconds since 1970.
fn moment(text: &str) -> Option<Moment> {
    let text = text.trim();
    if let Ok(t) = DateTime::parse_from_rfc3339(text) {
        return Some(t.to_utc());
    }
    if let Some(z) = text.strip_suffix('Z') {
        let whole = z.split('.').next()?;
        if whole.len() == 14 {
            return NaiveDateTime::parse_from_str(whole, "%Y%m%d%H%M%S").ok().map(|t| t.and_utc());
        }
    }
    DateTime::from_timestamp(text.parse::<i64>().ok()?, 0)
}

impl Test {
    pub(crate) fn judge(&self, values: &[String], now: Moment) -> Truth {
        let any = |test: &dyn Fn(&String) -> bool| truth(values.iter().any(test));
        match self {
            Test::OneOf(wanted) => any(&|v| wanted.contains(v)),
            Test::StartsWith(wanted) => any(&|v| wanted.iter().any(|w| v.starts_with(w.as_str()))),
            Test::EndsWith(wanted) => any(&|v| wanted.iter().any(|w| v.ends_with(w.as_str()))),
            Test::Matches(pattern) => any(&|v| pattern.matches(v)),
            // A value that cannot be read so says neither yes nor no.
            Test::Compared(order, with) => {
                let judged = values.iter().map(|v| with.order(v, now).map_or(Truth::Unknown, |o| truth(order.holds(o))));
                judged.max().unwrap_or(Truth::No)
            }
        }
    }

    /// When a comparison with now changes for one of the values.
    pub(crate) fn next_edge(&self, values: &[String], now: Moment) -> Option<Moment> {
        match self {
            Test::Compared(_, Compared::Now) => {
                // One millisecond after, so that "more than now" and "at least now" have both turned.
                let turns = values.iter().filter_map(|v| Some(moment(v)? + chrono::Duration::milliseconds(1)));
                turns.filter(|t| *t > now).min()
            }
            _ => None,
        }
    }
}

impl Compared {
    /// How a value stands to this one.
    fn order(&self, value: &str, now: Moment) -> Option<Ordering> {
        match self {
            Compared::Number(n) => value.trim().parse::<f64>().ok()?.partial_cmp(n),
            Compared::Version(v) => Some(Version::parse(value)?.cmp(v)),
            Compared::Time(t) => Some(moment(value)?.cmp(t)),
            Compared::Now => Some(moment(value)?.cmp(&now)),
        }
    }

    /// Reads what the site file compares with, as it says.
    pub(crate) fn parse(text: &str, kind: &str) -> Option<Compared> {
        match kind {
            "number" => text.trim().parse().ok().filter(|n: &f64| n.is_finite()).map(Compared::Number),
            "version" => Version::parse(text).map(Compared::Version),
            "time" if text == "now" => Some(Compared::Now),
            "time" => moment(text).map(Compared::Time),
            _ => None,
        }
    }
}
