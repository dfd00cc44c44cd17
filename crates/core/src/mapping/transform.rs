//! What a mapping does to values, one after the other. A transform that leaves nothing is the reason for the absence, told
//! as it stands in the site file.

use crate::attribute::{Absence, Attribute};
use crate::identity::Identity;
use crate::site::{Case, Choice, Piece, Side, Site, Transform, Without};
use aws_lc_rs::hmac;
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;

impl Transform {
    /// The values that are left. An error is an absence of its own; nothing left is this transform's doing.
    pub(super) fn apply(&self, site: &Site, who: &Identity, values: Vec<String>) -> Result<Vec<String>, Absence> {
        fn each(values: Vec<String>, f: impl Fn(String) -> Option<String>) -> Vec<String> {
            values.into_iter().filter_map(f).collect()
        }
        let out = match self {
            Transform::Choose(choice) => match choice {
                Choice::First => values.into_iter().take(1).collect(),
                Choice::Last => values.into_iter().next_back().into_iter().collect(),
                Choice::Nth(n) => n.checked_sub(1).and_then(|i| values.into_iter().nth(i)).into_iter().collect(),
            },
            Transform::Join(by) => vec![values.join(by)],
            Transform::Split(at) => values.iter().flat_map(|v| v.split(&**at)).map(|p| p.trim().to_owned()).collect(),
            Transform::Case(Case::Lower) => each(values, |v| Some(v.to_lowercase())),
            Transform::Case(Case::Upper) => each(values, |v| Some(v.to_uppercase())),
            Transform::Before(a) => each(values, |v| a.part(v, Side::Before)),
            Transform::After(a) => each(values, |v| a.part(v, Side::After)),
            Transform::Keep(p) => each(values, |v| p.matches(&v).then_some(v)),
            Transform::Drop(p) => each(values, |v| (!p.matches(&v)).then_some(v)),
            Transform::Table { rows, without, .. } => each(values, |v| match rows.get(&v) {
                Some(to) => Some(to.clone()),
                None => (*without == Without::Keep).then_some(v),
            }),
            Transform::Format { pieces, .. } => formatted(who, pieces, &values)?,
            Transform::Hash { secret, sector } => {
                let salt = site.salts.get(secret).ok_or_else(|| Absence::Unsafe { why: "no-secret".to_owned() })?;
                let key = hmac::Key::new(hmac::HMAC_SHA256, salt);
                each(values, |v| {
                    let mut context = hmac::Context::with_key(&key);
                    for part in [b"passeur pairwise".as_slice(), sector.as_bytes(), v.as_bytes()] {
                        context.update(&(part.len() as u64).to_be_bytes());
                        context.update(part);
                    }
                    Some(URL_SAFE_NO_PAD.encode(context.sign()))
                })
            }
            Transform::Part(kind) => each(values, |v| crate::dn::rdn(&v, kind)),
            Transform::Distinct => {
                let mut seen = std::collections::HashSet::new();
                values.into_iter().filter(|v| seen.insert(v.clone())).collect()
            }
        };
        Ok(out.into_iter().filter(|v| !v.trim().is_empty()).collect())
    }
}

fn formatted(who: &Identity, pieces: &[Option<Piece>], values: &[String]) -> Result<Vec<String>, Absence> {
    let mut around = vec![];
    for p in pieces {
        around.push(match p {
            None => None,
            Some(Piece::Text(t)) => Some(t.clone()),
            Some(Piece::Attribute(id)) => match who.attribute(*id) {
                Attribute::Present { values, .. } => Some(values.join(" ")),
                Attribute::Absent { absence, .. } if absence.is_unknown() => return Err(absence.clone()),
                Attribute::Absent { .. } => return Ok(vec![]),
            },
        });
    }
    // One text for all values where the value itself is not asked for.
    let one = [String::new()];
    let values = if pieces.iter().any(Option::is_none) { values } else { &one };
    let longest = crate::delivery::VALUE_MAX;
    let mut out = Vec::with_capacity(values.len());
    for v in values {
        let mut text = String::new();
        for piece in &around {
            text.push_str(piece.as_deref().unwrap_or(v));
            if text.len() > longest {
                return Err(Absence::Unsafe { why: "too-long".to_owned() });
            }
        }
        out.push(text);
    }
    Ok(out)
}
