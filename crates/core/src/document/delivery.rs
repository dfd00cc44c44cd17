//! Reads `[[delivery]]` from a site file.

use super::fields::Fields;
use super::mapping;
use super::names::Names;
use crate::delivery::{encode, fold_name};
use crate::site::{
    AttributeId, Delivery, Encoding, Fit, HeaderRule, Missing, OnSeparator, Piece, RADIUS_ATTRIBUTES, RadiusAttribute, ValueOf,
};
use crate::text::is_token;

/// Headers that say how a message is framed or routed, or that carry our own or the client's credentials: no delivery
/// may set them.
const RESERVED: &[&str] = &[
    "connection",
    "content-length",
    "content-type",
    "cookie",
    "expect",
    "forwarded",
    "host",
    "keep-alive",
    "origin",
    "proxy-authenticate",
    "proxy-authorization",
    "proxy-connection",
    "referer",
    "sec-fetch-site",
    "set-cookie",
    "te",
    "trailer",
    "transfer-encoding",
    "upgrade",
    "via",
    "x-forwarded-for",
    "x-forwarded-host",
    "x-forwarded-proto",
];

pub(crate) fn read(f: &Fields<'_, '_>, name: String, names: &Names<'_>) -> Delivery {
    let mut headers: Vec<HeaderRule> = vec![];
    for h in f.tables("header") {
        let header = h.need("name", "\"X-Harbour-User\"").unwrap_or_default();
        check_name(&h, &header, &headers);
        let encodings = [
            ("utf-8", Encoding::Utf8),
            ("latin-1", Encoding::Latin1),
            ("percent", Encoding::Percent),
            ("base64", Encoding::Base64),
        ];
        let encoding = h.choice("encoding", Encoding::Utf8, &encodings);
        h.value("encoding");
        let value = read_value(&h, &SOURCES, names);
        headers.extend(read_rule(&h, header, encoding, None, value));
    }
    let attributes = f.tables("attribute");
    if !headers.is_empty() && !attributes.is_empty() {
        f.error("attribute", "the delivery has headers as well".into(), "Make two of it: one for requests, one for RADIUS.");
    }
    for h in attributes {
        let named = h.need("name", "\"Filter-Id\"").unwrap_or_default();
        let cuts = h.choice("too-long", false, &[("refuse", false), ("cut", true)]);
        let fit = read_fit(&h, &named, names).map(|attribute| Fit { attribute, cuts });
        let is_there = |o: &HeaderRule| o.name.eq_ignore_ascii_case(&named) && !fit.as_ref().is_some_and(|f| f.attribute.repeats);
        if headers.iter().any(is_there) {
            h.error("name", format!("{named} stands twice, and an answer carries it once"), "Keep one of them.");
        }
        let name = fit.as_ref().map_or(named, |f| f.attribute.name.clone());
        let closes = |o: &HeaderRule| o.name == name && o.fit.as_ref().is_some_and(|f| f.filters(&o.value));
        if headers.iter().any(closes) {
            h.error(
                "name",
                format!("{name} from reach denies all that is left, so that no rule after it counts"),
                "Put it last.",
            );
        }
        let value = read_value(&h, &SOURCES_OF_RADIUS, names);
        headers.extend(read_rule(&h, name, Encoding::Utf8, fit, value));
    }
    if headers.is_empty() && !f.has("header") && !f.has("attribute") {
        f.error("header", "the delivery has no header".into(), "Add [[delivery.header]], or [[delivery.attribute]] for RADIUS.");
    }
    f.finish();
    Delivery { name, headers }
}

/// What headers and attributes have in common.
fn read_rule(
    h: &Fields<'_, '_>,
    name: String,
    encoding: Encoding,
    fit: Option<Fit>,
    value: Option<ValueOf>,
) -> Option<HeaderRule> {
    // Of groups and roles a header holds one list, and an attribute that repeats holds one each.
    let repeats = fit.as_ref().is_some_and(|f| f.attribute.repeats);
    let is_list = |v: &ValueOf| matches!(v, ValueOf::Groups | ValueOf::Roles | ValueOf::Reach) && !repeats;
    let rule = value.map(|value| HeaderRule {
        name,
        encoding,
        // Groups and roles are lists whoever they are of.
        join: h.text("join").or_else(|| is_list(&value).then(|| ",".to_owned())),
        value,
        on_separator: h.choice(
            "on-separator",
            OnSeparator::Refuse,
            &[("refuse", OnSeparator::Refuse), ("escape", OnSeparator::Escape)],
        ),
        missing: h.choice("missing", Missing::Omit, &[("omit", Missing::Omit), ("refuse", Missing::Refuse)]),
        fit,
    });
    for key in ["join", "on-separator", "missing"] {
        h.value(key);
    }
    h.finish();
    let mut rule = rule?;
    // A gateway that is told no filter lets everything through.
    if rule.fit.as_ref().is_some_and(|f| f.filters(&rule.value)) {
        if h.has("missing") && rule.missing == Missing::Omit {
            let what = format!("without {} a gateway lets everything through", rule.name);
            h.error("missing", what, "Take the line away: whoever cannot be told their filter is not let in.");
        }
        rule.missing = Missing::Refuse;
    }
    let bad = |join: &String| join.is_empty() || join.len() > 4 || join.chars().any(|c| c.is_control() || !c.is_ascii());
    if rule.on_separator == OnSeparator::Escape && rule.join.is_none() {
        h.warn("on-separator", "one value has no separator to escape".into(), "Add join = \",\" where the attribute is a list.");
    }
    if rule.join.as_ref().is_some_and(bad) {
        h.error("join", "join must be one to four visible ASCII characters".into(), "Write join = \",\".");
    }
    if let ValueOf::Constant(c) = &rule.value {
        if encode::encode(c, rule.encoding).is_err() {
            h.error("value", "the constant cannot be sent in this encoding".into(), "Change the text or the encoding.");
        }
        if let Some(fit) = rule.fit.as_ref().filter(|f| f.attribute.fit(c, f.cuts).is_none()) {
            let what = format!("the constant does not fit in {}", fit.attribute.name);
            h.error("constant", what, format!("Write {}.", fit.attribute.takes()));
        }
    }
    Some(rule)
}

