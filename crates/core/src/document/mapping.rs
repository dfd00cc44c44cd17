//! Reads `[[mapping]]`, of the whole site or of a gate, and `[tables]`.

use std::collections::HashMap;

use super::delivery::attribute;
use super::fields::{Fields, Others};
use super::names::Names;
use crate::site::{Affix, AttributeId, Case, Choice, Mapping, Pattern, Piece, Source, Transform, Without};

/// The most mappings of a gate, and the most transforms of one mapping.
const MAPPINGS_MAX: usize = 100;
const TRANSFORMS_MAX: usize = 20;

const KINDS: [&str; 13] =
    ["choose", "join", "split", "case", "before", "after", "keep", "drop", "table", "format", "hash", "part", "distinct"];

/// Reads mappings below `f`. `before` are the site's, which a gate's may use; `sector` is the gate's name, for which
/// identifiers are pairwise unless the file says otherwise.
pub(crate) fn read(f: &Fields<'_, '_>, names: &Names<'_>, before: &[Mapping], sector: Option<&str>) -> Vec<Mapping> {
    let mut out: Vec<Mapping> = before.to_vec();
    for m in f.tables("mapping") {
        m.is_kind("mapping");
        if let Some(mapping) = one(&m, names, &out, sector) {
            out.push(mapping);
        }
        m.finish();
    }
    if out.len() > MAPPINGS_MAX {
        f.error("mapping", format!("there are {} mappings", out.len()), format!("Use at most {MAPPINGS_MAX}."));
    }
    out
}

fn one(m: &Fields<'_, '_>, names: &Names<'_>, before: &[Mapping], sector: Option<&str>) -> Option<Mapping> {
    let name = m.need("attribute", "\"login\"");
    let made = name.as_deref().and_then(names.attribute);
    if let (Some(name), Some(id)) = (&name, made) {
        if before.iter().any(|b| b.attribute == id) {
            m.error("attribute", format!("the attribute \"{name}\" is made twice"), "Give each mapping an attribute of its own.");
        } else if !names.mapped.contains(&id) {
            m.error(
                "attribute",
                format!("the attribute \"{name}\" already has another source"),
                "Give what the mapping makes a name of its own.",
            );
        }
    }
    // What a mapping makes can be used by those after it only: everything is made in one pass.
    let known = |key: &'static str, name: &str| -> Option<AttributeId> {
        let id = attribute(m, key, name, names)?;
        if names.mapped.contains(&id) && !before.iter().any(|b| b.attribute == id) {
            m.error(key, format!("\"{name}\" is not made before this"), "Put the mapping that makes it first.");
            return None;
        }
        Some(id)
    };
    let source = source(m, &known);
    let mut whole = true;
    let transforms = by(m, |t| {
        let read = transform(t, names, &known, sector);
        whole &= read.is_some();
        read
    });
    let otherwise = m.has("otherwise").then(|| m.need("otherwise", "\"visitor\"")).flatten();
    let mut mapping = Mapping { attribute: made?, source: source?, transforms, otherwise, after_rules: false };
    let later = |id: &AttributeId| before.iter().any(|b| b.after_rules && b.attribute == *id);
    mapping.after_rules = matches!(mapping.source, Source::Roles | Source::Given(_)) || mapping.attributes().iter().any(later);
    whole.then_some(mapping)
}

/// Reads the steps of `by`, one after the other.
fn by(f: &Fields<'_, '_>, mut step: impl FnMut(&Fields<'_, '_>) -> Option<Transform>) -> Vec<Transform> {
    let tables = f.tables("by");
    if tables.len() > TRANSFORMS_MAX {
        f.error("by", format!("by holds {} steps", tables.len()), format!("Use at most {TRANSFORMS_MAX}."));
    }
    let mut out = vec![];
    for t in tables.iter().take(TRANSFORMS_MAX) {
        out.extend(step(t));
        t.finish();
    }
    out
}

