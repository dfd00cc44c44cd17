//! Reading of `site::access` from a document.

use chrono::Duration;

use super::callers;
use super::fields::Fields;
use super::mapping;
use super::names::{Names, OfSite, refer, refer_to_several};
use super::rule::read_rules;
use crate::site::{Access, Condition, Dead, Disabled, Effect, GroupsFrom, Rule, Rules};

/// Which ways in are taken: `provider` for one, `ways-in` for several.
fn read_ways(f: &Fields<'_, '_>, names: &Names<'_>) -> Vec<String> {
    let one: Vec<String> = refer(f, "provider", "provider", names.ways).into_iter().collect();
    let several = refer_to_several(f, "ways-in", "way in", names.ways);
    match (f.has("provider"), f.has("ways-in")) {
        (false, false) => {
            f.error("provider", "provider is missing".into(), "Name the provider people sign in with, or several ways-in.");
            vec![]
        }
        (true, true) => {
            f.error("ways-in", "provider and ways-in both say how people sign in".into(), "Keep one of them.");
            vec![]
        }
        (true, false) => one,
        (false, true) => {
            if several.is_empty() {
                f.error("ways-in", "no way in is named".into(), "Name at least one.");
            }
            several
        }
    }
}

/// Reads `groups-from`, and says whether there are groups there.
fn read_groups_from(f: &Fields<'_, '_>, names: &Names<'_>, ways: &[String], directories: &[String]) -> (GroupsFrom, bool) {
    let usual = if directories.is_empty() { GroupsFrom::Provider } else { GroupsFrom::Directory };
    let out = f.choice("groups-from", usual, &[("directory", GroupsFrom::Directory), ("provider", GroupsFrom::Provider)]);
    let there = match out {
        GroupsFrom::Directory => !directories.is_empty(),
        GroupsFrom::Provider => ways.iter().any(|w| names.group_givers.contains(w)),
    };
    if f.has("groups-from") && !there {
        match out {
            GroupsFrom::Directory => {
                f.error("groups-from", "no directory is named here".into(), "Name one, or write groups-from = \"provider\".")
            }
            GroupsFrom::Provider => {
                f.error("groups-from", "no provider here sends groups".into(), "Add [provider.groups] with the claim.")
            }
        }
    }
    (out, there)
}

/// A hardware address proves nothing, so that no rule gives a machine anything unless it asks for the way in by which machines come: every other
/// one is for people, and says so wherever it is shown, compared or judged.
fn not_for_machines(rules: &mut [Rule], ways: &[String], of_machines: &[String]) {
    let here: Vec<&str> = ways.iter().map(String::as_str).filter(|w| of_machines.iter().any(|m| m == w)).collect();
    if here.is_empty() {
        return;
    }
    for rule in rules.iter_mut().filter(|r| matches!(r.effect, Effect::Give(_)) && !r.when.means_way(&here)) {
        let people = Condition::None(vec![Condition::WayIn(here.iter().map(|w| (*w).to_owned()).collect())]);
        rule.when = match std::mem::replace(&mut rule.when, Condition::Everyone) {
            Condition::Everyone => people,
            Condition::All(mut parts) => {
                parts.push(people);
                Condition::All(parts)
            }
            when => Condition::All(vec![when, people]),
        };
    }
}

/// Reads provider, directory and rules from a gate or from `[engineers]`.
pub(crate) fn read_access(
    f: &Fields<'_, '_>,
    names: &Names<'_>,
    allowed_roles: Option<&[&str]>,
    of_site: OfSite<'_>,
    sector: Option<&str>,
) -> Access {
    let ways = read_ways(f, names);
    let directories = refer_to_several(f, "directory", "directory", names.directories);
    let without_directory = f.flag("without-directory", false);
    let disabled = f.choice("disabled-accounts", Disabled::Refuse, &[("refuse", Disabled::Refuse), ("admit", Disabled::Admit)]);
    if directories.is_empty() && without_directory {
        f.warn("without-directory", "without-directory has no meaning here".into(), "Name a directory, or take the line away.");
    }
    let m = Duration::minutes;
    let re_read = f.duration("re-read", m(5), m(1), Duration::days(1));
    let dead_for = f.duration("dead-for", m(15), m(1), Duration::days(1));
    let dead = f.choice("dead-directory", Dead::EndAfter(dead_for), &[("end", Dead::EndAfter(dead_for)), ("keep", Dead::Keep)]);
    // What engineers may do hangs on nothing but what stands there and the site's own mappings.
    let mappings = match sector {
        Some(_) => mapping::read(f, names, of_site.mappings, sector),
        None => of_site.mappings.to_vec(),
    };
    let mut rules = of_site.rules.to_vec();
    let (groups, has_groups) = read_groups_from(f, names, &ways, &directories);
    if !has_groups {
        for r in rules.iter().filter(|r| !r.when.groups().is_empty()) {
            let what = format!(
                "the site's rule \"{}\" asks for a group, and neither a directory is named here nor does a provider send groups",
                r.name
            );
            f.warn(
                "provider",
                what,
                "It is not known there: it lets nobody in, and refuses if it is a refusing one. Name a directory.",
            );
        }
    }
    rules.extend(read_rules(f, names, has_groups, allowed_roles, of_site.rules));
    let unasked = sector.is_some() && f.flag("unasked", false);
    let callers = if sector.is_some() { callers::read(f, names) } else { None };
    if sector.is_some() {
        rules.extend(super::device_rules::read(f, names));
    }
    not_for_machines(&mut rules, &ways, names.machine_ways);
    let rules = Rules::new(rules);
    let out = Access { ways, directories, groups, without_directory, disabled, re_read, dead, mappings, unasked, callers, rules };
    for r in out.rules.iter().filter(|r| out.asks_too_early(&r.when) || out.gives_too_early(&r.effect)) {
        f.error(
            "rule",
            format!("the rule \"{}\" asks about an attribute that is made from what rules give", r.name),
            "Rules come first: ask about what the attribute is made from.",
        );
    }
    out
}
