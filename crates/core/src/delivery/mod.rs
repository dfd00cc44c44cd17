//! Delivery: a named set of values handed to an upstream with the request.
//!
//! Every name that a delivery may set is first taken from the client's request in every spelling an upstream might fold
//! onto it ([`fold_name`]), whether or not a value is delivered in the end.

pub(crate) mod encode;
mod filter;

pub use crate::site::{Delivery, Encoding, Fit, HeaderRule, Missing, OnSeparator, Piece, ValueOf};
pub use encode::VALUE_MAX;

use crate::attribute::{Absence, Origin};
use crate::decide::grants::Joined;
use crate::identity::Identity;
use crate::site::{RADIUS_FILTER_OCTETS, RADIUS_FILTERS_MAX, RadiusValue, Site};
use crate::step;
use crate::step::{Param, Phrase, Witness};

/// A header ready to be sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Delivered {
    pub name: String,
    pub value: Vec<u8>,
}

/// The name under which spellings that an upstream might confuse are the same: letters without case, and everything that
/// is neither letter nor digit (`-`, `_`, `.`, …) alike, as CGI-style variables fold them (RFC 3875 4.1.18).
pub fn fold_name(name: &str) -> String {
    name.bytes().map(|b| if b.is_ascii_alphanumeric() { b.to_ascii_lowercase() as char } else { '-' }).collect()
}

/// Whether a name is a spelling of a folded name ([`fold_name`]); for the data path, which makes no copies.
pub fn folds_to(name: &str, folded: &str) -> bool {
    name.len() == folded.len()
        && name
            .bytes()
            .zip(folded.bytes())
            .all(|(n, f)| if n.is_ascii_alphanumeric() { n.to_ascii_lowercase() == f } else { f == b'-' })
}

/// Why the delivery refuses entry: the header that has no usable value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RequiredMissing {
    pub header: String,
}

/// Prepares every header of a delivery for a person.
pub fn prepare(
    site: &Site,
    delivery: &Delivery,
    who: &Identity,
    given: &Joined,
    witness: &mut impl Witness,
) -> Result<Vec<Delivered>, RequiredMissing> {
    let mut out = Vec::with_capacity(delivery.headers.len());
    for rule in &delivery.headers {
        let found = match &rule.fit {
            None => value_of(site, rule, who, given).map(|(value, origin)| (vec![value], origin)),
            Some(fit) => fitting(site, rule, fit, (who, given), witness),
        };
        match found {
            Ok((values, origin)) => {
                for value in values {
                    witness.step(|| {
                        step!(HeaderDelivered {
                            header: rule.name.as_str(),
                            value: String::from_utf8_lossy(&value).into_owned(),
                            origin: origin.clone()
                        })
                    });
                    out.push(Delivered { name: rule.name.clone(), value });
                }
            }
            Err(reason) => {
                let header = rule.name.as_str();
                witness.step(|| match rule.missing {
                    Missing::Omit => step!(HeaderOmitted { header, reason }),
                    Missing::Refuse => step!(HeaderRefused { header, reason }),
                });
                if rule.missing == Missing::Refuse {
                    return Err(RequiredMissing { header: rule.name.clone() });
                }
            }
        }
    }
    Ok(out)
}

/// The most of one attribute that an answer carries: with many it would be longer than a packet.
const REPEATED_MAX: usize = 20;

/// The values of an attribute of a RADIUS answer, each as it fits. One that does not fit leaves the attribute out.
fn fitting(
    site: &Site,
    rule: &HeaderRule,
    fit: &Fit,
    (who, given): (&Identity, &Joined),
    witness: &mut impl Witness,
) -> Result<(Vec<Vec<u8>>, Phrase), Param> {
    if fit.filters(&rule.value) {
        return Ok((filters(site, rule, given, witness)?, Phrase::FromRules));
    }
    let (values, origin) = raw_values(site, &rule.value, who, given)?;
    let is_each = rule.join.is_none() && fit.attribute.repeats;
    if is_each && values.len() > REPEATED_MAX {
        return Err(Param::Reason { code: "too-many-values".to_owned(), detail: values.len().to_string() });
    }
    let lists: Vec<&[String]> = if is_each { values.chunks(1).collect() } else { vec![&values] };
    let mut out = vec![];
    for values in lists {
        let value = String::from_utf8_lossy(&written(rule, values)?).into_owned();
        let Some(fitted) = fit.attribute.fit(&value, fit.cuts) else {
            let detail = format!("{}: {}", crate::text::shorten(&value, 60), fit.attribute.takes());
            return Err(Param::Reason { code: "does-not-fit".to_owned(), detail });
        };
        if fitted.len() < value.trim().len() && matches!(fit.attribute.value, RadiusValue::Text | RadiusValue::Vlan) {
            let (header, most) = (rule.name.as_str(), fit.attribute.longest() as i64);
            witness.step(|| step!(AttributeCut { header, most }));
        }
        out.push(fitted.into_bytes());
    }
    Ok((out, origin))
}

