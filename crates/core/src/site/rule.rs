//! Rules: when each applies and what it gives, with an index by group, and reading them.

use std::collections::{HashMap, HashSet};

use chrono::Duration;

use super::AttributeId;
use super::access::Names;
use super::read::Fields;
use crate::condition::{self, Condition};

/// Rules in the order of the site file, with an index by group: most rules ask for a group, and of those only the ones whose
/// group somebody is in can concern them.
#[derive(Clone, Debug, Default)]
pub struct Rules {
    all: Vec<Rule>,
    by_group: HashMap<String, Vec<usize>>,
    /// Rules that may apply to somebody in no group at all.
    others: Vec<usize>,
}

impl Rules {
    /// The same with one rule more, after all others.
    pub(crate) fn and(&self, more: impl IntoIterator<Item = Rule>) -> Rules {
        Rules::new(self.all.iter().cloned().chain(more).collect())
    }

    /// Indexes rules.
    pub fn new(all: Vec<Rule>) -> Rules {
        let mut out = Rules { all, ..Rules::default() };
        for (i, rule) in out.all.iter().enumerate() {
            match gathering(&rule.when) {
                Some(groups) => {
                    for name in groups {
                        let list = out.by_group.entry(name.to_lowercase()).or_default();
                        if list.last() != Some(&i) {
                            list.push(i);
                        }
                    }
                }
                None => out.others.push(i),
            }
        }
        out
    }

    /// The rules that can concern somebody in these groups (in lower case), in order: every other one asks for a group
    /// that they are not in.
    pub fn concerning<'a>(&'a self, groups: impl Iterator<Item = &'a str>) -> Vec<&'a Rule> {
        let mut found: Vec<usize> = groups.filter_map(|g| self.by_group.get(g)).flatten().copied().collect();
        found.extend(&self.others);
        found.sort_unstable();
        found.dedup();
        found.into_iter().filter_map(|i| self.all.get(i)).collect()
    }
}

impl std::ops::Deref for Rules {
    type Target = [Rule];
    fn deref(&self) -> &[Rule] {
        &self.all
    }
}

/// One rule: when it applies and what it gives.
#[derive(Clone, Debug)]
pub struct Rule {
    pub name: String,
    pub when: Condition,
    pub effect: Effect,
}

/// Groups of which somebody must be in one for a condition to hold, or to be unknown; none where there are no such groups.
fn gathering(when: &Condition) -> Option<Vec<&str>> {
    match when {
        Condition::Group(g) | Condition::DirectGroup(g) => Some(vec![g]),
        Condition::AnyGroup(list) => Some(list.members.iter().map(String::as_str).collect()),
        Condition::All(parts) => parts.iter().find_map(gathering),
        Condition::Any(parts) if !parts.is_empty() => {
            parts.iter().map(gathering).collect::<Option<Vec<_>>>().map(|all| all.into_iter().flatten().collect())
        }
        _ => None,
    }
}

/// Whether a condition asks for nothing but what a sign-in gives.
fn of_sign_in(need: &Condition) -> bool {
    match need {
        Condition::Factor(..) | Condition::SignedIn(_) | Condition::Context(_) => true,
        Condition::All(parts) | Condition::Any(parts) => parts.iter().all(of_sign_in),
        _ => false,
    }
}

/// What a rule does.
#[derive(Clone, Debug, PartialEq)]
pub enum Effect {
    /// Gives something: entry, or what comes with it.
    Give(Box<Grants>),
    /// Refusal, with words for the person. A refusal wins over every entry.
    Refuse { words: String },
    /// Refuses unless the sign-in was as strong and as fresh as this.
    StepUp(Condition),
}

/// Roles that come from somebody's claims or groups.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RolesFrom {
    /// The attribute whose values are roles; none for names of groups.
    pub attribute: Option<AttributeId>,
    /// Roles that may come so; at a gate, empty means any that is plain.
    pub only: Vec<String>,
}

/// The longest name of a role that comes from outside, in bytes, and the most of them.
const ROLE_MAX: usize = 80;
const ROLES_MAX: usize = 50;

impl RolesFrom {
    /// Roles among values, and whatever of them is none.
    pub fn among<'v>(&self, values: impl IntoIterator<Item = &'v str>) -> (Vec<String>, Vec<String>) {
        let plain = |v: &str| {
            let fit = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | ':' | '/' | ' ');
            !v.trim().is_empty() && v.len() <= ROLE_MAX && v.chars().all(fit)
        };
        let (mut roles, mut other): (Vec<String>, Vec<String>) = (vec![], vec![]);
        for value in values {
            let known = if self.only.is_empty() {
                plain(value).then_some(value)
            } else {
                self.only.iter().map(String::as_str).find(|o| o.eq_ignore_ascii_case(value))
            };
            let into = if known.is_some() && roles.len() < ROLES_MAX { &mut roles } else { &mut other };
            let value = known.unwrap_or(value).to_owned();
            if !into.contains(&value) {
                into.push(value);
            }
        }
        (roles, other)
    }
}

/// What a rule gives. Grants of all rules that apply are joined; of single values the first in order counts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Grants {
    pub enter: bool,
    pub roles: Vec<String>,
    /// Roles besides, worked out anew at every decision.
    pub roles_from: Option<RolesFrom>,
    /// Values that a delivery may hand on, by name. Single values.
    pub deliver: Vec<(String, String)>,
    /// Words for the person, shown at the quay.
    pub message: Option<String>,
    /// Lifetimes of the session at the gate; never longer than the site's. Single values.
    pub idle: Option<Duration>,
    pub absolute: Option<Duration>,
}

impl Effect {
    /// Whether the rule grants entry.
    pub fn enters(&self) -> bool {
        matches!(self, Effect::Give(g) if g.enter)
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
