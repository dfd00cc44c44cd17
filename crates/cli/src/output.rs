//! Printing: tables that fit, colour only on a terminal, text from outside made safe.

use std::io::IsTerminal;

use chrono::{DateTime, Local, Utc};
use passeur_api::Outcome;
use passeur_core::text::{csv_cell, visible};
use serde::Serialize;
use serde_json::Value;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

use crate::exit::Exit;

/// The tone of a word; the word itself says the same.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Tone {
    Plain,
    Good,
    Bad,
    Quiet,
    Strong,
}

/// Where output goes: how wide it is, and whether it takes colour.
pub struct Screen {
    pub width: usize,
    pub colour: bool,
}

impl Screen {
    pub fn of_stdout() -> Screen {
        let terminal = std::io::stdout().is_terminal();
        let env = std::env::var("COLUMNS").ok().and_then(|c| c.parse().ok());
        let width = env.or_else(|| terminal_size::terminal_size().map(|(w, _)| usize::from(w.0))).unwrap_or(if terminal {
            80
        } else {
            120
        });
        let colour = terminal && std::env::var_os("NO_COLOR").is_none() && std::env::var("TERM").is_ok_and(|t| t != "dumb");
        Screen { width: width.clamp(40, 400), colour }
    }

    /// The text in a tone, on screens that show it. Text from outside is made safe first.
    pub fn paint(&self, text: &str, tone: Tone) -> String {
        let text = visible(text);
        if !self.colour {
            return text;
        }
        let code = match tone {
            Tone::Plain => return text,
            Tone::Good => "32",
            Tone::Bad => "31",
            Tone::Quiet => "2",
            Tone::Strong => "1",
        };
        format!("\x1b[{code}m{text}\x1b[0m")
    }
}

/// A column of a table.
pub struct Column {
    pub title: &'static str,
    /// Takes what is left of the width, and is cut to it.
    pub stretches: bool,
}

/// A fixed column.
pub fn fixed(title: &'static str) -> Column {
    Column { title, stretches: false }
}

/// The column that takes what is left.
pub fn rest(title: &'static str) -> Column {
    Column { title, stretches: true }
}

/// One cell.
pub struct Cell(pub String, pub Tone);

impl<T: Into<String>> From<T> for Cell {
    fn from(t: T) -> Cell {
        Cell(t.into(), Tone::Plain)
    }
}

fn cut(text: &str, width: usize) -> String {
    if text.width() <= width {
        return text.to_owned();
    }
    let mut out = String::new();
    let mut used = 0;
    for c in text.chars() {
        let w = c.width().unwrap_or(0);
        if used + w + 1 > width {
            break;
        }
        used += w;
        out.push(c);
    }
    out.push('…');
    out
}

/// A table within the screen's width.
pub fn table(screen: &Screen, columns: &[Column], rows: &[Vec<Cell>]) -> String {
    let safe: Vec<Vec<String>> = rows.iter().map(|r| r.iter().map(|c| visible(&c.0)).collect()).collect();
    let mut widths: Vec<usize> = columns
        .iter()
        .enumerate()
        .map(|(i, c)| safe.iter().map(|r| r[i].width()).max().unwrap_or(0).max(c.title.width()))
        .collect();
    let gaps = 2 * columns.len().saturating_sub(1);
    let taken: usize = columns.iter().zip(&widths).filter(|(c, _)| !c.stretches).map(|(_, w)| *w).sum::<usize>() + gaps;
    let stretching = columns.iter().filter(|c| c.stretches).count().max(1);
    let left = screen.width.saturating_sub(taken) / stretching;
    for (c, w) in columns.iter().zip(widths.iter_mut()) {
        if c.stretches {
            *w = (*w).min(left.max(12));
        }
    }
    let mut out = String::new();
    let mut line = |cells: Vec<(String, Tone)>| {
        let mut text = String::new();
        for (i, (cell, tone)) in cells.iter().enumerate() {
            let shown = cut(cell, widths[i]);
            let pad = widths[i].saturating_sub(shown.width());
            text.push_str(&screen.paint(&shown, *tone));
            if i + 1 < cells.len() {
                text.push_str(&" ".repeat(pad + 2));
            }
        }
        out.push_str(text.trim_end());
        out.push('\n');
    };
    line(columns.iter().map(|c| (c.title.to_owned(), Tone::Quiet)).collect());
    for (row, cells) in rows.iter().zip(safe) {
        line(cells.into_iter().zip(row.iter().map(|c| c.1)).collect());
    }
    out
}

