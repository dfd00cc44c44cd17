//! Who may enter, compared as compiled: whom either edition admits, and only then how its rules are written.

use std::collections::{BTreeSet, HashMap};
use std::rc::Rc;

use super::admits::{Scene, Shift, Weighing};
use super::diagram::TooMuch;
use super::rules::{Gift, Read, Reader};
use super::{Bearing, Change, Sentence, What, reordered};
use crate::site::{Access, Effect, Gate, Section, SectionAccess, Site};

pub(super) fn changes(before: &Site, after: &Site) -> Vec<Change> {
    let readers = (Reader::new(before), Reader::new(after));
    let by_name = |site: &'_ Site| site.gates.iter().enumerate().map(|(i, g)| (g.name.clone(), i)).collect::<HashMap<_, _>>();
    let (old_gates, new_gates) = (by_name(before), by_name(after));
    let mut out = vec![];
    for old in before.gates.iter().filter(|g| !new_gates.contains_key(&g.name)) {
        out.push(Change { bearing: Bearing::Narrower, place: place(&old.name), what: What::PartRemoved });
    }
    for new in &after.gates {
        let place = place(&new.name);
        match old_gates.get(&new.name).and_then(|i| before.gates.get(*i)) {
            None => out.push(Change { bearing: Bearing::Wider, place, what: added(&readers.1, Some(&new.name), &new.access) }),
            Some(old) => {
                let sides = [Side::of_gate(&readers.0, old), Side::of_gate(&readers.1, new)];
                compare(&sides, &place, &mut out);
            }
        }
    }
    let console = "the console".to_owned();
    match (&before.engineers, &after.engineers) {
        (None, None) => {}
        (None, Some(new)) => {
            out.push(Change { bearing: Bearing::Wider, place: console, what: added(&readers.1, None, new) });
        }
        (Some(_), None) => out.push(Change { bearing: Bearing::Narrower, place: console, what: What::PartRemoved }),
        (Some(old), Some(new)) => {
            let sides = [(&readers.0, old), (&readers.1, new)];
            let sides = sides.map(|(reader, access)| Side { scene: Scene::new(reader, None, access), sections: &[] });
            compare(&sides, &console, &mut out);
        }
    }
    out
}

fn place(gate: &str) -> String {
    format!("gate {gate}")
}

/// A gate, or the console, with its sections.
struct Side<'a> {
    scene: Scene<'a>,
    sections: &'a [Section],
}

impl<'a> Side<'a> {
    fn of_gate(reader: &'a Reader<'a>, gate: &'a Gate) -> Side<'a> {
        Side { scene: Scene::new(reader, Some(&gate.name), &gate.access), sections: gate.sections() }
    }

    fn site(&self) -> &'a Site {
        self.scene.reader.site
    }
}

/// Whom a new gate admits.
fn added(reader: &Reader<'_>, gate: Option<&str>, access: &Access) -> What {
    let scene = Scene::new(reader, gate, access);
    match Weighing::new(&scene, &scene).and_then(|mut w| w.admitted(1)) {
        Ok(admits) => What::PlaceAdded { admits },
        Err(TooMuch) => What::PlaceAddedByRules { rules: access.rules.len() },
    }
}