fn source(m: &Fields<'_, '_>, known: &dyn Fn(&'static str, &str) -> Option<AttributeId>) -> Option<Source> {
    let kinds = ["from", "all-of", "groups", "roles", "given"];
    let used: Vec<_> = kinds.into_iter().filter(|k| m.has(k)).collect();
    let several = |key: &'static str| -> Option<Vec<AttributeId>> {
        let all = m.text_or_texts(key)?;
        if all.is_empty() {
            m.error(key, format!("{key} is empty"), format!("Write {key} = [\"user\", \"mail\"]."));
            return None;
        }
        all.iter().map(|name| known(key, name)).collect::<Vec<_>>().into_iter().collect()
    };
    match used.as_slice() {
        ["from"] => several("from").map(Source::FirstOf),
        ["all-of"] => several("all-of").map(Source::AllOf),
        ["groups"] => {
            let dns = m.choice("groups", false, &[("names", false), ("dns", true)]);
            Some(if dns { Source::GroupDns } else { Source::GroupNames })
        }
        ["roles"] => m.flag("roles", false).then_some(Source::Roles),
        ["given"] => m.need("given", "\"desk\"").map(Source::Given),
        _ => {
            m.error("attribute", "the mapping needs exactly one source".into(), format!("Add one of {}.", kinds.join(", ")));
            None
        }
    }
}

fn transform(
    t: &Fields<'_, '_>,
    names: &Names<'_>,
    known: &dyn Fn(&'static str, &str) -> Option<AttributeId>,
    sector: Option<&str>,
) -> Option<Transform> {
    t.is_kind("step");
    let used: Vec<&'static str> = KINDS.into_iter().filter(|k| t.has(k)).collect();
    let keeps = || t.choice("without", Without::Drop, &[("drop", Without::Drop), ("keep", Without::Keep)]);
    // Separators may be blanks: a blank is a separator like another.
    let separator = |key: &'static str| -> Option<String> {
        let text = t.text(key)?;
        let fit = !text.is_empty() && text.len() <= 40;
        if !fit {
            t.error(key, format!("{key} is empty or longer than 40 bytes"), format!("Write {key} = \"@\"."));
        }
        fit.then_some(text)
    };
    let affix = |key: &'static str| Some(Affix { separator: separator(key)?, last: t.flag("last", false), without: keeps() });
    let pattern = |key: &'static str| match Pattern::new(&t.text(key)?) {
        Ok(p) => Some(p),
        Err(why) => {
            t.error(key, format!("the pattern cannot be used: {why}"), "Write a regular expression over the whole value.");
            None
        }
    };
    match used.as_slice() {
        ["choose"] => Some(Transform::Choose(choice(t)?)),
        ["join"] => separator("join").map(Transform::Join),
        ["split"] => separator("split").map(Transform::Split),
        ["case"] => Some(Transform::Case(t.choice("case", Case::Lower, &[("lower", Case::Lower), ("upper", Case::Upper)]))),
        ["before"] => affix("before").map(Transform::Before),
        ["after"] => affix("after").map(Transform::After),
        ["keep"] => pattern("keep").map(Transform::Keep),
        ["drop"] => pattern("drop").map(Transform::Drop),
        ["table"] => table(t, names, keeps()),
        ["format"] => {
            let text = t.need("format", "\"{} of {department}\"")?;
            let named = pieces(t, "format", &text)?;
            let pieces = named.into_iter().map(|p| match p {
                Named::Text(text) => Some(Some(Piece::Text(text))),
                Named::Value(name) if name.is_empty() => Some(None),
                Named::Value(name) => known("format", &name).map(|id| Some(Piece::Attribute(id))),
            });
            Some(Transform::Format { pieces: pieces.collect::<Option<_>>()?, text })
        }
        ["hash"] => {
            let secret = t.need("hash", "\"the-name-of-a-secret\"")?;
            let sector = t.text("sector").filter(|s| !s.trim().is_empty()).or(sector.map(str::to_owned));
            if sector.is_none() {
                t.error(
                    "sector",
                    "sector is missing".into(),
                    "Say for whom the identifier is: sector = \"berths\". Below a gate it is the gate.",
                );
            }
            Some(Transform::Hash { secret, sector: sector? })
        }
        ["part"] => t.need("part", "\"cn\"").map(Transform::Part),
        ["distinct"] => t.flag("distinct", false).then_some(Transform::Distinct),
        [] => {
            t.error("choose", "the step does nothing".into(), format!("Write one of {}.", KINDS.join(", ")));
            None
        }
        more => {
            t.error(more[1], format!("{} stand side by side", more.join(" and ")), "Make several steps of it.");
            None
        }
    }
}