/// The list in an answer for a spreadsheet: every field that JSON has, moments whole and with their zone. What is a list within a line is
/// joined with semicolons.
pub fn csv(answer: &impl Serialize) -> Result<String, Exit> {
    let value = serde_json::to_value(answer).map_err(|e| Exit::Failed(e.to_string()))?;
    let list = match value {
        Value::Array(list) => list,
        Value::Object(map) => {
            map.into_iter().find_map(|(_, v)| if let Value::Array(l) = v { Some(l) } else { None }).unwrap_or_default()
        }
        _ => vec![],
    };
    let mut names: Vec<String> = vec![];
    for name in list.iter().filter_map(Value::as_object).flat_map(|o| o.keys()) {
        if !names.contains(name) {
            names.push(name.clone());
        }
    }
    // What tells lines apart stands first.
    let first = ["number", "id", "at", "name", "gate", "outcome", "person"];
    names.sort_by_key(|n| (first.iter().position(|f| f == n).unwrap_or(first.len()), n.clone()));
    let line = |cells: Vec<String>| format!("{}\r\n", cells.join(","));
    let mut out = line(names.iter().map(|n| csv_cell(n)).collect());
    for row in &list {
        out.push_str(&line(names.iter().map(|n| csv_cell(&plain(row.get(n)))).collect()));
    }
    Ok(out)
}

/// A value as one cell.
fn plain(value: Option<&Value>) -> String {
    match value {
        None | Some(Value::Null) => String::new(),
        Some(Value::String(s)) => s.clone(),
        Some(Value::Array(all)) if all.iter().all(|v| !v.is_object() && !v.is_array()) => {
            all.iter().map(|v| plain(Some(v))).collect::<Vec<_>>().join("; ")
        }
        Some(other) => other.to_string(),
    }
}

/// Prints what the API answered.
pub fn json(value: &impl Serialize) -> Result<(), Exit> {
    // Control characters are escaped by JSON itself; bidirectional ones are escaped here.
    let text = serde_json::to_string_pretty(value).map_err(|e| Exit::Failed(e.to_string()))?;
    say!("{}", text.lines().map(visible).collect::<Vec<_>>().join("\n"));
    Ok(())
}

/// Words wrapped to the width, each line led by `indent` blanks.
pub fn wrap(text: &str, width: usize, indent: usize) -> String {
    let room = width.saturating_sub(indent).max(20);
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let Some(last) = lines.last_mut() else { continue };
        if !last.is_empty() && last.width() + 1 + word.width() > room {
            lines.push(word.to_owned());
        } else {
            if !last.is_empty() {
                last.push(' ');
            }
            last.push_str(word);
        }
    }
    lines.join(&format!("\n{}", " ".repeat(indent)))
}

/// A moment in local time, short for today.
pub fn moment(at: DateTime<Utc>) -> String {
    let local = at.with_timezone(&Local);
    let today = Local::now().date_naive() == local.date_naive();
    local.format(if today { "%H:%M:%S" } else { "%m-%d %H:%M:%S" }).to_string()
}

/// The tone of an outcome.
pub fn outcome_tone(outcome: Outcome) -> Tone {
    match outcome {
        Outcome::Admitted => Tone::Good,
        Outcome::Refused | Outcome::ProviderRefused | Outcome::CheckFailed | Outcome::Failed | Outcome::NeverCameBack => {
            Tone::Bad
        }
        Outcome::Unauthenticated | Outcome::BadRequest | Outcome::Waiting | Outcome::SignedOut | Outcome::Tried => Tone::Quiet,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_fits_the_terminal_and_shows_nothing_unsafe() {
        let screen = Screen { width: 48, colour: false };
        let columns = [fixed("crossing"), fixed("outcome"), rest("why")];
        let row = |a: &str, b: &str, c: &str| vec![a.into(), Cell(b.into(), Tone::Bad), c.into()];
        let rows = [
            row("11V-4K2P-9QRM", "refused", "Rule “no visitors” refuses: not on Sundays, and not at night"),
            row("11V-4K2P-9QRN", "admitted", "evil\x1b[2Jname\u{202E}gpj"),
        ];
        let text = table(&screen, &columns, &rows);
        assert!(text.lines().all(|l| l.width() <= 48), "{text}");
        assert!(!text.contains('\x1b') && !text.contains('\u{202E}'));
        insta::assert_snapshot!(text);
    }

    #[test]
    fn a_spreadsheet_gets_every_field_and_nothing_unsafe() {
        let lines = serde_json::json!({"crossings": [
            {"id": "11V", "at": "2026-11-24T08:00:00Z", "person": "evil\u{1b}[2J", "roles": ["a", "b"], "n": 3},
            {"id": "12V", "at": "2026-11-24T09:00:00Z", "person": "=HYPERLINK(1)", "roles": [], "more": {"x": null}},
        ], "next": null});
        let text = csv(&lines).unwrap();
        assert_eq!(text.lines().next(), Some("\"id\",\"at\",\"person\",\"more\",\"n\",\"roles\""));
        let rows: Vec<&str> = text.lines().collect();
        assert!(
            rows[1].contains("2026-11-24T08:00:00Z") && rows[1].contains("\\u{1b}") && rows[1].ends_with("\"\",\"3\",\"a; b\""),
            "{text}"
        );
        assert!(!rows[2].contains("\"=HYPERLINK"), "no formula: {text}");
        assert_eq!(csv(&serde_json::json!([])).unwrap(), "\r\n");
    }

    #[test]
    fn words_wrap_under_their_beginning() {
        assert_eq!(wrap("one two three four five six", 24, 4), "one two three four\n    five six");
    }
}
