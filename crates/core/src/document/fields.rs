//! Reading a TOML table field by field: every field knows its line, a wrong type is a finding and reading goes on, and
//! whatever was not asked for is an unknown key.

use std::cell::RefCell;
use std::collections::BTreeSet;

use super::finding::{Finding, Severity, nearest};
use super::trace::{Shape, Trace};
use chrono::Duration;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// Stands for every key of a table whose keys are free.
pub(crate) const ANY: &str = "*";

/// The longest site file read, in bytes.
pub(crate) const DOCUMENT_MAX: usize = 4 << 20;

/// Collects findings for one document.
pub(crate) struct Report {
    /// Where each line ends: looked up for every field, so that it must not be counted anew each time.
    line_ends: Vec<usize>,
    findings: RefCell<Vec<Finding>>,
    /// What is asked of each kind of table, where somebody wants to know.
    trace: Option<RefCell<Trace>>,
}

impl Report {
    pub(crate) fn new(text: &str) -> Report {
        let ends = text.bytes().enumerate().filter(|(_, b)| *b == b'\n').map(|(i, _)| i);
        Report { line_ends: ends.collect(), findings: RefCell::default(), trace: None }
    }

    /// One that also notes what is asked of each kind of table.
    pub(crate) fn traced(text: &str) -> Report {
        Report { trace: Some(RefCell::default()), ..Report::new(text) }
    }

    /// What was asked of each kind of table.
    pub(crate) fn into_trace(self) -> Trace {
        self.trace.map(RefCell::into_inner).unwrap_or_default()
    }

    pub(crate) fn line_at(&self, offset: usize) -> usize {
        1 + self.line_ends.partition_point(|end| *end < offset)
    }

    pub(crate) fn add(&self, severity: Severity, line: usize, place: &str, what: String, remedy: impl Into<String>) {
        let finding = Finding { severity, line, place: place.to_owned(), what, remedy: remedy.into() };
        let mut all = self.findings.borrow_mut();
        if all.len() < 500 {
            all.push(finding);
        }
    }

    pub(crate) fn error(&self, line: usize, place: &str, what: String, remedy: impl Into<String>) {
        self.add(Severity::Error, line, place, what, remedy);
    }

    /// All findings in the order of the document.
    pub(crate) fn finish(self) -> Vec<Finding> {
        let mut all = self.findings.into_inner();
        all.sort_by_key(|f| f.line);
        all
    }
}

/// A table being read.
pub(crate) struct Fields<'r, 'd> {
    pub(crate) report: &'r Report,
    table: &'d DeTable<'d>,
    pub(crate) place: String,
    pub(crate) line: usize,
    asked: RefCell<BTreeSet<&'static str>>,
    /// The kind of table, such as `gate[].rule[]`; empty where nothing is traced.
    kind: RefCell<String>,
}

fn type_word(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "text",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a number",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

/// What is to become of values of another kind, where the keys of a table are free.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Others {
    AreFaults,
    /// Somebody else reads them.
    AreLeft,
}

impl<'r, 'd> Fields<'r, 'd> {
    pub(crate) fn new(report: &'r Report, table: &'d DeTable<'d>, place: &str, line: usize) -> Fields<'r, 'd> {
        Fields { report, table, place: place.to_owned(), line, asked: RefCell::default(), kind: RefCell::default() }
    }

    /// Says that tables of this kind are the same wherever they stand.
    pub(crate) fn is_kind(&self, name: &str) {
        if let Some(trace) = &self.report.trace {
            trace.borrow_mut().is_kind(&self.kind.replace(name.to_owned()), name);
        }
    }

    fn note(&self, key: &'static str, shape: impl FnOnce() -> Shape) {
        if let Some(trace) = &self.report.trace {
            trace.borrow_mut().note(&self.kind.borrow(), key, shape());
        }
    }

    /// A table below this one, of the kind that its key makes it.
    fn below(&self, table: &'d DeTable<'d>, place: &str, line: usize, key: &str) -> Fields<'r, 'd> {
        let out = Fields::new(self.report, table, place, line);
        if self.report.trace.is_some() {
            out.kind.replace(self.kind_below(key));
        }
        out
    }

