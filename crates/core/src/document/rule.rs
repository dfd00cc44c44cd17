//! Reading of `site::rule` from a document.

use std::collections::HashSet;

use chrono::Duration;

use super::condition;
use super::fields::Fields;
use super::names::Names;
use crate::site::{BITS, Condition, Effect, Grants, OCTETS, RolesFrom, Rule};

/// Whether a condition asks for nothing but what a sign-in gives.
fn of_sign_in(need: &Condition) -> bool {
    match need {
        Condition::Factor(..) | Condition::SignedIn(_) | Condition::Context(_) => true,
        Condition::All(parts) | Condition::Any(parts) => parts.iter().all(of_sign_in),
        _ => false,
    }
}

/// Reads `[[rule]]` below a gate, below `[engineers]`, or of the whole site.
pub(crate) fn read_rules(
    f: &Fields<'_, '_>,
    names: &Names<'_>,
    has_directory: bool,
    allowed_roles: Option<&[&str]>,
    before: &[Rule],
) -> Vec<Rule> {
    let mut rules: Vec<Rule> = vec![];
    let mut known: HashSet<String> = before.iter().map(|r| r.name.clone()).collect();
    for r in f.tables("rule") {
        r.is_kind("rule");
        let name = r.need("name", "\"pilots may enter\"").unwrap_or_default();
        if !known.insert(name.clone()) && !name.is_empty() {
            r.error("name", format!("two rules are named \"{name}\""), "Give each rule its own name.");
        }
        let roles = r.texts("roles").unwrap_or_default();
        if let Some(allowed) = allowed_roles {
            for role in roles.iter().filter(|role| !allowed.contains(&role.as_str())) {
                r.error(
                    "roles",
                    format!("\"{role}\" is no role of the console"),
                    format!("Write one of {}.", allowed.join(", ")),
                );
            }
            if roles.is_empty() && !r.has("refuse") && !r.has("roles-from") {
                r.error(
                    "roles",
                    "roles is missing".into(),
                    "Say how far engineers may go: roles = [\"view\"], [\"operate\"] or [\"configure\"].",
                );
            }
        }
        if allowed_roles.is_some() && ["reach", "quota", "rate", "devices"].iter().any(|k| r.has(k)) {
            r.error("reach", "the console opens no network".into(), "Give reach in a rule of a gate of kind network.");
        }
        let roles_from = read_roles_from(&r, names, has_directory, allowed_roles);
        let effect = read_effect(&r, names, has_directory, roles, roles_from);
        let when = match r.table("when") {
            Some(w) => condition::read(&w, names, has_directory, 0),
            None => {
                if !r.has("when") {
                    r.error("when", "when is missing".into(), "Add when = { group = \"…\" }, or when = { everyone = true }.");
                }
                None
            }
        };
        r.finish();
        if let (Some(effect), Some(when)) = (effect, when) {
            rules.push(Rule { name, when, effect });
        }
    }
    rules
}

/// Reads `step-up` of a rule or a section: what a sign-in must have been like.
pub(crate) fn read_step_up(f: &Fields<'_, '_>, names: &Names<'_>, has_directory: bool) -> Option<Condition> {
    let need = f.table("step-up").and_then(|s| condition::read(&s, names, has_directory, 0))?;
    let fit = of_sign_in(&need);
    if !fit {
        f.error(
            "step-up",
            "step-up asks for something a sign-in cannot give".into(),
            "Ask for factor, signed-in-within or context.",
        );
    }
    fit.then_some(need)
}

/// Reads `roles-from`.
fn read_roles_from(r: &Fields<'_, '_>, names: &Names<'_>, has_groups: bool, allowed: Option<&[&str]>) -> Option<RolesFrom> {
    let f = r.table("roles-from")?;
    let (attribute, groups) = (f.text("attribute"), f.flag("groups", false));
    let mut only = f.text_or_texts("only").unwrap_or_default();
    let id = attribute.as_deref().and_then(names.attribute);
    match (&attribute, groups) {
        (Some(name), false) if id.is_none() => {
            let all = names.attributes.join(", ");
            f.error("attribute", format!("there is no attribute \"{name}\""), format!("There are: {all}."));
        }
        (None, true) if !has_groups => {
            f.error("groups", "no groups are known here".into(), "Name a directory, or add [provider.groups].");
        }
        (Some(_), false) | (None, true) => {}
        _ => {
            let example = "Write roles-from = { attribute = \"duties\" }, or { groups = true }.";
            f.error("attribute", "roles come from one attribute, or from groups".into(), example);
        }
    }
    if let Some(allowed) = allowed {
        for role in only.iter().filter(|role| !allowed.contains(&role.as_str())) {
            f.error("only", format!("\"{role}\" is no role of the console"), format!("Write one of {}.", allowed.join(", ")));
        }
        if only.is_empty() {
            only = allowed.iter().map(|a| (*a).to_owned()).collect();
        }
    } else if groups && only.is_empty() {
        f.error("only", "every group would be a role".into(), "Say which of them are: only = [\"planners\"].");
    }
    f.finish();
    (id.is_some() || groups).then_some(RolesFrom { attribute: id, only })
}

fn read_effect(
    r: &Fields<'_, '_>,
    names: &Names<'_>,
    has_directory: bool,
    roles: Vec<String>,
    roles_from: Option<RolesFrom>,
) -> Option<Effect> {
    let span = |key: &'static str| r.span(key, Duration::minutes(1), Duration::days(90));
    let single = |(name, values): (String, Vec<String>)| match values.as_slice() {
        [one] => Some((name, one.clone())),
        _ => {
            r.error("deliver", format!("{name} has several values"), "Give one value to each name.");
            None
        }
    };
    let grants = Grants {
        enter: r.flag("enter", false),
        roles,
        roles_from,
        deliver: r.values("deliver").into_iter().filter_map(single).collect(),
        message: r.text("message"),
        idle: span("idle"),
        absolute: span("absolute"),
        reach: super::names::refer_to_several(r, "reach", "reach", names.reaches),
        quota: r.quantity("quota", &OCTETS, "\"2GB\""),
        rate: r.quantity("rate", &BITS, "\"20Mbit/s\""),
        devices: r.some_number("devices", 1..=1_000).and_then(|n| u16::try_from(n).ok()),
    };
    let gives = grants != Grants::default();
    let step_up = read_step_up(r, names, has_directory);
    match (gives, r.text("refuse"), step_up) {
        (_, None, Some(need)) if !gives => Some(Effect::StepUp(need)),
        (true, None, None) => Some(Effect::Give(Box::new(grants))),
        (_, Some(words), None) if !words.trim().is_empty() => {
            if grants.enter {
                r.error("refuse", "the rule both enters and refuses".into(), "Keep one of enter and refuse.");
                return None;
            }
            if gives {
                let what = if grants.roles.is_empty() && grants.roles_from.is_none() {
                    "a refusing rule gives nothing"
                } else {
                    "a refusing rule gives no roles"
                };
                r.warn("roles", what.into(), "Take away what it cannot give.");
            }
            Some(Effect::Refuse { words })
        }
        (_, Some(_), None) => {
            r.error("refuse", "refuse is empty".into(), "Write the words the refused person will read.");
            None
        }
        (false, None, None) if r.has("step-up") => None,
        (false, None, None) => {
            r.error("enter", "the rule gives nothing".into(), "Add enter = true, or refuse = \"words for the person\".");
            None
        }
        _ => {
            r.error("step-up", "a rule does one thing: give, refuse, or ask for more".into(), "Make several rules of it.");
            None
        }
    }
}
