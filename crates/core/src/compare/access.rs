//! Who may enter, compared as compiled.

use std::collections::BTreeMap;

use super::{Bearing, Change, Sentence, What, reordered};
use crate::condition::Condition;
use crate::site::{Access, Effect, Rule, Section, SectionAccess, Site};

pub(super) fn changes(before: &Site, after: &Site) -> Vec<Change> {
    let mut out = vec![];
    for old in &before.gates {
        if after.gate(&old.name).is_none() {
            out.push(Change { bearing: Bearing::Narrower, place: place(&old.name), what: What::PartRemoved });
        }
    }
    for new in &after.gates {
        let place = place(&new.name);
        match before.gate(&new.name) {
            None => out.push(Change { bearing: Bearing::Wider, place, what: What::PartAdded }),
            Some(old) => {
                access((before, &old.access), (after, &new.access), &place, &mut out);
                sections((before, &old.sections), (after, &new.sections), &place, &mut out);
            }
        }
    }
    let console = "the console".to_owned();
    match (&before.engineers, &after.engineers) {
        (None, None) => {}
        (None, Some(_)) => out.push(Change { bearing: Bearing::Wider, place: console, what: What::PartAdded }),
        (Some(_), None) => out.push(Change { bearing: Bearing::Narrower, place: console, what: What::PartRemoved }),
        (Some(old), Some(new)) => access((before, old), (after, new), &console, &mut out),
    }
    out
}

fn place(gate: &str) -> String {
    format!("gate {gate}")
}

/// Groups that a rule's condition alone is about: one group, or any of several.
fn plain_groups(when: &Condition) -> Vec<&str> {
    match when {
        Condition::Group(g) => vec![g],
        Condition::AnyGroup(list) => list.members.iter().map(String::as_str).collect(),
        Condition::Any(parts) if parts.iter().all(|p| matches!(p, Condition::Group(_))) => when.groups(),
        _ => vec![],
    }
}

/// Groups that enter and groups that are refused, in lower case with the name as written.
fn groups(access: &Access) -> (BTreeMap<String, String>, BTreeMap<String, String>) {
    let (mut enter, mut refuse) = (BTreeMap::new(), BTreeMap::new());
    for rule in access.rules.iter() {
        let into = match &rule.effect {
            Effect::Give(g) if g.enter => &mut enter,
            Effect::Refuse { .. } => &mut refuse,
            Effect::Give(_) | Effect::StepUp(_) => continue,
        };
        for g in plain_groups(&rule.when) {
            into.entry(g.to_lowercase()).or_insert_with(|| g.to_owned());
        }
    }
    (enter, refuse)
}

fn missing<'a>(of: &'a BTreeMap<String, String>, from: &BTreeMap<String, String>) -> Vec<&'a String> {
    of.iter().filter(|(k, _)| !from.contains_key(*k)).map(|(_, v)| v).collect()
}

fn named<'a>(rules: &'a [Rule], name: &str) -> Option<&'a Rule> {
    rules.iter().find(|r| r.name == name)
}

fn access(before: (&Site, &Access), after: (&Site, &Access), place: &str, out: &mut Vec<Change>) {
    let mut add = |bearing, what| out.push(Change { bearing, place: place.to_owned(), what });
    let ((old_in, old_no), (new_in, new_no)) = (groups(before.1), groups(after.1));
    for group in missing(&old_in, &new_in) {
        add(Bearing::Narrower, What::GroupOut { group: group.clone() });
    }
    for group in missing(&new_no, &old_no) {
        add(Bearing::Narrower, What::GroupRefused { group: group.clone() });
    }
    for group in missing(&new_in, &old_in) {
        add(Bearing::Wider, What::GroupIn { group: group.clone() });
    }
    for group in missing(&old_no, &new_no) {
        add(Bearing::Wider, What::GroupNotRefused { group: group.clone() });
    }
    let told = |of: &(&Site, &Access), rule: &Rule| {
        let site = of.0;
        Sentence::of(|lang| rule.sentence(site, lang))
    };
    for rule in before.1.rules.iter() {
        let old = told(&before, rule);
        match named(&after.1.rules, &rule.name) {
            None => {
                let narrower = matches!(rule.effect, Effect::Give(_));
                add(if narrower { Bearing::Narrower } else { Bearing::Wider }, What::RuleRemoved { rule: old });
            }
            Some(new) => {
                let new = told(&after, new);
                if new != old {
                    add(Bearing::Other, What::RuleChanged { before: old, after: new });
                }
            }
        }
    }
    for rule in after.1.rules.iter().filter(|r| named(&before.1.rules, &r.name).is_none()) {
        let wider = matches!(rule.effect, Effect::Give(_));
        add(if wider { Bearing::Wider } else { Bearing::Narrower }, What::RuleAdded { rule: told(&after, rule) });
    }
    let names = |of: &Access| of.rules.iter().map(|r| r.name.clone()).collect::<Vec<_>>();
    if reordered(&names(before.1), &names(after.1)) {
        add(Bearing::Other, What::RulesReordered);
    }
}

fn at_path<'a>(sections: &'a [Section], path: &str) -> Option<&'a Section> {
    sections.iter().find(|s| s.path == path)
}

fn sections(before: (&Site, &[Section]), after: (&Site, &[Section]), place: &str, out: &mut Vec<Change>) {
    let mut add = |bearing, what| out.push(Change { bearing, place: place.to_owned(), what });
    let told = |site: &Site, s: &Section| Sentence::of(|lang| s.sentence(site, lang));
    let opens = |s: &Section| matches!(s.access, SectionAccess::Open);
    for old in before.1 {
        match at_path(after.1, &old.path) {
            // Without its section a path is as the whole gate: closed where it was open, wider where more was asked.
            None => add(
                if opens(old) { Bearing::Narrower } else { Bearing::Wider },
                What::SectionRemoved { section: told(before.0, old) },
            ),
            Some(new) => {
                let (old, new) = (told(before.0, old), told(after.0, new));
                if old != new {
                    add(Bearing::Other, What::SectionChanged { before: old, after: new });
                }
            }
        }
    }
    for new in after.1.iter().filter(|s| at_path(before.1, &s.path).is_none()) {
        add(if opens(new) { Bearing::Wider } else { Bearing::Narrower }, What::SectionAdded { section: told(after.0, new) });
    }
}