    fn kind_below(&self, key: &str) -> String {
        let kind = self.kind.borrow();
        if kind.is_empty() { key.to_owned() } else { format!("{kind}.{key}") }
    }

    /// The value of a key, marked as known.
    pub(crate) fn value(&self, key: &'static str) -> Option<&'d Spanned<DeValue<'d>>> {
        self.asked.borrow_mut().insert(key);
        if let Some(trace) = &self.report.trace {
            trace.borrow_mut().known(&self.kind.borrow(), key);
        }
        self.table.iter().find(|(k, _)| k.get_ref().as_ref() == key).map(|(_, v)| v)
    }

    pub(crate) fn has(&self, key: &'static str) -> bool {
        self.value(key).is_some()
    }

    /// The line of a key's value, or of the table.
    pub(crate) fn line_of(&self, key: &'static str) -> usize {
        self.value(key).map_or(self.line, |v| self.report.line_at(v.span().start))
    }

    pub(crate) fn error(&self, key: &'static str, what: String, remedy: impl Into<String>) {
        self.report.error(self.line_of(key), &self.place, what, remedy);
    }

    pub(crate) fn warn(&self, key: &'static str, what: String, remedy: impl Into<String>) {
        self.report.add(Severity::Warning, self.line_of(key), &self.place, what, remedy);
    }

    fn wrong_type(&self, key: &'static str, value: &DeValue<'_>, wanted: &str) {
        self.error(key, format!("{key} is {}", type_word(value)), format!("Write {wanted}."));
    }

    pub(crate) fn text(&self, key: &'static str) -> Option<String> {
        self.note(key, || Shape::Text);
        let value = self.value(key)?;
        match value.get_ref() {
            DeValue::String(s) => Some(s.to_string()),
            other => {
                self.wrong_type(key, other, "text in quotes");
                None
            }
        }
    }

    /// Whether a key holds text.
    pub(crate) fn is_text(&self, key: &'static str) -> bool {
        self.value(key).is_some_and(|v| matches!(v.get_ref(), DeValue::String(_)))
    }

    /// Text that must be there and not be empty.
    pub(crate) fn need(&self, key: &'static str, example: &str) -> Option<String> {
        self.note(key, || Shape::Needed);
        if !self.has(key) {
            self.error(key, format!("{key} is missing"), format!("Add {key} = {example}."));
            return None;
        }
        let text = self.text(key)?;
        if text.trim().is_empty() {
            self.error(key, format!("{key} is empty"), format!("Write {key} = {example}."));
            return None;
        }
        Some(text)
    }

    pub(crate) fn flag(&self, key: &'static str, default: bool) -> bool {
        self.note(key, || Shape::Flag { default });
        match self.value(key).map(Spanned::get_ref) {
            None => default,
            Some(DeValue::Boolean(b)) => *b,
            Some(other) => {
                self.wrong_type(key, other, "true or false");
                default
            }
        }
    }

    pub(crate) fn number(&self, key: &'static str, default: i64, range: std::ops::RangeInclusive<i64>) -> i64 {
        self.note(key, || Shape::Number { default: Some(default), min: *range.start(), max: *range.end() });
        self.whole(key, range).unwrap_or(default)
    }

    /// A whole number that has no default: nothing, or one that is out of range, is none.
    pub(crate) fn some_number(&self, key: &'static str, range: std::ops::RangeInclusive<i64>) -> Option<i64> {
        self.note(key, || Shape::Number { default: None, min: *range.start(), max: *range.end() });
        self.whole(key, range)
    }

    fn whole(&self, key: &'static str, range: std::ops::RangeInclusive<i64>) -> Option<i64> {
        let n = match self.value(key)?.get_ref() {
            DeValue::Integer(n) => i64::from_str_radix(n.as_str(), n.radix()).ok(),
            other => {
                self.wrong_type(key, other, "a whole number");
                return None;
            }
        };
        let found = n.filter(|n| range.contains(n));
        if found.is_none() {
            let (a, b) = (range.start(), range.end());
            self.error(key, format!("{key} is out of range"), format!("Write a number from {a} to {b}."));
        }
        found
    }

