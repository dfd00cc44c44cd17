//! Every other key, as it stands in the documents.

use std::collections::HashMap;

use toml::{Table, Value};

use super::{Bearing, Change, What, reordered};

/// What is compared as compiled, below a gate or `engineers`.
const COMPILED: [&str; 2] = ["rule", "section"];

/// The same below a reach that stands in both.
const REACH: [&str; 3] = ["to", "except", "services"];

pub(super) fn changes(before: &str, after: &str) -> Vec<Change> {
    let mut out = vec![];
    if let (Ok(before), Ok(after)) = (before.parse::<Table>(), after.parse::<Table>()) {
        tables(&before, &after, "", "", &mut out);
    }
    out
}

/// The value in one line.
fn shown(value: &Value) -> String {
    match value {
        Value::String(s) => format!("“{s}”"),
        other => other.to_string().split_whitespace().collect::<Vec<_>>().join(" "),
    }
}

/// How a part of a list is named: by its name, its path, or what it makes.
fn name_of(value: &Value) -> Option<&str> {
    let table = value.as_table()?;
    ["name", "path", "attribute"].iter().find_map(|k| table.get(*k)?.as_str())
}

/// Parts by name, when every member of a list has one of its own.
fn parts(value: &Value) -> Option<Vec<(&str, &Table)>> {
    let all: Vec<_> = value.as_array()?.iter().map(|v| Some((name_of(v)?, v.as_table()?))).collect::<Option<_>>()?;
    let distinct: std::collections::BTreeSet<_> = all.iter().map(|(n, _)| *n).collect();
    (!all.is_empty() && distinct.len() == all.len()).then_some(all)
}

fn join(place: &str, part: &str) -> String {
    if place.is_empty() { part.to_owned() } else { format!("{place} › {part}") }
}

fn tables(before: &Table, after: &Table, place: &str, prefix: &str, out: &mut Vec<Change>) {
    let mut keys: Vec<&String> = before.keys().collect();
    keys.extend(after.keys().filter(|k| !before.contains_key(*k)));
    for key in keys {
        if COMPILED.contains(&key.as_str()) && (place.starts_with("gate ") || place == "engineers") {
            continue;
        }
        if REACH.contains(&key.as_str()) && place.starts_with("reach ") {
            continue;
        }
        let path = if prefix.is_empty() { key.clone() } else { format!("{prefix}.{key}") };
        value(before.get(key), after.get(key), place, &path, out);
    }
}

fn value(before: Option<&Value>, after: Option<&Value>, place: &str, key: &str, out: &mut Vec<Change>) {
    let lists = [before, after].map(|v| v.map_or(Some(vec![]), parts));
    match (before, after) {
        (Some(a), Some(b)) if a == b => {}
        (Some(Value::Table(a)), Some(Value::Table(b))) if place.is_empty() => tables(a, b, key, "", out),
        (Some(Value::Table(a)), Some(Value::Table(b))) => tables(a, b, place, key, out),
        (Some(Value::Table(a)), None) if place.is_empty() => tables(a, &Table::new(), key, "", out),
        (None, Some(Value::Table(b))) if place.is_empty() => tables(&Table::new(), b, key, "", out),
        _ => {
            if let [Some(old), Some(new)] = &lists
                && !(old.is_empty() && new.is_empty())
            {
                named(old, new, place, key, out);
                return;
            }
            let what = match (before, after) {
                (Some(a), Some(b)) => What::KeyChanged { key: key.to_owned(), before: shown(a), after: shown(b) },
                (Some(a), None) => What::KeyRemoved { key: key.to_owned(), value: shown(a) },
                (None, Some(b)) => What::KeyAdded { key: key.to_owned(), value: shown(b) },
                (None, None) => return,
            };
            let place = if place.is_empty() { "the site file" } else { place };
            out.push(Change { bearing: Bearing::Other, place: place.to_owned(), what });
        }
    }
}

fn named(old: &[(&str, &Table)], new: &[(&str, &Table)], place: &str, key: &str, out: &mut Vec<Change>) {
    let at = |of: &[(&str, &Table)]| of.iter().enumerate().map(|(i, (n, _))| ((*n).to_owned(), i)).collect::<HashMap<_, _>>();
    let (in_old, in_new) = (at(old), at(new));
    for (name, before) in old {
        let at = join(place, &format!("{key} {name}"));
        match in_new.get(*name).copied() {
            // Gates that come or go are told with who may enter.
            None if key == "gate" && place.is_empty() => {}
            None => out.push(Change { bearing: Bearing::Other, place: at, what: What::PartRemoved }),
            Some(i) => tables(before, new[i].1, &at, "", out),
        }
    }
    // Of routes and networks the first that fits counts.
    let names = |of: &[(&str, &Table)]| of.iter().map(|(n, _)| (*n).to_owned()).collect::<Vec<_>>();
    if matches!(key, "route" | "network") && reordered(&names(old), &names(new)) {
        out.push(Change { bearing: Bearing::Other, place: join(place, key), what: What::PartsReordered });
    }
    for (name, _) in new.iter().filter(|(n, _)| !in_old.contains_key(*n)) {
        if !(key == "gate" && place.is_empty()) {
            out.push(Change { bearing: Bearing::Other, place: join(place, &format!("{key} {name}")), what: What::PartAdded });
        }
    }
}
