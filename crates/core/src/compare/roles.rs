//! Whether a change touches who may do what in the console: its own rules, and all that these stand on.

use std::collections::BTreeSet;

use toml::{Table, Value};

use super::Side;
use crate::site::{Access, AttributeId, Effect, GroupsFrom};

/// Whether the roles of engineers may come out otherwise. Rather once too often: what merely reads otherwise in the parts
/// that roles stand on (the provider, the directories, the mappings they use) counts as a change.
pub fn changes_roles(before: Side<'_>, after: Side<'_>) -> bool {
    basis(before) != basis(after)
}

/// Everything the roles of engineers stand on, comparable.
fn basis(side: Side<'_>) -> Vec<String> {
    let Some(access) = &side.site.engineers else { return vec![] };
    let document: Table = side.text.parse().unwrap_or_default();
    let mut out = vec![
        format!("{} {:?} {:?}", side.site.second_engineer, access.directories, access.groups),
        format!("{} {:?}", access.without_directory, access.disabled),
        // Who may say where a request comes from decides what a rule on networks sees.
        format!("{:?}", side.site.proxies),
    ];
    let mut used: BTreeSet<AttributeId> = BTreeSet::new();
    for rule in access.rules.iter() {
        out.push(format!("{} {:?} {:?}", rule.name, rule.effect, rule.when));
        used.extend(rule.when.attributes());
        if let Effect::StepUp(need) = &rule.effect {
            used.extend(need.attributes());
        }
    }
    // Groups of a provider are made by tables.
    if access.groups == GroupsFrom::Provider {
        out.push(format!("groups of the provider {:?}", document.get("tables")));
    }
    used.extend(access.rules.iter().filter_map(|r| match &r.effect {
        Effect::Give(g) => g.roles_from.as_ref()?.attribute,
        _ => None,
    }));
    used.extend(access.directories.iter().filter_map(|d| side.site.directory(d)).map(|d| d.fed_by));
    out.extend(used.iter().map(|id| format!("{id:?} {}", side.site.attribute_name(*id))));
    let on = side.site.roles_stand_on();
    out.extend(on.ways.iter().flat_map(|w| [named(&document, "provider", w), named(&document, "way", w)]));
    out.extend(on.directories.iter().map(|d| named(&document, "directory", d)));
    if on.mail {
        out.push(format!("{:?}", document.get("mail")));
    }
    if on.ways.iter().any(|w| side.site.provider(w).is_some_and(|p| p.saml().is_some())) {
        out.push(format!("{:?}", document.get("saml")));
    }
    if made(side, access, &used) {
        out.extend(["mapping", "tables"].map(|key| format!("{:?}", document.get(key))));
    }
    out
}

/// Whether any of these attributes is made from others.
fn made(side: Side<'_>, access: &Access, used: &BTreeSet<AttributeId>) -> bool {
    !access.mappings.is_empty() && used.iter().any(|id| side.site.mapped.contains(id))
}

/// A part of the document by its name, as it is written.
fn named(document: &Table, kind: &str, name: &str) -> String {
    let all = document.get(kind).and_then(Value::as_array);
    let part = all.into_iter().flatten().find(|p| p.get("name").and_then(Value::as_str) == Some(name));
    format!("{part:?}")
}
