//! Reading `when` tables.

use chrono::{Duration, NaiveDate, NaiveTime, Weekday};
use chrono_tz::Tz;
use ipnet::IpNet;

use crate::address::network;

use super::fields::Fields;
use super::names::{Lists, Names, device_check};
use crate::identity::Person;
use crate::site::{ACCESS_TOKEN, Compared, Condition, Dates, Hours, Named, Order, PERSONAL_TOKEN, Pattern, Test};

/// How deep conditions may nest.
const DEPTH_MAX: usize = 8;

const KINDS: [&str; 23] = [
    "everyone",
    "group",
    "any-group",
    "attribute",
    "person",
    "way-in",
    "factor",
    "signed-in-within",
    "context",
    "network",
    "hours",
    "dates",
    "gate",
    "path",
    "method",
    "entrance",
    "platform",
    "client-version",
    "profile",
    "device",
    "all",
    "any",
    "none",
];

/// Reads a `when` table. None when it holds a mistake; the report then says which.
pub(crate) fn read(f: &Fields<'_, '_>, names: &Names<'_>, has_directory: bool, depth: usize) -> Option<Condition> {
    f.is_kind("condition");
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
    let kinds = &KINDS;
    let used: Vec<&'static str> = kinds.iter().copied().filter(|k| f.has(k)).collect();
    let need_directory = |key: &'static str| {
        if !has_directory {
            let what = "groups come from a directory or a provider, and neither is named here that has them";
            f.error(key, what.into(), "Add directory = \"…\" beside provider, or [provider.groups].");
        }
    };
    let out = match used.as_slice() {
        ["everyone"] => f.flag("everyone", false).then_some(Condition::Everyone).or_else(|| {
            f.error("everyone", "everyone = false never applies".into(), "Take the rule away, or write another condition.");
            None
        }),
        ["group"] => {
            let group = f.need("group", "\"pilots\"")?;
            need_directory("group");
            Some(if f.flag("direct", false) { Condition::DirectGroup(group) } else { Condition::Group(group) })
        }
        ["any-group"] => {
            need_directory("any-group");
            named(f, "any-group", &names.lists.groups, |t| Some(t.to_owned()), "a group").map(Condition::AnyGroup)
        }
        ["attribute"] => read_attribute(f, names),
        ["person"] => {
            named(f, "person", &names.lists.people, Person::parse, "a person, \"provider/subject\"").map(Condition::Person)
        }
        ["network"] => read_networks(f, names.lists).map(Condition::Network),
        ["way-in"] => {
            let all = f.some_texts("way-in")?;
            let programs = [ACCESS_TOKEN, PERSONAL_TOKEN];
            for p in all.iter().filter(|p| !names.ways.contains(p) && !programs.contains(&p.as_str())) {
                f.error("way-in", format!("there is no way in \"{p}\""), format!("There are: {}.", names.ways.join(", ")));
            }
            Some(Condition::WayIn(all))
        }
        ["factor"] => {
            // A freshness that cannot be read is a mistake, not any freshness.
            let within = span(f, "within");
            let whole = !f.has("within") || within.is_some();
            f.some_texts("factor").filter(|_| whole).map(|all| Condition::Factor(all, within))
        }
        ["signed-in-within"] => span(f, "signed-in-within").map(Condition::SignedIn),
        ["context"] => Some(Condition::Context(f.some_texts("context")?)),
        ["hours"] => f.table("hours").and_then(|h| hours(&h, names.zone)).map(Condition::Hours),
        ["dates"] => f.table("dates").and_then(|d| dates(&d, names.zone)).map(Condition::Dates),
        ["gate"] => {
            let all = f.some_texts("gate")?;
            for g in all.iter().filter(|g| !names.gates.contains(g)) {
                f.error("gate", format!("there is no gate \"{g}\""), format!("There are: {}.", names.gates.join(", ")));
            }
            Some(Condition::Gate(all))
        }
        ["path"] => {
            let all = f.some_texts("path")?;
            for p in all.iter().filter(|p| !p.starts_with('/') || crate::path::canonical(p).as_deref() != Some(p.as_str())) {
                f.error("path", format!("\"{p}\" is no plain path"), "Write it as /a/b, in lower case, without dots or escapes.");
            }
            Some(Condition::Path(all))
        }
        ["method"] => {
            let all = f.some_texts("method")?;
            for m in all.iter().filter(|m| m.is_empty() || !m.bytes().all(|b| b.is_ascii_uppercase() || b == b'-')) {
                f.error("method", format!("\"{m}\" is no request method"), "Write it in capitals, such as \"POST\".");
            }
            Some(Condition::Method(all))
        }
        [kind @ ("entrance" | "platform" | "client-version" | "profile")] => {
            super::client::read_condition(f, kind, names.entrances)
        }
        ["device"] => read_devices(f, names),
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

fn read_devices(f: &Fields<'_, '_>, names: &Names<'_>) -> Option<Condition> {
    let checks = f.some_texts("device")?;
    checks.iter().map(|wanted| device_check(f, "device", wanted, names.devices)).collect::<Option<_>>().map(Condition::Device)
}

fn span(f: &Fields<'_, '_>, key: &'static str) -> Option<Duration> {
    f.span(key, Duration::minutes(1), Duration::days(90))
}

/// Members written out, or the name of a list.
fn named<T>(
    f: &Fields<'_, '_>,
    key: &'static str,
    lists: &[(String, Vec<String>)],
    read: impl Fn(&str) -> Option<T>,
    what: &str,
) -> Option<Named<T>> {
    let all = f.some_texts(key)?;
    let one = all.first().filter(|_| all.len() == 1);
    if let Some((name, members)) = one.and_then(|one| lists.iter().find(|(n, _)| n == one)) {
        // What is wrong in a list is told where it stands.
        return Some(Named { list: Some(name.clone()), members: members.iter().filter_map(|m| read(m)).collect() });
    }
    let mut members = vec![];
    for text in &all {
        match read(text) {
            Some(m) => members.push(m),
            None => {
                let names: Vec<&str> = lists.iter().map(|(n, _)| n.as_str()).collect();
                let remedy = if names.is_empty() {
                    "Add a list of that name under [lists].".to_owned()
                } else {
                    format!("There are the lists {}.", names.join(", "))
                };
                f.error(key, format!("\"{text}\" is neither {what} nor a list"), remedy);
            }
        }
    }
    Some(Named { list: None, members })
}

/// Networks written out, or a list of them.
pub(crate) fn read_networks(f: &Fields<'_, '_>, lists: &Lists) -> Option<Named<IpNet>> {
    named(f, "network", &lists.networks, network, "a network")
}

/// Checks the members of a list where it stands.
pub(crate) fn check_list(kind: &str, member: &str) -> bool {
    match kind {
        "networks" => network(member).is_some(),
        "people" => Person::parse(member).is_some(),
        _ => !member.trim().is_empty(),
    }
}

fn read_attribute(f: &Fields<'_, '_>, names: &Names<'_>) -> Option<Condition> {
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
    const TESTS: [&str; 10] =
        ["is", "one-of", "present", "starts-with", "ends-with", "matches", "at-least", "more-than", "at-most", "less-than"];
    let used: Vec<&'static str> = TESTS.iter().copied().filter(|k| f.has(k)).collect();
    let ordered = |key: &'static str, order| compared(f, key, order).map(|t| (id, t));
    let (id, test) = match used.as_slice() {
        ["present"] => return Some(Condition::Present(id?, f.flag("present", true))),
        ["is"] => (id, Test::OneOf(vec![f.text("is")?])),
        ["one-of"] => (id, Test::OneOf(f.some_texts("one-of")?)),
        ["starts-with"] => (id, Test::StartsWith(f.some_texts("starts-with")?)),
        ["ends-with"] => (id, Test::EndsWith(f.some_texts("ends-with")?)),
        ["matches"] => match Pattern::new(&f.text("matches")?) {
            Ok(p) => (id, Test::Matches(p)),
            Err(why) => {
                f.error(
                    "matches",
                    format!("the pattern cannot be used: {why}"),
                    "Write a regular expression over the whole value.",
                );
                return None;
            }
        },
        ["at-least"] => ordered("at-least", Order::AtLeast)?,
        ["more-than"] => ordered("more-than", Order::MoreThan)?,
        ["at-most"] => ordered("at-most", Order::AtMost)?,
        ["less-than"] => ordered("less-than", Order::LessThan)?,
        _ => {
            f.error(
                "attribute",
                "the condition does not say what to compare".into(),
                format!("Add exactly one of {}.", TESTS.join(", ")),
            );
            return None;
        }
    };
    Some(Condition::Attribute(id?, test))
}

fn compared(f: &Fields<'_, '_>, key: &'static str, order: Order) -> Option<Test> {
    let kind = f.choice("as", "number", &[("number", "number"), ("version", "version"), ("time", "time")]);
    let text = f.text_or_number(key)?;
    let found = Compared::parse(&text, kind);
    if found.is_none() {
        let example = match kind {
            "version" => "\"10.2.1\"",
            "time" => "\"2026-12-31T00:00:00Z\", or \"now\"",
            _ => "18",
        };
        f.error(key, format!("\"{text}\" cannot be read as a {kind}"), format!("Write {key} = {example}."));
    }
    found.map(|c| Test::Compared(order, c))
}

fn zone(f: &Fields<'_, '_>, default: Tz) -> Tz {
    let Some(text) = f.text("zone") else { return default };
    text.parse().unwrap_or_else(|_| {
        f.error("zone", format!("\"{text}\" is no time zone"), "Write one of the IANA names, such as \"Europe/Paris\".");
        default
    })
}

fn clock(f: &Fields<'_, '_>, key: &'static str) -> Option<NaiveTime> {
    let text = f.need(key, "\"08:00\"")?;
    let text = if text == "24:00" { "00:00".to_owned() } else { text };
    let found = NaiveTime::parse_from_str(&text, "%H:%M").ok();
    if found.is_none() {
        f.error(key, format!("\"{text}\" is no time of day"), "Write it as \"08:00\".");
    }
    found
}

fn hours(f: &Fields<'_, '_>, default: Tz) -> Option<Hours> {
    let (from, until) = (clock(f, "from"), clock(f, "until"));
    let mut days = vec![];
    for text in f.texts("days").unwrap_or_default() {
        match text.parse::<Weekday>() {
            Ok(d) => days.push(d),
            Err(_) => f.error("days", format!("\"{text}\" is no day"), "Write mon, tue, wed, thu, fri, sat, sun."),
        }
    }
    let zone = zone(f, default);
    f.finish();
    Some(Hours { from: from?, until: until?, days, zone })
}

/// A day of the calendar.
pub(super) fn day(f: &Fields<'_, '_>, key: &'static str) -> Option<NaiveDate> {
    let text = f.text(key)?;
    let found = text.parse().ok();
    if found.is_none() {
        f.error(key, format!("\"{text}\" is no date"), "Write it as \"2026-12-31\".");
    }
    found
}

fn dates(f: &Fields<'_, '_>, default: Tz) -> Option<Dates> {
    let (from, until) = (day(f, "from"), day(f, "until"));
    if from.is_none() && until.is_none() && !f.has("from") && !f.has("until") {
        f.error("from", "dates names no day".into(), "Add from = \"2026-01-01\", or until.");
        return None;
    }
    let zone = zone(f, default);
    f.finish();
    Some(Dates { from, until, zone })
}
