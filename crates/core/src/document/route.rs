//! Reading `[[route]]`.

use super::condition;
use super::fields::Fields;
use super::names::{Names, known_name, refer, refer_to_several};
use crate::route::device;
use crate::site::{AttributeId, ByName, Directory, Gate, Holds, Place, Route};

/// The most routes of a site.
const ROUTES_MAX: usize = 200;

/// Reads every route, once gates are known.
pub(crate) fn read(root: &Fields<'_, '_>, names: &Names<'_>, directories: &[Directory], gates: &[Gate]) -> Vec<Route> {
    let mut out: Vec<Route> = vec![];
    for f in root.tables("route") {
        let route = read_one(&f, names, directories);
        if out.iter().any(|r| r.name == route.name) && !route.name.is_empty() {
            f.error("name", format!("two routes are named \"{}\"", route.name), "Give each route its own name.");
        }
        if let Some(last) = out.iter().find(|r| r.is_last()) {
            f.warn(
                "name",
                format!("no sign-in reaches the route: \"{}\" before it takes everybody", last.name),
                "Put the route that asks for nothing last.",
            );
        }
        let leads = |g: &&Gate| route.ways.iter().any(|w| g.access.ways.contains(w));
        let named = |g: &&Gate| route.places.is_empty() || route.places.contains(&Place::gate(&g.name));
        let elsewhere = route.places.iter().any(|p| p.as_gate().is_none());
        if !elsewhere && !route.ways.is_empty() && !gates.iter().filter(named).any(|g| leads(&g)) {
            f.warn("ways-in", "no gate of the route takes any of its ways in".into(), "Name them in ways-in of a gate.");
        }
        out.push(route);
    }
    if out.len() > ROUTES_MAX {
        root.error("route", format!("there are {} routes", out.len()), format!("Write at most {ROUTES_MAX}."));
    }
    out
}

fn read_one(f: &Fields<'_, '_>, names: &Names<'_>, directories: &[Directory]) -> Route {
    let name = f.need("name", "\"agents\"").unwrap_or_default();
    if name.chars().count() > 80 {
        f.error("name", "the name is too long".into(), "Use at most 80 characters.");
    }
    let mut gates = f.text_or_texts("gate").unwrap_or_default();
    let places: Vec<String> =
        names.gates.iter().map(|n| Place::gate(n)).chain([Place::Console, Place::Quay]).map(|p| p.to_string()).collect();
    gates.retain(|g| known_name(f, "gate", "gate", &places, g.clone()).is_some());
    let mut devices = f.text_or_texts("device").unwrap_or_default();
    devices.retain(|d| {
        let known = device::words().any(|w| w == d);
        if !known {
            let all = device::words().collect::<Vec<_>>().join(", ");
            f.error("device", format!("\"{d}\" is no kind of device"), format!("There are: {all}."));
        }
        known
    });
    let suffixes: Vec<String> =
        f.text_or_texts("suffix").unwrap_or_default().iter().map(|s| s.trim_start_matches('@').to_lowercase()).collect();
    if let Some(odd) = suffixes.iter().find(|s| s.contains(['@', '\\']) || s.chars().any(char::is_whitespace)) {
        f.error(
            "suffix",
            format!("\"{odd}\" is no suffix of a user name"),
            "Write what follows the @, such as \"agents.example\".",
        );
    }
    let ways = read_ways(f, names);
    let by = read_by(f, names, directories);
    let networks = if f.has("network") { condition::read_networks(f, names.lists) } else { None };
    let out = Route {
        name,
        places: gates.iter().map(|g| Place::parse(g)).collect(),
        networks,
        devices,
        suffixes,
        by,
        ask: f.flag("ask", false),
        strip: f.flag("strip-suffix", false),
        ways,
    };
    if out.ask && out.ways.len() == 1 {
        f.warn("ask", "there is one way in, so there is nothing to ask".into(), "Take the line away.");
    }
    f.finish();
    out
}

fn read_ways(f: &Fields<'_, '_>, names: &Names<'_>) -> Vec<String> {
    let mut ways = refer_to_several(f, "ways-in", "way in", names.ways);
    ways.retain(|way| {
        let by_certificate = names.certificate_ways.contains(way);
        if by_certificate {
            f.error("ways-in", format!("{way} is by client certificate, which no page can ask for"), "Take it away.");
        }
        !by_certificate
    });
    if ways.is_empty() {
        f.error("ways-in", "the route leads nowhere".into(), "Name at least one way in.");
    }
    ways
}

fn read_holds(e: &Fields<'_, '_>, names: &Names<'_>, of: Option<&Directory>) -> Option<Holds> {
    let groups = e.text_or_texts("group").unwrap_or_default();
    let attribute = e.text("attribute");
    let values = e.text_or_texts("is").unwrap_or_default();
    match (attribute, groups.as_slice()) {
        (None, [_, ..]) => {
            if of.is_some_and(|d| d.groups.is_none()) {
                e.error("group", "the directory has no groups".into(), "Add [directory.groups] to it.");
            }
            Some(Holds::Group(groups))
        }
        (Some(attribute), []) if !values.is_empty() => {
            let name_of = |(id, _): &(AttributeId, String)| Some(names.attributes.get(id.0 as usize)?.as_str());
            let fed: Vec<&str> = of.iter().flat_map(|d| &d.attributes).filter_map(name_of).collect();
            if of.is_some() && !fed.contains(&attribute.as_str()) {
                let all = if fed.is_empty() { "none".to_owned() } else { fed.join(", ") };
                e.error("attribute", format!("the directory does not feed \"{attribute}\""), format!("It feeds: {all}."));
            }
            Some(Holds::Attribute { attribute, values })
        }
        _ => {
            let example = "Write attribute = \"department\", is = \"cranes\", or group = \"agents\".";
            e.error("attribute", "the entry is asked for nothing, or for two things".into(), example);
            None
        }
    }
}

fn read_by(f: &Fields<'_, '_>, names: &Names<'_>, directories: &[Directory]) -> Option<ByName> {
    let entry = f.table("entry").and_then(|e| {
        if !e.has("directory") {
            e.error("directory", "directory is missing".into(), "Name the directory that is asked.");
        }
        let directory = refer(&e, "directory", "directory", names.directories);
        let of = directory.as_ref().and_then(|d| directories.iter().find(|o| o.name == *d));
        let holds = read_holds(&e, names, of);
        e.finish();
        Some(ByName::Entry { directory: directory?, holds: holds? })
    });
    let known = f.text("known-by").and_then(|called| {
        let there = (names.attribute)(&called).is_some();
        if !there {
            f.error(
                "known-by",
                format!("there is no attribute \"{called}\""),
                format!("Name the attribute that is the name people type. There are: {}.", names.attributes.join(", ")),
            );
        }
        there.then_some(ByName::Known { attribute: called })
    });
    match (entry, known) {
        (Some(_), Some(_)) => {
            f.error("known-by", "entry and known-by both ask about the name".into(), "Make two routes of it.");
            None
        }
        (one, other) => one.or(other),
    }
}