    /// A length of time: a number and one of s, m, h, d.
    pub(crate) fn duration(&self, key: &'static str, default: Duration, min: Duration, max: Duration) -> Duration {
        self.note(key, || Shape::Duration {
            default: Some(show_duration(default)),
            min: show_duration(min),
            max: show_duration(max),
        });
        self.time(key, min, max).unwrap_or(default)
    }

    /// A length of time that has no default: nothing, or one that is out of range, is none.
    pub(crate) fn span(&self, key: &'static str, min: Duration, max: Duration) -> Option<Duration> {
        self.note(key, || Shape::Duration { default: None, min: show_duration(min), max: show_duration(max) });
        self.time(key, min, max)
    }

    fn time(&self, key: &'static str, min: Duration, max: Duration) -> Option<Duration> {
        let text = self.text(key)?;
        match parse_duration(&text) {
            Some(d) if d >= min && d <= max => return Some(d),
            Some(_) => {
                let remedy = format!("Write a time from {} to {}.", show_duration(min), show_duration(max));
                self.error(key, format!("{key} = \"{text}\" is out of range"), remedy);
            }
            None => self.error(
                key,
                format!("{key} = \"{text}\" is no length of time"),
                "Write a number with s, m, h or d, such as \"30m\".",
            ),
        }
        None
    }

    pub(crate) fn texts(&self, key: &'static str) -> Option<Vec<String>> {
        self.note(key, || Shape::Texts);
        let value = self.value(key)?;
        let DeValue::Array(items) = value.get_ref() else {
            self.wrong_type(key, value.get_ref(), "a list of texts, such as [\"a\", \"b\"]");
            return None;
        };
        let mut out = vec![];
        for item in items.iter() {
            match item.get_ref() {
                DeValue::String(s) => out.push(s.to_string()),
                other => self.wrong_type(key, other, "only texts in this list"),
            }
        }
        Some(out)
    }

    /// One text, or a list of texts.
    pub(crate) fn text_or_texts(&self, key: &'static str) -> Option<Vec<String>> {
        self.note(key, || Shape::Text);
        self.note(key, || Shape::Texts);
        match self.value(key)?.get_ref() {
            DeValue::String(s) => Some(vec![s.to_string()]),
            _ => self.texts(key),
        }
    }

    /// One text, or a list of them, not empty.
    pub(crate) fn some_texts(&self, key: &'static str) -> Option<Vec<String>> {
        let all = self.text_or_texts(key)?;
        if all.is_empty() || all.iter().any(|t| t.trim().is_empty()) {
            self.error(key, format!("{key} is empty"), format!("Write {key} = \"…\" or {key} = [\"…\", \"…\"]."));
            return None;
        }
        Some(all)
    }

    /// Text, or a number as it is written.
    pub(crate) fn text_or_number(&self, key: &'static str) -> Option<String> {
        self.note(key, || Shape::Text);
        self.note(key, || Shape::AnyNumber);
        match self.value(key)?.get_ref() {
            DeValue::Integer(n) => i64::from_str_radix(n.as_str(), n.radix()).ok().map(|n| n.to_string()),
            DeValue::Float(x) => Some(x.as_str().to_owned()),
            DeValue::String(s) => Some(s.to_string()),
            other => {
                self.wrong_type(key, other, "a number, or text in quotes");
                None
            }
        }
    }

    /// A quantity: a whole number with one of these units. Nothing, or what is none, is none.
    pub(crate) fn quantity(&self, key: &'static str, units: &[(&str, u64)], example: &str) -> Option<u64> {
        let text = self.text(key)?;
        let found = units.iter().find_map(|(unit, times)| {
            let n: u64 = text.trim().strip_suffix(unit)?.trim_end().parse().ok()?;
            n.checked_mul(*times).filter(|n| (1..=i64::MAX.unsigned_abs()).contains(n))
        });
        if found.is_none() {
            let words: Vec<&str> = units.iter().map(|(u, _)| *u).collect();
            let remedy = format!("Write a whole number with {}, such as {key} = {example}.", words.join(", "));
            self.error(key, format!("{key} = \"{text}\" is no quantity"), remedy);
        }
        found
    }