/// Filter rules from what somebody may reach. Whoever may reach nothing has one that denies everything.
fn filters(site: &Site, rule: &HeaderRule, given: &Joined, witness: &mut impl Witness) -> Result<Vec<Vec<u8>>, Param> {
    let too_many = |detail| Param::Reason { code: "too-many-rules".to_owned(), detail };
    let reaches = given.opens().filter_map(|o| site.reach(&o.reach));
    let made = filter::filter(reaches).ok_or_else(|| too_many(format!("over {RADIUS_FILTERS_MAX}")))?;
    let octets: usize = made.rules.iter().map(|r| r.len() + 1).sum();
    if octets > RADIUS_FILTER_OCTETS {
        return Err(too_many(format!("{octets} octets, over {RADIUS_FILTER_OCTETS}")));
    }
    if !made.names.is_empty() {
        let header = rule.name.as_str();
        witness.step(|| step!(FilterWithoutNames { header, names: made.names.clone() }));
    }
    Ok(made.rules.into_iter().map(String::into_bytes).collect())
}

fn value_of(site: &Site, rule: &HeaderRule, who: &Identity, given: &Joined) -> Result<(Vec<u8>, Phrase), Param> {
    let (values, origin) = raw_values(site, &rule.value, who, given)?;
    Ok((written(rule, &values)?, origin))
}

/// Values as they are sent: joined where they are a list, and encoded.
fn written(rule: &HeaderRule, values: &[String]) -> Result<Vec<u8>, Param> {
    let absence = |unfit: encode::Unfit| match unfit {
        // Which member holds it is what somebody needs to know.
        encode::Unfit::Separator(member) => Param::Reason { code: "separator".to_owned(), detail: member },
        encode::Unfit::Several => Param::reason("several-values"),
        other => Absence::Unsafe { why: other.code().to_owned() }.param(),
    };
    let joined = encode::join(values, rule.join.as_deref(), rule.on_separator).map_err(absence)?;
    encode::encode(&joined, rule.encoding).map_err(absence)
}

/// The values before joining and encoding, with where they come from.
fn raw_values(site: &Site, value: &ValueOf, who: &Identity, given: &Joined) -> Result<(Vec<String>, Phrase), Param> {
    let empty = || Param::reason("empty");
    let from = |origin: &Origin| Phrase::From { origin: origin.clone() };
    match value {
        ValueOf::Constant(c) => Ok((vec![c.clone()], Phrase::FromSiteFile)),
        ValueOf::Roles if given.roles.is_empty() => Err(empty()),
        ValueOf::Roles => Ok((given.roles.clone(), Phrase::FromRules)),
        ValueOf::Given(name) => match given.deliver.iter().find(|(n, _)| n == name) {
            Some((_, value)) => Ok((vec![value.clone()], Phrase::FromRules)),
            None => Err(empty()),
        },
        ValueOf::Reach => {
            let names: Vec<String> = given.opens().map(|o| o.reach.clone()).collect();
            if names.is_empty() { Err(empty()) } else { Ok((names, Phrase::FromRules)) }
        }
        ValueOf::Groups => {
            let names = who.groups.names().map_err(Absence::param)?;
            if names.is_empty() { Err(empty()) } else { Ok((names, from(who.groups.origin()))) }
        }
        ValueOf::Attribute(id) => {
            let attribute = who.attribute(*id);
            let values = attribute.values().map_err(Absence::param)?;
            Ok((values.to_vec(), from(attribute.origin())))
        }
        ValueOf::Template(pieces) => {
            let mut text = String::new();
            let mut origins: Vec<Origin> = vec![];
            for piece in pieces {
                match piece {
                    Piece::Text(t) => text.push_str(t),
                    Piece::Attribute(id) => {
                        let attribute = who.attribute(*id);
                        let values = attribute.values().map_err(|absence| Param::Reason {
                            code: absence.code().to_owned(),
                            detail: site.attribute_name(*id).to_owned(),
                        })?;
                        text.push_str(&values.join(" "));
                        origins.push(attribute.origin().clone());
                    }
                }
            }
            Ok((vec![text], Phrase::FromTemplate { of: origins }))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spellings_that_an_upstream_might_confuse_fold_together() {
        for s in ["X-Harbour-User", "x_harbour_user", "X.Harbour-USER", "x-harbour_user", "X~Harbour`User"] {
            assert_eq!(fold_name(s), "x-harbour-user", "{s}");
        }
        assert_ne!(fold_name("X-HarbourUser"), "x-harbour-user");
    }

    #[test]
    fn comparing_is_folding() {
        for name in ["X-Harbour-User", "x_harbour.user", "X-HarbourUser", "x-harbour-use", "x-harbour-userr", "-", "x"] {
            for other in ["X-Harbour-User", "X-Harbour-Name", "x"] {
                assert_eq!(folds_to(name, &fold_name(other)), fold_name(name) == fold_name(other), "{name} {other}");
            }
        }
    }
}
