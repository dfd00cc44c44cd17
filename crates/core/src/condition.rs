//! Conditions of rules: TOML tables, no expression language.
//!
//! Truth has three values. What cannot be known (the directory did not answer, nothing maps to the attribute) is neither
//! yes nor no: it never grants entry, and a refusing rule that cannot be judged refuses.

use crate::attribute::Absence;
use crate::identity::{Groups, Identity};
use crate::site::{AttributeId, Site};
use crate::step::Phrase;

/// When a rule applies.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Condition {
    /// Whoever signed in.
    Everyone,
    /// Member of the group, directly or through others. Names compare without regard to case.
    Group(String),
    /// One value of the attribute equals one of these, exactly.
    OneOf(AttributeId, Vec<String>),
    /// The attribute has a value (true) or is known to have none (false).
    Present(AttributeId, bool),
    All(Vec<Condition>),
    Any(Vec<Condition>),
    /// None of these holds.
    None(Vec<Condition>),
}

/// Yes, no, or not known.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Truth {
    No,
    Unknown,
    Yes,
}

impl std::ops::Not for Truth {
    type Output = Truth;

    fn not(self) -> Truth {
        match self {
            Truth::No => Truth::Yes,
            Truth::Unknown => Truth::Unknown,
            Truth::Yes => Truth::No,
        }
    }
}

fn truth(b: bool) -> Truth {
    if b { Truth::Yes } else { Truth::No }
}

fn rank(t: Truth) -> u8 {
    t as u8
}

impl Condition {
    /// Judges the condition for a person.
    pub fn judge(&self, who: &Identity) -> Truth {
        match self {
            Condition::Everyone => Truth::Yes,
            Condition::Group(name) => match &who.groups {
                Groups::Known { .. } => truth(who.groups.contains(name)),
                Groups::Unknown { .. } => Truth::Unknown,
            },
            Condition::OneOf(id, wanted) => match who.attribute(*id).values() {
                Ok(values) => truth(values.iter().any(|v| wanted.contains(v))),
                Err(absence) => absent_truth(absence),
            },
            Condition::Present(id, wanted) => match who.attribute(*id).values() {
                Ok(_) => truth(*wanted),
                Err(absence) => match absent_truth(absence) {
                    Truth::No => truth(!*wanted),
                    unknown => unknown,
                },
            },
            Condition::All(parts) => parts.iter().map(|p| p.judge(who)).min_by_key(|t| rank(*t)).unwrap_or(Truth::Yes),
            Condition::Any(parts) => parts.iter().map(|p| p.judge(who)).max_by_key(|t| rank(*t)).unwrap_or(Truth::No),
            Condition::None(parts) => !parts.iter().map(|p| p.judge(who)).max_by_key(|t| rank(*t)).unwrap_or(Truth::No),
        }
    }

    /// What the condition wants.
    pub fn wanted(&self, site: &Site) -> Phrase {
        let list = |parts: &[Condition]| parts.iter().map(|p| p.wanted(site)).collect();
        let name = |id: &AttributeId| site.attribute_name(*id).to_owned();
        match self {
            Condition::Everyone => Phrase::Everyone,
            Condition::Group(g) => Phrase::Group { group: g.clone(), via: None },
            Condition::OneOf(id, v) => Phrase::Attribute { attribute: name(id), values: v.clone() },
            Condition::Present(id, true) => Phrase::Present { attribute: name(id) },
            Condition::Present(id, false) => Phrase::Absent { attribute: name(id), absence: None },
            Condition::All(p) => Phrase::AllOf { of: list(p) },
            Condition::Any(p) => Phrase::AnyOf { of: list(p) },
            Condition::None(p) => Phrase::NoneOf { of: list(p) },
        }
    }

    /// The values each part saw.
    pub fn saw(&self, site: &Site, who: &Identity) -> Vec<Phrase> {
        let mut out = vec![];
        self.collect_saw(site, who, &mut out);
        out
    }