    /// One of several words.
    pub(crate) fn choice<T: Copy + PartialEq>(&self, key: &'static str, default: T, options: &[(&str, T)]) -> T {
        self.note(key, || Shape::Choice {
            words: options.iter().map(|(w, _)| (*w).to_owned()).collect(),
            default: options.iter().find(|(_, v)| *v == default).map(|(w, _)| (*w).to_owned()),
        });
        let Some(text) = self.text(key) else { return default };
        if let Some((_, v)) = options.iter().find(|(w, _)| *w == text) {
            return *v;
        }
        let words: Vec<_> = options.iter().map(|(w, _)| format!("\"{w}\"")).collect();
        self.error(key, format!("{key} = \"{text}\" is not known"), format!("Write one of {}.", words.join(", ")));
        default
    }

    /// A table under a key.
    pub(crate) fn table(&self, key: &'static str) -> Option<Fields<'r, 'd>> {
        self.note(key, || Shape::Table(self.kind_below(key)));
        let value = self.value(key)?;
        let DeValue::Table(table) = value.get_ref() else {
            self.wrong_type(key, value.get_ref(), &format!("a table, [{key}]"));
            return None;
        };
        let line = self.report.line_at(value.span().start);
        Some(self.below(table, &join(&self.place, key), line, key))
    }

    /// Tables in a list under a key, each placed by its name or number.
    pub(crate) fn tables(&self, key: &'static str) -> Vec<Fields<'r, 'd>> {
        let kind = format!("{key}[]");
        self.note(key, || Shape::Tables(self.kind_below(&kind)));
        let Some(value) = self.value(key) else { return vec![] };
        let DeValue::Array(items) = value.get_ref() else {
            self.wrong_type(key, value.get_ref(), &format!("a list of tables, [[{key}]]"));
            return vec![];
        };
        let mut out = vec![];
        for (i, item) in items.iter().enumerate() {
            let line = self.report.line_at(item.span().start);
            let DeValue::Table(table) = item.get_ref() else {
                self.wrong_type(key, item.get_ref(), "only tables in this list");
                continue;
            };
            let name = table.iter().find(|(k, _)| k.get_ref().as_ref() == "name").and_then(|(_, v)| v.get_ref().as_str());
            let place = match name {
                Some(n) => format!("{key} {n}"),
                None => format!("{key} {}", i + 1),
            };
            out.push(self.below(table, &join(&self.place, &place), line, &kind));
        }
        out
    }

    /// A table of free keys with text values, such as `attribute = "claim"`.
    pub(crate) fn pairs(&self, key: &'static str) -> Vec<(String, String, usize)> {
        self.table(key).map(|t| t.all_pairs(Others::AreFaults)).unwrap_or_default()
    }

    /// Every key of this table, with text values; tables may be left to [`Fields::free_tables`].
    pub(crate) fn all_pairs(&self, tables: Others) -> Vec<(String, String, usize)> {
        self.note(ANY, || Shape::Text);
        let mut out = vec![];
        for (k, v) in self.table.iter() {
            let line = self.report.line_at(k.span().start);
            match v.get_ref() {
                DeValue::String(s) if !s.trim().is_empty() => out.push((k.get_ref().to_string(), s.to_string(), line)),
                DeValue::Table(_) if tables == Others::AreLeft => {}
                bad => {
                    let what = format!("{} is {}", k.get_ref(), type_word(bad));
                    self.report.error(line, &self.place, what, "Write a name in quotes.");
                }
            }
        }
        out
    }

    /// Tables under free keys; texts may be left to [`Fields::all_pairs`].
    pub(crate) fn free_tables(&self, texts: Others) -> Vec<(String, Fields<'r, 'd>)> {
        self.note(ANY, || Shape::Table(self.kind_below(ANY)));
        let mut out = vec![];
        for (k, v) in self.table.iter() {
            let line = self.report.line_at(k.span().start);
            match v.get_ref() {
                DeValue::Table(t) => {
                    out.push((k.get_ref().to_string(), self.below(t, &join(&self.place, k.get_ref()), line, ANY)));
                }
                DeValue::String(_) if texts == Others::AreLeft => {}
                bad => {
                    let what = format!("{} is {}", k.get_ref(), type_word(bad));
                    self.report.error(line, &self.place, what, "Write a table.");
                }
            }
        }
        out
    }

