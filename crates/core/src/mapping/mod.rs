//! Mappings: attributes made from others, from groups, or from what rules give.
//!
//! A mapping has one source, a list of [`Transform`]s applied in order, and perhaps a value for when nothing is left. What it
//! makes is an attribute like any other: it keeps where its values came from and by what, or the reason why there are none.
//! Mappings run in the order of the site file, the site's before the gate's, so that one may use what an earlier one made.
//! Those that need nothing of the rules run before them ([`before_rules`]), and rules may ask about what they make; the
//! others run once the rules have spoken ([`after_rules`]).
//!
//! A source that cannot be known is never skipped: with a directory that does not answer, "the first present of several"
//! would otherwise make another person of somebody.

mod transform;

pub use crate::site::{Affix, Case, Choice, Mapping, Octets, Salts, Source, Transform, Without};

pub(crate) type Tables = Vec<(String, std::collections::HashMap<String, String>)>;

use crate::attribute::{Absence, Attribute, Origin};
use crate::decide::grants::Joined;
use crate::delivery::VALUE_MAX;
use crate::identity::{Groups, Identity};
use crate::site::{Access, AttributeId, Site};

/// The most values of one attribute.
pub const VALUES_MAX: usize = 5_000;

/// Makes what needs nothing of the rules.
pub(crate) fn before_rules(site: &Site, access: &Access, who: &mut Identity) {
    for m in access.mappings.iter().filter(|m| !m.after_rules) {
        let made = make(site, m, who, None);
        who.set(m.attribute, made);
    }
}

/// Makes what needs what the rules gave, and says which attributes those are.
pub(crate) fn after_rules(site: &Site, access: &Access, who: &mut Identity, given: &Joined) -> Vec<AttributeId> {
    let mut out = vec![];
    for m in access.mappings.iter().filter(|m| m.after_rules) {
        let made = make(site, m, who, Some(given));
        who.set(m.attribute, made);
        out.push(m.attribute);
    }
    out
}

/// Applies transforms to values that are no attribute: nothing left is nothing, not a reason.
pub(crate) fn apply(site: &Site, who: &Identity, by: &[Transform], mut values: Vec<String>) -> Result<Vec<String>, Absence> {
    for t in by {
        values = t.apply(site, who, values)?;
    }
    match values.len() > VALUES_MAX {
        true => Err(Absence::Unsafe { why: "too-many".to_owned() }),
        false => Ok(values),
    }
}

fn make(site: &Site, mapping: &Mapping, who: &Identity, given: Option<&Joined>) -> Attribute {
    let (values, of) = match begin(mapping, who, given) {
        Ok(found) => found,
        Err((absence, of)) => return otherwise(mapping, absence, Origin::made(of, vec![])),
    };
    let mut values = values;
    let mut by = vec![];
    for t in &mapping.transforms {
        let step = t.text();
        by.push(step.clone());
        values = match t.apply(site, who, values) {
            Ok(left) if left.is_empty() => {
                return otherwise(mapping, Absence::DroppedBy { step }, Origin::made(of, by));
            }
            Ok(left) => left,
            Err(absence) => return otherwise(mapping, absence, Origin::made(of, by)),
        };
        let over = if values.len() > VALUES_MAX {
            "too-many"
        } else if values.iter().any(|v| v.len() > VALUE_MAX) {
            "too-long"
        } else {
            continue;
        };
        let absence = Absence::Unsafe { why: over.to_owned() };
        return Attribute::Absent { absence, origin: Origin::made(of, by) };
    }
    Attribute::Present { values, origin: Origin::made(of, by) }
}

/// The mapping's own value, where it is certain that there is none.
fn otherwise(mapping: &Mapping, absence: Absence, origin: Origin) -> Attribute {
    match &mapping.otherwise {
        Some(value) if !absence.is_unknown() => Attribute::Present { values: vec![value.clone()], origin: Origin::SiteFile },
        _ => Attribute::Absent { absence, origin },
    }
}

type Begun = Result<(Vec<String>, Vec<Origin>), (Absence, Vec<Origin>)>;

fn begin(mapping: &Mapping, who: &Identity, given: Option<&Joined>) -> Begun {
    let of_rules = |values: Vec<String>| match values.is_empty() {
        true => Err((Absence::NotGiven, vec![Origin::Rules])),
        false => Ok((values, vec![Origin::Rules])),
    };
    match &mapping.source {
        Source::FirstOf(ids) => first_of(ids, who),
        Source::AllOf(ids) => all_of(ids, who),
        Source::Roles => of_rules(given.map(|g| g.roles.clone()).unwrap_or_default()),
        Source::Given(name) => {
            of_rules(given.and_then(|g| g.deliver.iter().find(|(n, _)| n == name)).map(|(_, v)| v.clone()).into_iter().collect())
        }
        Source::GroupNames | Source::GroupDns => match &who.groups {
            Groups::Unknown { absence, origin } => Err((absence.clone(), vec![origin.clone()])),
            Groups::Known { by_name, origin } => {
                let dns = mapping.source == Source::GroupDns;
                let values: Vec<String> =
                    by_name.values().map(|g| if dns { g.dn.clone() } else { g.name.clone() }).filter(|v| !v.is_empty()).collect();
                match values.is_empty() {
                    true => Err((Absence::NotInEntry, vec![origin.clone()])),
                    false => Ok((values, vec![origin.clone()])),
                }
            }
        },
    }
}

fn first_of(ids: &[AttributeId], who: &Identity) -> Begun {
    let mut absence = Absence::NotMapped;
    let mut looked = vec![];
    for id in ids {
        match who.attribute(*id) {
            Attribute::Present { values, origin } => return Ok((values.clone(), vec![origin.clone()])),
            Attribute::Absent { absence: why, origin } => {
                looked.push(origin.clone());
                if why.is_unknown() {
                    return Err((why.clone(), vec![origin.clone()]));
                }
                if absence == Absence::NotMapped {
                    absence = why.clone();
                }
            }
        }
    }
    Err((absence, looked))
}

fn all_of(ids: &[AttributeId], who: &Identity) -> Begun {
    let (mut values, mut of) = (vec![], vec![]);
    let mut absence = Absence::NotMapped;
    for id in ids {
        match who.attribute(*id) {
            Attribute::Present { values: more, origin } => {
                values.extend(more.iter().cloned());
                of.push(origin.clone());
            }
            Attribute::Absent { absence: why, origin } if why.is_unknown() => return Err((why.clone(), vec![origin.clone()])),
            Attribute::Absent { absence: why, .. } if absence == Absence::NotMapped => absence = why.clone(),
            Attribute::Absent { .. } => {}
        }
    }
    if values.is_empty() { Err((absence, of)) } else { Ok((values, of)) }
}