fn choice(t: &Fields<'_, '_>) -> Option<Choice> {
    let text = t.text_or_number("choose")?;
    match text.as_str() {
        "first" => Some(Choice::First),
        "last" => Some(Choice::Last),
        n => {
            let nth = n.parse().ok().filter(|n| (1..=1_000).contains(n)).map(Choice::Nth);
            if nth.is_none() {
                t.error("choose", format!("choose = \"{n}\" is not known"), "Write \"first\", \"last\" or a number from 1.");
            }
            nth
        }
    }
}

fn table(t: &Fields<'_, '_>, names: &Names<'_>, without: Without) -> Option<Transform> {
    if !t.is_text("table") {
        let rows: HashMap<String, String> = t.pairs("table").into_iter().map(|(k, v, _)| (k, v)).collect();
        if rows.is_empty() {
            t.error("table", "the table is empty".into(), "Write table = { \"from\" = \"to\" }.");
        }
        return (!rows.is_empty()).then_some(Transform::Table { name: None, rows, without });
    }
    let name = t.need("table", "\"desks\"")?;
    let found = names.tables.iter().find(|(n, _)| *n == name);
    if found.is_none() {
        let remedy = match names.tables.as_slice() {
            [] => "Add it under [tables].".to_owned(),
            all => format!("There are: {}.", all.iter().map(|(n, _)| n.as_str()).collect::<Vec<_>>().join(", ")),
        };
        t.error("table", format!("there is no table \"{name}\""), remedy);
    }
    found.map(|(_, rows)| Transform::Table { name: Some(name), rows: rows.clone(), without })
}

/// Reads `by` of `[provider.groups]`: what makes names of groups from what a provider sends. What looks at somebody's attributes,
/// or leaves one value of several, has no place there.
pub(crate) fn read_for_groups(f: &Fields<'_, '_>, names: &Names<'_>) -> Vec<Transform> {
    by(f, |t| {
        let read = transform(t, names, &|_, _| None, None);
        if let Some(Transform::Choose(_) | Transform::Join(_) | Transform::Format { .. } | Transform::Hash { .. }) = read {
            t.error(
                "by",
                "this step has no place among groups".into(),
                "Use case, before, after, keep, drop, table, part, split or distinct.",
            );
        }
        read
    })
}

/// Reads `[tables]`: each a table of texts.
pub(crate) fn read_tables(root: &Fields<'_, '_>) -> crate::mapping::Tables {
    let Some(f) = root.table("tables") else { return vec![] };
    f.free_tables(Others::AreFaults)
        .into_iter()
        .map(|(name, t)| (name, t.all_pairs(Others::AreFaults).into_iter().map(|(k, v, _)| (k, v)).collect()))
        .collect()
}

/// A piece of a text with braces.
pub(crate) enum Named {
    Text(String),
    /// What stands between braces; empty for `{}`.
    Value(String),
}

/// Takes a text with braces apart; `{{` and `}}` are braces.
pub(crate) fn pieces(f: &Fields<'_, '_>, key: &'static str, text: &str) -> Option<Vec<Named>> {
    let mut pieces = vec![];
    let mut literal = String::new();
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '{' | '}' if chars.peek() == Some(&c) => {
                chars.next();
                literal.push(c);
            }
            '{' => {
                let mut name = String::new();
                let closed = chars.by_ref().find(|c| {
                    let end = *c == '}';
                    if !end {
                        name.push(*c);
                    }
                    end
                });
                if closed.is_none() {
                    f.error(key, "a brace is opened that is not closed".into(), "Write {{ for a brace.");
                    return None;
                }
                if !literal.is_empty() {
                    pieces.push(Named::Text(std::mem::take(&mut literal)));
                }
                pieces.push(Named::Value(name));
            }
            '}' => {
                f.error(key, "a brace is closed that was not opened".into(), "Write }} for a brace.");
                return None;
            }
            c => literal.push(c),
        }
    }
    if !literal.is_empty() {
        pieces.push(Named::Text(literal));
    }
    Some(pieces)
}