    fn collect_saw(&self, site: &Site, who: &Identity, out: &mut Vec<Phrase>) {
        let saw = match self {
            Condition::Everyone => Phrase::Everyone,
            Condition::Group(name) => match &who.groups {
                Groups::Known { .. } => match who.groups.found(name) {
                    Some(g) => Phrase::Group { group: g.name.clone(), via: g.via.clone() },
                    None => Phrase::NotInGroup { group: name.clone() },
                },
                Groups::Unknown { absence, .. } => Phrase::GroupsUnknown { absence: absence.clone() },
            },
            Condition::OneOf(id, _) | Condition::Present(id, _) => {
                let attribute = site.attribute_name(*id).to_owned();
                match who.attribute(*id).values() {
                    Ok(values) => Phrase::Attribute { attribute, values: values.to_vec() },
                    Err(absence) => Phrase::Absent { attribute, absence: Some(absence.clone()) },
                }
            }
            Condition::All(p) | Condition::Any(p) | Condition::None(p) => {
                p.iter().for_each(|c| c.collect_saw(site, who, out));
                return;
            }
        };
        if !out.contains(&saw) {
            out.push(saw);
        }
    }

    /// Every group the condition names.
    pub fn groups(&self) -> Vec<&str> {
        match self {
            Condition::Group(g) => vec![g],
            Condition::All(p) | Condition::Any(p) | Condition::None(p) => p.iter().flat_map(|c| c.groups()).collect(),
            _ => vec![],
        }
    }
}

/// An attribute whose source answered without it is known to be absent; any other absence is not knowing.
fn absent_truth(absence: &Absence) -> Truth {
    match absence {
        Absence::NotReleased | Absence::NotInEntry => Truth::No,
        _ => Truth::Unknown,
    }
}

/// How deep conditions may nest.
const DEPTH_MAX: usize = 8;

/// Reads a `when` table. None when it holds a mistake; the report then says which.
pub(crate) fn read(
    f: &crate::site::read::Fields<'_, '_>,
    names: &crate::site::access::Names<'_>,
    has_directory: bool,
    depth: usize,
) -> Option<Condition> {
    if depth > DEPTH_MAX {
        f.error("all", "the condition nests too deep".into(), format!("Use at most {DEPTH_MAX} levels."));
        return None;
    }
    let nested = |key: &'static str| -> Option<Vec<Condition>> {
        let tables = f.tables(key);
        if tables.is_empty() && f.has(key) {
            f.error(key, format!("{key} holds no condition"), format!("Write {key} = [{{ group = \"…\" }}]."));
        }
        let parts: Vec<_> = tables.iter().map(|t| read(t, names, has_directory, depth + 1)).collect();
        (!parts.is_empty()).then_some(())?;
        parts.into_iter().collect()
    };
    let kinds = ["everyone", "group", "attribute", "all", "any", "none"];
    let used: Vec<_> = kinds.into_iter().filter(|k| f.has(k)).collect();
    let out = match used.as_slice() {
        ["everyone"] => f.flag("everyone", false).then_some(Condition::Everyone).or_else(|| {
            f.error("everyone", "everyone = false never applies".into(), "Take the rule away, or write another condition.");
            None
        }),
        ["group"] => {
            let group = f.need("group", "\"pilots\"")?;
            if !has_directory {
                f.error(
                    "group",
                    "groups come from a directory, and none is named here".into(),
                    "Add directory = \"…\" beside provider.",
                );
            }
            Some(Condition::Group(group))
        }
        ["attribute"] => read_attribute(f, names),
        ["all"] => nested("all").map(Condition::All),
        ["any"] => nested("any").map(Condition::Any),
        ["none"] => nested("none").map(Condition::None),
        [] => {
            f.error("group", "the condition is empty".into(), format!("Write one of {}.", kinds.join(", ")));
            None
        }
        more => {
            let first = more[1];
            f.error(first, format!("{} stand side by side", more.join(" and ")), "Join them: when = { all = [ { … }, { … } ] }.");
            None
        }
    };
    f.finish();
    out
}

fn read_attribute(f: &crate::site::read::Fields<'_, '_>, names: &crate::site::access::Names<'_>) -> Option<Condition> {
    let name = f.need("attribute", "\"department\"")?;
    let id = (names.attribute)(&name);
    if id.is_none() {
        let near = names.attributes.join(", ");
        f.error(
            "attribute",
            format!("there is no attribute \"{name}\""),
            format!("Map it under a provider or directory. There are: {near}."),
        );
    }
    match (f.text("is"), f.texts("one-of"), f.has("present")) {
        (Some(is), None, false) => Some(Condition::OneOf(id?, vec![is])),
        (None, Some(of), false) if !of.is_empty() => Some(Condition::OneOf(id?, of)),
        (None, None, true) => Some(Condition::Present(id?, f.flag("present", true))),
        _ => {
            f.error(
                "attribute",
                "the condition does not say what to compare".into(),
                "Add exactly one of is = \"…\", one-of = [\"…\"], present = true.",
            );
            None
        }
    }
}