/// The attribute of a RADIUS answer that a name stands for.
fn read_fit(h: &Fields<'_, '_>, named: &str, names: &Names<'_>) -> Option<RadiusAttribute> {
    let of_vendor = names.vendors.iter().find(|a| a.name.eq_ignore_ascii_case(named)).cloned();
    let found = of_vendor.or_else(|| RadiusAttribute::standard(named));
    if found.is_none() && !named.is_empty() {
        let all: Vec<&str> =
            RADIUS_ATTRIBUTES.iter().map(|(n, ..)| *n).chain(names.vendors.iter().map(|a| a.name.as_str())).collect();
        let remedy = format!("There are: {}. A vendor's own is declared as [[vendor-attribute]].", all.join(", "));
        h.error("name", format!("a delivery fills no attribute \"{named}\""), remedy);
    }
    found
}

fn check_name(h: &Fields<'_, '_>, header: &str, others: &[HeaderRule]) {
    if header.is_empty() {
        return;
    }
    if header.len() > 100 || !is_token(header) {
        h.error("name", format!("\"{header}\" is no header name"), "Use letters, digits and hyphens (RFC 9110 5.1).");
    }
    let folded = fold_name(header);
    if RESERVED.contains(&folded.as_str()) || folded.starts_with("x-forwarded-") {
        h.error(
            "name",
            format!("{header} has a meaning of its own and cannot be delivered"),
            "Choose a header of the application's own, such as X-Harbour-User.",
        );
    }
    if let Some(other) = others.iter().find(|o| fold_name(&o.name) == folded) {
        let what = format!("{header} and {} look the same to many applications", other.name);
        h.error("name", what, "Keep one of them.");
    }
}

/// Where a header's value may come from, and an attribute's of a RADIUS answer: a request opens no network.
const SOURCES: [&str; 6] = ["attribute", "groups", "roles", "given", "constant", "template"];
const SOURCES_OF_RADIUS: [&str; 7] = ["attribute", "groups", "roles", "reach", "given", "constant", "template"];

fn read_value(h: &Fields<'_, '_>, kinds: &[&'static str], names: &Names<'_>) -> Option<ValueOf> {
    let used: Vec<_> = kinds.iter().copied().filter(|k| h.has(k)).collect();
    match used.as_slice() {
        ["attribute"] => attribute(h, "attribute", &h.text("attribute")?, names).map(ValueOf::Attribute),
        ["groups"] => h.flag("groups", false).then_some(ValueOf::Groups),
        ["roles"] => h.flag("roles", false).then_some(ValueOf::Roles),
        ["reach"] => h.flag("reach", false).then_some(ValueOf::Reach),
        ["given"] => h.need("given", "\"desk\"").map(ValueOf::Given),
        ["constant"] => h.text("constant").map(ValueOf::Constant),
        ["template"] => template(h, &h.text("template")?, names).map(ValueOf::Template),
        _ => {
            h.error("name", "the header needs exactly one source".into(), format!("Add one of {}.", kinds.join(", ")));
            None
        }
    }
}

/// An attribute by its name; a wrong one is a finding with the nearest right one.
pub(crate) fn attribute(h: &Fields<'_, '_>, key: &'static str, name: &str, names: &Names<'_>) -> Option<AttributeId> {
    let found = (names.attribute)(name);
    if found.is_none() {
        let remedy = match super::finding::nearest_word(name, names.attributes) {
            Some(meant) => format!("Did you mean \"{meant}\"?"),
            None => format!("There are: {}.", names.attributes.join(", ")),
        };
        h.error(key, format!("there is no attribute \"{name}\""), remedy);
    }
    found
}

/// `{attribute}` stands for its values; `{{` and `}}` are braces.
fn template(h: &Fields<'_, '_>, text: &str, names: &Names<'_>) -> Option<Vec<Piece>> {
    let named = mapping::pieces(h, "template", text)?;
    let piece = |p| match p {
        mapping::Named::Text(text) => Some(Piece::Text(text)),
        mapping::Named::Value(name) => attribute(h, "template", &name, names).map(Piece::Attribute),
    };
    named.into_iter().map(piece).collect()
}