fn compare(sides: &[Side<'_>; 2], place: &str, out: &mut Vec<Change>) {
    let [before, after] = sides;
    let keys = |s: &Side<'_>| s.scene.rules.iter().map(|r| r.key.clone()).collect::<Vec<_>>();
    let sections = |s: &Side<'_>| s.sections.iter().map(|x| meaning(s.site(), x)).collect::<Vec<_>>();
    let same_rules = keys(before) == keys(after) && before.scene.access.ways == after.scene.access.ways;
    let same_names = before.scene.rules.iter().map(|r| &r.name).eq(after.scene.rules.iter().map(|r| &r.name));
    let same_sections = sections(before) == sections(after);
    if same_rules && same_sections && same_names {
        return;
    }
    let mut told = vec![];
    let sure = in_words(sides, place, same_rules, same_sections, &mut told).is_ok();
    if sure {
        out.append(&mut told);
    } else {
        out.push(Change { bearing: Bearing::Narrower, place: place.to_owned(), what: What::NotTold });
    }
    rules(sides, place, sure, out);
    written_sections(sides, place, sure, out);
}

/// A section as a text that is the same for what means the same.
fn meaning(site: &Site, section: &Section) -> String {
    let key = |c| super::rules::key_of(site, c);
    match &section.access {
        SectionAccess::Open => format!("{} open", section.path),
        SectionAccess::More { when, words } => {
            format!("{} {} {:?} {words:?}", section.path, key(when), section.step_up.as_ref().map(key))
        }
    }
}

/// Whom the gate would admit no more, and whom besides; then roles and sections of those who may enter before and after.
fn in_words(
    sides: &[Side<'_>; 2],
    place: &str,
    same_rules: bool,
    same_sections: bool,
    out: &mut Vec<Change>,
) -> Result<(), TooMuch> {
    let [before, after] = sides;
    let mut weighing = Weighing::new(&before.scene, &after.scene)?;
    if !same_rules {
        let shift = weighing.entry()?;
        let ((old_all, old_none), (new_all, new_none)) = (weighing.whole(0)?, weighing.whole(1)?);
        let mut add = |bearing, what| out.push(Change { bearing, place: place.to_owned(), what });
        if new_none && !old_none {
            add(Bearing::Narrower, What::AdmitsNobody);
        } else if new_all && !old_all {
            add(Bearing::Wider, What::AdmitsEverybody);
        }
        let lost = shift.lose.into_iter().map(|who| (Bearing::Narrower, What::AdmitsNoMore { who }));
        let gained = shift.gain.into_iter().map(|who| (Bearing::Wider, What::Admits { who }));
        lost.chain(gained).for_each(|(bearing, what)| add(bearing, what));
        for gift in gifts_that_may_differ(before, after) {
            let Shift { lose, gain } = weighing.gift(&gift)?;
            for who in lose {
                add(Bearing::Narrower, What::GivesNoMore { gift: gift.clone(), who });
            }
            for who in gain {
                add(Bearing::Wider, What::Gives { gift: gift.clone(), who });
            }
        }
    }
    if !same_sections {
        let paths: BTreeSet<&str> = sides.iter().flat_map(|s| s.sections).map(|s| s.path.as_str()).collect();
        for path in paths {
            let Shift { lose, gain } = weighing.place([before.sections, after.sections], path)?;
            let place = format!("{place}, {path}");
            for who in lose {
                out.push(Change { bearing: Bearing::Narrower, place: place.clone(), what: What::AdmitsNoMore { who } });
            }
            for who in gain {
                out.push(Change { bearing: Bearing::Wider, place: place.clone(), what: What::Admits { who } });
            }
        }
    }
    Ok(())
}

/// Roles and reach that are given by other clauses on one side than on the other.
fn gifts_that_may_differ(before: &Side<'_>, after: &Side<'_>) -> Vec<Gift> {
    let given = |side: &Side<'_>| {
        let mut out: HashMap<Gift, BTreeSet<String>> = HashMap::new();
        for clause in side.scene.rules.iter().flat_map(|r| &r.clauses) {
            for gift in clause.gifts.iter() {
                out.entry(gift.clone()).or_default().insert(clause.key.clone());
            }
        }
        out
    };
    let (old, new) = (given(before), given(after));
    let all: BTreeSet<&Gift> = old.keys().chain(new.keys()).collect();
    all.into_iter().filter(|r| old.get(*r) != new.get(*r)).cloned().collect()
}

/// Which way a change of what is written goes: neither where it was told before whom it concerns.
fn bearing(sure: bool, wider: bool) -> Bearing {
    match (sure, wider) {
        (true, _) => Bearing::Other,
        (false, true) => Bearing::Wider,
        (false, false) => Bearing::Narrower,
    }
}

/// How rules are written: the rest where whom they admit is told, and all there is where that cannot be told.
fn rules(sides: &[Side<'_>; 2], place: &str, sure: bool, out: &mut Vec<Change>) {
    let [before, after] = sides;
    let mut add = |bearing, what| out.push(Change { bearing, place: place.to_owned(), what });
    let by_name = |s: &Side<'_>| s.scene.rules.iter().cloned().enumerate().map(|(i, r)| (r.name.clone(), (i, r))).collect();
    let (old, new): (HashMap<String, (usize, Rc<Read>)>, HashMap<_, _>) = (by_name(before), by_name(after));
    let told = |side: &Side<'_>, at: usize| {
        let rule = side.scene.access.rules.get(at);
        Sentence::of(|lang| rule.map(|r| r.sentence(side.site(), lang)).unwrap_or_default())
    };
    let gives = |side: &Side<'_>, at: usize| matches!(side.scene.access.rules.get(at).map(|r| &r.effect), Some(Effect::Give(_)));
    let wider_if = |wider| bearing(sure, wider);
    for (i, rule) in before.scene.rules.iter().enumerate() {
        match new.get(&rule.name) {
            None => add(wider_if(!gives(before, i)), What::RuleRemoved { rule: told(before, i) }),
            Some((n, now)) if now.key != rule.key => {
                let (was, now) = (told(before, i), told(after, *n));
                if was != now {
                    add(wider_if(false), What::RuleChanged { before: was, after: now });
                }
            }
            Some(_) => {}
        }
    }
    for (i, _) in after.scene.rules.iter().enumerate().filter(|(_, r)| !old.contains_key(&r.name)) {
        add(wider_if(gives(after, i)), What::RuleAdded { rule: told(after, i) });
    }
    let names = |s: &Side<'_>| s.scene.rules.iter().map(|r| r.name.clone()).collect::<Vec<_>>();
    if reordered(&names(before), &names(after)) {
        add(Bearing::Other, What::RulesReordered);
    }
}

fn written_sections(sides: &[Side<'_>; 2], place: &str, sure: bool, out: &mut Vec<Change>) {
    let [before, after] = sides;
    let mut add = |bearing, what| out.push(Change { bearing, place: place.to_owned(), what });
    let told = |side: &Side<'_>, s: &Section| Sentence::of(|lang| s.sentence(side.site(), lang));
    let opens = |s: &Section| matches!(s.access, SectionAccess::Open);
    let wider_if = |wider| bearing(sure, wider);
    let by_path = |s: &Side<'_>| s.sections.iter().enumerate().map(|(i, x)| (x.path.clone(), i)).collect::<HashMap<_, _>>();
    let (old, new) = (by_path(before), by_path(after));
    for section in before.sections {
        match new.get(&section.path).and_then(|i| after.sections.get(*i)) {
            // Without its section a path is as the whole gate: closed where it was open, wider where more was asked.
            None => add(wider_if(!opens(section)), What::SectionRemoved { section: told(before, section) }),
            Some(now) => {
                let (was, now) = (told(before, section), told(after, now));
                if was != now {
                    add(wider_if(false), What::SectionChanged { before: was, after: now });
                }
            }
        }
    }
    for section in after.sections.iter().filter(|s| !old.contains_key(&s.path)) {
        add(wider_if(opens(section)), What::SectionAdded { section: told(after, section) });
    }
}
