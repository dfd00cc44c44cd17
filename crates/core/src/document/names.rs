//! The names that other parts of a document may refer to, and how a reference is read.

use super::condition;
use super::fields::Fields;
use crate::mapping::Tables;
use crate::site::{AttributeId, DeviceCheck, Gate, Mapping, RadiusAttribute, Rule};
use chrono_tz::Tz;
use std::sync::Arc;

/// Lists that conditions may name, each with its members as written.
#[derive(Clone, Debug, Default)]
pub(crate) struct Lists {
    pub(crate) networks: Vec<(String, Vec<String>)>,
    pub(crate) groups: Vec<(String, Vec<String>)>,
    pub(crate) people: Vec<(String, Vec<String>)>,
}

impl Lists {
    /// Reads `[lists]`.
    pub(crate) fn read(root: &Fields<'_, '_>) -> Lists {
        let Some(f) = root.table("lists") else { return Lists::default() };
        let mut out = Lists::default();
        for (kind, into) in [("networks", &mut out.networks), ("groups", &mut out.groups), ("people", &mut out.people)] {
            *into = f.values(kind);
            for (name, members) in into.iter() {
                for m in members.iter().filter(|m| !condition::check_list(kind, m)) {
                    let example = match kind {
                        "networks" => "Write networks such as \"10.20.0.0/16\".",
                        "people" => "Write people as \"provider/subject\".",
                        _ => "Write names of groups.",
                    };
                    f.error(kind, format!("\"{m}\" in the list {name} cannot be read"), example);
                }
            }
        }
        f.finish();
        out
    }
}

/// Names that later parts of the document may refer to.
pub(crate) struct Names<'a> {
    /// Providers and ways in of our own.
    pub(crate) ways: &'a [String],
    /// Those of them whose access tokens can be checked.
    pub(crate) token_givers: &'a [String],
    /// Those of them that send groups.
    pub(crate) group_givers: &'a [String],
    /// Ways in by a directory's password.
    pub(crate) password_ways: &'a [String],
    /// Ways in by client certificate.
    pub(crate) certificate_ways: &'a [String],
    /// Ways in of machines by their hardware addresses.
    pub(crate) machine_ways: &'a [String],
    pub(crate) directories: &'a [String],
    pub(crate) attribute: &'a dyn Fn(&str) -> Option<AttributeId>,
    pub(crate) attributes: &'a [String],
    pub(crate) gates: &'a [String],
    pub(crate) reaches: &'a [String],
    pub(crate) zones: &'a [String],
    /// Entrances, and RADIUS clients after them.
    pub(crate) entrances: &'a [String],
    pub(crate) radius_clients: &'a [String],
    /// Checks of devices.
    pub(crate) devices: &'a [Arc<DeviceCheck>],
    /// Attributes of RADIUS answers that vendors made.
    pub(crate) vendors: &'a [RadiusAttribute],
    /// Those of them that a mapping makes.
    pub(crate) mapped: &'a [AttributeId],
    pub(crate) tables: &'a Tables,
    pub(crate) lists: &'a Lists,
    /// The zone of clocks, where a condition names none.
    pub(crate) zone: Tz,
}

/// A check of devices by its name.
pub(crate) fn device_check(
    f: &Fields<'_, '_>,
    key: &'static str,
    wanted: &str,
    devices: &[Arc<DeviceCheck>],
) -> Option<Arc<DeviceCheck>> {
    let names: Vec<String> = devices.iter().map(|c| c.name.clone()).collect();
    let name = known_name(f, key, "device check", &names, wanted.to_owned())?;
    devices.iter().find(|c| c.name == name).cloned()
}

/// The one gate that has something, where one alone does. `none` is what to say and to do where no gate does, and `several` the same of two, whose
/// names come before what is said.
pub(crate) fn only_gate<'g>(
    f: &Fields<'_, '_>,
    gates: &'g [Gate],
    has: impl Fn(&Gate) -> bool,
    none: (&str, &str),
    several: (&str, &str),
) -> Option<&'g Gate> {
    let mut by = gates.iter().filter(|g| has(g));
    match (by.next(), by.next()) {
        (None, _) => f.warn("name", none.0.to_owned(), none.1),
        (Some(gate), None) => return Some(gate),
        (Some(first), Some(second)) => {
            f.error("name", format!("the gates {} and {} both {}", first.name, second.name, several.0), several.1);
        }
    }
    None
}

/// What stands at the top of the file and counts at every gate.
#[derive(Clone, Copy, Default)]
pub(crate) struct OfSite<'a> {
    pub(crate) rules: &'a [Rule],
    pub(crate) mappings: &'a [Mapping],
}

/// A reference to a named part; a wrong one is a finding with the nearest right one.
pub(crate) fn refer(f: &Fields<'_, '_>, key: &'static str, what: &str, known: &[String]) -> Option<String> {
    known_name(f, key, what, known, f.text(key)?)
}

/// References to named parts: one text, or a list.
pub(crate) fn refer_to_several(f: &Fields<'_, '_>, key: &'static str, what: &str, known: &[String]) -> Vec<String> {
    let mut out: Vec<String> = vec![];
    for name in f.text_or_texts(key).unwrap_or_default() {
        if out.contains(&name) {
            f.error(key, format!("{what} \"{name}\" stands twice"), "Name each once.");
        } else if let Some(name) = known_name(f, key, what, known, name) {
            out.push(name);
        }
    }
    out
}

pub(crate) fn known_name(f: &Fields<'_, '_>, key: &'static str, what: &str, known: &[String], name: String) -> Option<String> {
    if known.contains(&name) {
        return Some(name);
    }
    let remedy = match super::finding::nearest(&name, known.iter().map(String::as_str)) {
        Some(meant) => format!("Did you mean \"{meant}\"?"),
        None if known.is_empty() && what == "way in" => "Add a [[provider]] or a [[way]] with that name.".into(),
        None if known.is_empty() => format!("Add a [[{}]] with that name.", what.replace(' ', "-")),
        None => format!("There are: {}.", known.join(", ")),
    };
    f.error(key, format!("there is no {what} \"{name}\""), remedy);
    None
}