    /// The texts under one key of the tables in a list, without reading them.
    pub(crate) fn texts_in(&self, list: &'static str, key: &str) -> Vec<String> {
        let Some(DeValue::Array(items)) = self.value(list).map(Spanned::get_ref) else { return vec![] };
        let text = |t: &DeTable<'_>| {
            t.iter().find(|(k, _)| k.get_ref().as_ref() == key).and_then(|(_, v)| Some(v.get_ref().as_str()?.to_owned()))
        };
        items.iter().filter_map(|i| i.get_ref().as_table().and_then(&text)).collect()
    }

    /// How many tables a list holds, without reading them.
    pub(crate) fn count(&self, list: &'static str) -> usize {
        self.value(list).and_then(|v| v.get_ref().as_array()).map_or(0, |items| items.len())
    }

    /// A table of free keys with text or a list of texts each.
    pub(crate) fn values(&self, key: &'static str) -> Vec<(String, Vec<String>)> {
        self.note(key, || Shape::Table(self.kind_below(key)));
        if let Some(trace) = &self.report.trace {
            let kind = self.kind_below(key);
            trace.borrow_mut().note(&kind, ANY, Shape::Text);
            trace.borrow_mut().note(&kind, ANY, Shape::Texts);
        }
        let Some(value) = self.value(key) else { return vec![] };
        let DeValue::Table(table) = value.get_ref() else {
            self.wrong_type(key, value.get_ref(), &format!("a table, {key} = {{ … }}"));
            return vec![];
        };
        let text = |v: &DeValue<'_>| v.as_str().map(str::to_owned);
        let mut out = vec![];
        for (k, v) in table.iter() {
            let values = match v.get_ref() {
                DeValue::Array(items) => items.iter().map(|i| text(i.get_ref())).collect::<Option<Vec<_>>>(),
                one => text(one).map(|t| vec![t]),
            };
            match values {
                Some(values) => out.push((k.get_ref().to_string(), values)),
                None => {
                    let line = self.report.line_at(k.span().start);
                    let what = format!("{} is {}", k.get_ref(), type_word(v.get_ref()));
                    self.report.error(line, &join(&self.place, key), what, "Write text, or a list of texts.");
                }
            }
        }
        out
    }

    /// Names every key that was not asked for.
    pub(crate) fn finish(&self) {
        let asked = self.asked.borrow();
        for (key, _) in self.table.iter() {
            let name = key.get_ref().as_ref();
            if asked.contains(name) {
                continue;
            }
            let remedy = match nearest(name, asked.iter().copied()) {
                Some(meant) => format!("Did you mean {meant}?"),
                None => format!("Known here: {}.", asked.iter().copied().collect::<Vec<_>>().join(", ")),
            };
            let line = self.report.line_at(key.span().start);
            self.report.error(line, &self.place, format!("{name} is not a known key"), remedy);
        }
    }
}

fn join(place: &str, part: &str) -> String {
    if place.is_empty() { part.to_owned() } else { format!("{place} › {part}") }
}

/// Reads `45s`, `30m`, `10h`, `90d`.
pub(crate) fn parse_duration(text: &str) -> Option<Duration> {
    let text = text.trim();
    let unit = text.chars().last()?;
    let n: i64 = text.get(..text.len() - unit.len_utf8())?.trim().parse().ok().filter(|n| (0..=1_000_000_000).contains(n))?;
    match unit {
        's' => Duration::try_seconds(n),
        'm' => Duration::try_minutes(n),
        'h' => Duration::try_hours(n),
        'd' => Duration::try_days(n),
        _ => None,
    }
}

fn show_duration(d: Duration) -> String {
    match d.num_seconds() {
        s if s % 86_400 == 0 => format!("{}d", s / 86_400),
        s if s % 3_600 == 0 => format!("{}h", s / 3_600),
        s if s % 60 == 0 => format!("{}m", s / 60),
        s => format!("{s}s"),
    }
}
