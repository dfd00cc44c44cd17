//! What rules stand on: where names, groups and attributes come from. When that changes, the same rules may admit others,
//! and no comparison of rules can say whom.

use std::collections::HashMap;

use toml::{Table, Value};

use super::{Bearing, Change, Side, What};
use crate::site::{Access, Place, Site};

/// Keys that change nothing of what a part says of somebody.
const HARMLESS: [&str; 10] =
    ["real-browser", "title", "cache", "time-limit", "page", "answer-within", "binding", "tries", "lives", "sign-out"];

/// A provider, way in or directory that would be asked otherwise, or be another: what it said before does not tell what it will say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChangedSource {
    /// `provider`, `way` or `directory`.
    pub kind: &'static str,
    pub name: String,
    /// Gates that stand on it, and the console.
    pub users: Vec<Place>,
}

/// Sources that are in both documents and change in a way that may matter, with the gates that stand on them.
pub fn changed_sources(before: Side<'_>, after: Side<'_>) -> Vec<ChangedSource> {
    between((before.site, &parsed(before)), (after.site, &parsed(after)))
}

fn parsed(side: Side<'_>) -> Table {
    side.text.parse().unwrap_or_default()
}

fn between((before, old): (&Site, &Table), (after, new): (&Site, &Table)) -> Vec<ChangedSource> {
    let mut out = vec![];
    for kind in ["provider", "way", "directory"] {
        let (was, is) = (parts(old, kind), parts(new, kind));
        for (name, part) in &was {
            if is.get(name).is_some_and(|now| essence(part) != essence(now)) {
                let uses = |a: &Access| match kind {
                    "directory" => a.directories.iter().any(|d| d == name),
                    _ => a.is_of(after, name),
                };
                let users = users(before, after, uses);
                if !users.is_empty() {
                    out.push(ChangedSource { kind, name: (*name).to_owned(), users });
                }
            }
        }
    }
    out.sort_by(|a, b| (a.kind, &a.name).cmp(&(b.kind, &b.name)));
    out
}

/// What changes of what rules stand on, with the gates whose people that may concern.
pub(super) fn changes(before: Side<'_>, after: Side<'_>) -> Vec<Change> {
    let (old, new) = (parsed(before), parsed(after));
    let mut out = vec![];
    let mut add = |place: String, users: Vec<Place>| {
        if !users.is_empty() {
            out.push(Change { bearing: Bearing::Narrower, place, what: What::SourceChanged { users } });
        }
    };
    for source in between((before.site, &old), (after.site, &new)) {
        add(format!("{} {}", source.kind, source.name), source.users);
    }
    if ["mapping", "tables"].iter().any(|key| old.get(*key) != new.get(*key)) {
        add("mappings".to_owned(), users(before.site, after.site, |a| asks_what_is_made(after.site, a)));
    }
    let proxies = |s: &Site| format!("{:?}", s.proxies);
    if proxies(before.site) != proxies(after.site) {
        add("trusted proxies".to_owned(), users(before.site, after.site, |a| a.rules.iter().any(|r| r.when.asks_for_network())));
    }
    out
}

fn parts<'a>(document: &'a Table, kind: &str) -> HashMap<&'a str, &'a Table> {
    let all = document.get(kind).and_then(Value::as_array);
    all.into_iter().flatten().filter_map(Value::as_table).filter_map(|t| Some((t.get("name")?.as_str()?, t))).collect()
}

/// What of a part may matter for who enters.
fn essence(part: &Table) -> Vec<(&String, &Value)> {
    part.iter().filter(|(key, _)| !HARMLESS.contains(&key.as_str())).collect()
}

/// Gates of both editions, and the console, for which something holds after the change.
fn users(before: &Site, after: &Site, holds: impl Fn(&Access) -> bool) -> Vec<Place> {
    let known: std::collections::HashSet<&str> = before.gates.iter().map(|g| g.name.as_str()).collect();
    let gates = after.gates.iter().filter(|g| known.contains(g.name.as_str()) && holds(&g.access)).map(|g| Place::gate(&g.name));
    let console = after.engineers.iter().filter(|a| before.engineers.is_some() && holds(a)).map(|_| Place::Console);
    gates.chain(console).collect()
}

/// Whether rules ask about attributes that mappings make, or groups that tables name.
fn asks_what_is_made(site: &Site, access: &Access) -> bool {
    let made = |r: &crate::site::Rule| r.when.attributes().iter().any(|id| site.mapped.contains(id));
    access.rules.iter().any(made) || access.groups == crate::site::GroupsFrom::Provider
}
