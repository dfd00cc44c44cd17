//! Who may enter: the part that gates and the console share (provider, directory, rules).

use std::collections::HashMap;

use chrono::Duration;
use chrono_tz::Tz;

use super::AttributeId;
use super::read::Fields;
use crate::condition::{self, Condition};
use crate::mapping::{self, Mapping, Tables};

/// What to do with a person whose directory account is disabled or expired.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Disabled {
    /// Refuse, even though the provider said yes. The default.
    Refuse,
    /// Go on.
    Admit,
}

/// What becomes of a live session whose directory does not answer again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Dead {
    /// What it said last counts for so long, and then nothing does: the person is refused.
    EndAfter(Duration),
    /// What it said last goes on counting.
    Keep,
}

/// Which sign-in is wanted, where groups come from, and the rules.
#[derive(Clone, Debug)]
pub struct Access {
    pub provider: String,
    /// Directories, of which one is asked for a person: see [`Access::asking`].
    pub directories: Vec<String>,
    /// Whether to go on when the directory gives no entry.
    pub without_directory: bool,
    pub disabled: Disabled,
    /// How often the rights of a live session are read again from the directory.
    pub re_read: Duration,
    /// What becomes of live sessions when the directory does not answer again.
    pub dead: Dead,
    /// Attributes that are made here, the site's mappings first.
    pub mappings: Vec<Mapping>,
    /// Whether a SAML provider may send somebody here whom nobody sent to it.
    pub unasked: bool,
    pub rules: Rules,
}

impl Access {
    /// Whether a condition asks about what is made only once the rules have spoken.
    pub(crate) fn asks_too_early(&self, when: &Condition) -> bool {
        let later = |id: &AttributeId| self.mappings.iter().any(|m| m.after_rules && m.attribute == *id);
        when.attributes().iter().any(later)
    }
}

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

/// What a rule gives. Grants of all rules that apply are joined; of single values the first in order counts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Grants {
    pub enter: bool,
    pub roles: Vec<String>,
    /// Values that a delivery may hand on, by name. Single values.
    pub deliver: Vec<(String, String)>,
    /// Words for the person, shown at the quay.
    pub message: Option<String>,
    /// Lifetimes of the session at the gate; never longer than the site's. Single values.
    pub idle: Option<Duration>,
    pub absolute: Option<Duration>,
    /// Networks and flows, kept for gates that open them.
    pub networks: Vec<String>,
    pub flows: Vec<String>,
}

impl Effect {
    /// Whether the rule grants entry.
    pub fn enters(&self) -> bool {
        matches!(self, Effect::Give(g) if g.enter)
    }
}

/// Lists that conditions may name, each with its members as written.
#[derive(Clone, Debug, Default)]
pub(crate) struct Lists {
    pub(crate) networks: Vec<(String, Vec<String>)>,
    pub(crate) groups: Vec<(String, Vec<String>)>,
    pub(crate) people: Vec<(String, Vec<String>)>,
}

impl Lists {
    /// Reads `[lists]`.
    pub(crate) fn read(root: &Fields<'_, '_>) -> Lists {
        let Some(f) = root.table("lists") else { return Lists::default() };
        let mut out = Lists::default();
        for (kind, into) in [("networks", &mut out.networks), ("groups", &mut out.groups), ("people", &mut out.people)] {
            *into = f.values(kind);
            for (name, members) in into.iter() {
                for m in members.iter().filter(|m| !condition::check_list(kind, m)) {
                    let example = match kind {
                        "networks" => "Write networks such as \"10.20.0.0/16\".",
                        "people" => "Write people as \"provider/subject\".",
                        _ => "Write names of groups.",
                    };
                    f.error(kind, format!("\"{m}\" in the list {name} cannot be read"), example);
                }
            }
        }
        f.finish();
        out
    }
}

/// Names that later parts of the document may refer to.
pub(crate) struct Names<'a> {
    pub(crate) providers: &'a [String],
    pub(crate) directories: &'a [String],
    pub(crate) attribute: &'a dyn Fn(&str) -> Option<AttributeId>,
    pub(crate) attributes: &'a [String],
    pub(crate) gates: &'a [String],
    /// Those of them that a mapping makes.
    pub(crate) mapped: &'a [AttributeId],
    pub(crate) tables: &'a Tables,
    pub(crate) lists: &'a Lists,
    /// The zone of clocks, where a condition names none.
    pub(crate) zone: Tz,
}

/// What stands at the top of the file and counts at every gate.
#[derive(Clone, Copy, Default)]
pub(crate) struct OfSite<'a> {
    pub(crate) rules: &'a [Rule],
    pub(crate) mappings: &'a [Mapping],
}

/// References to named parts: one text, or a list.
fn refer_to_several(f: &Fields<'_, '_>, key: &'static str, what: &str, known: &[String]) -> Vec<String> {
    let mut out: Vec<String> = vec![];
    for name in f.text_or_texts(key).unwrap_or_default() {
        if out.contains(&name) {
            f.error(key, format!("{what} \"{name}\" stands twice"), "Name each once.");
        } else if let Some(name) = known_name(f, key, what, known, name) {
            out.push(name);
        }
    }
    out
}

/// A reference to a named part; a wrong one is a finding with the nearest right one.
pub(crate) fn refer(f: &Fields<'_, '_>, key: &'static str, what: &str, known: &[String]) -> Option<String> {
    known_name(f, key, what, known, f.text(key)?)
}

fn known_name(f: &Fields<'_, '_>, key: &'static str, what: &str, known: &[String], name: String) -> Option<String> {
    if known.contains(&name) {
        return Some(name);
    }
    let remedy = match super::finding::nearest(&name, known.iter().map(String::as_str)) {
        Some(meant) => format!("Did you mean \"{meant}\"?"),
        None if known.is_empty() => format!("Add a [[{what}]] with that name."),
        None => format!("There are: {}.", known.join(", ")),
    };
    f.error(key, format!("there is no {what} \"{name}\""), remedy);
    None
}

/// Reads provider, directory and rules from a gate or from `[engineers]`.
pub(crate) fn read_access(
    f: &Fields<'_, '_>,
    names: &Names<'_>,
    allowed_roles: Option<&[&str]>,
    of_site: OfSite<'_>,
    sector: Option<&str>,
) -> Access {
    if !f.has("provider") {
        f.error("provider", "provider is missing".into(), "Name the provider people sign in with.");
    }
    let provider = refer(f, "provider", "provider", names.providers).unwrap_or_default();
    let directories = refer_to_several(f, "directory", "directory", names.directories);
    let without_directory = f.flag("without-directory", false);
    let disabled = f.choice("disabled-accounts", Disabled::Refuse, &[("refuse", Disabled::Refuse), ("admit", Disabled::Admit)]);
    if directories.is_empty() && without_directory {
        f.warn("without-directory", "without-directory has no meaning here".into(), "Name a directory, or take the line away.");
    }
    let m = Duration::minutes;
    let re_read = f.duration("re-read", m(5), m(1), Duration::days(1));
    let dead_for = f.duration("dead-for", m(15), m(1), Duration::days(1));
    let dead = f.choice("dead-directory", Dead::EndAfter(dead_for), &[("end", Dead::EndAfter(dead_for)), ("keep", Dead::Keep)]);
    // What engineers may do hangs on nothing but what stands there and the site's own mappings.
    let mappings = match sector {
        Some(_) => mapping::read(f, names, of_site.mappings, sector),
        None => of_site.mappings.to_vec(),
    };
    let mut rules = of_site.rules.to_vec();
    if directories.is_empty() {
        for r in rules.iter().filter(|r| !r.when.groups().is_empty()) {
            let what = format!("the site's rule \"{}\" asks for a group, and no directory is named here", r.name);
            f.warn(
                "provider",
                what,
                "It is not known there: it lets nobody in, and refuses if it is a refusing one. Name a directory.",
            );
        }
    }
    rules.extend(read_rules(f, names, !directories.is_empty(), allowed_roles, of_site.rules));
    let unasked = sector.is_some() && f.flag("unasked", false);
    let rules = Rules::new(rules);
    let out = Access { provider, directories, without_directory, disabled, re_read, dead, mappings, unasked, rules };
    for r in out.rules.iter().filter(|r| out.asks_too_early(&r.when)) {
        f.error(
            "rule",
            format!("the rule \"{}\" asks about an attribute that is made from what rules give", r.name),
            "Rules come first: ask about what the attribute is made from.",
        );
    }
    out
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
    for r in f.tables("rule") {
        r.is_kind("rule");
        let name = r.need("name", "\"pilots may enter\"").unwrap_or_default();
        if before.iter().chain(&rules).any(|o: &Rule| o.name == name) && !name.is_empty() {
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
            if roles.is_empty() && !r.has("refuse") {
                r.error(
                    "roles",
                    "roles is missing".into(),
                    "Say how far engineers may go: roles = [\"view\"], [\"operate\"] or [\"configure\"].",
                );
            }
        }
        let effect = read_effect(&r, names, has_directory, roles);
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

fn read_effect(r: &Fields<'_, '_>, names: &Names<'_>, has_directory: bool, roles: Vec<String>) -> Option<Effect> {
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
        deliver: r.values("deliver").into_iter().filter_map(single).collect(),
        message: r.text("message"),
        idle: span("idle"),
        absolute: span("absolute"),
        networks: r.texts("networks").unwrap_or_default(),
        flows: r.texts("flows").unwrap_or_default(),
    };
    let gives = grants != Grants::default();
    let step_up = r.table("step-up").and_then(|s| condition::read(&s, names, has_directory, 0));
    match (gives, r.text("refuse"), step_up) {
        (_, None, Some(need)) if !gives => {
            let fit = of_sign_in(&need);
            if !fit {
                r.error(
                    "step-up",
                    "step-up asks for something a sign-in cannot give".into(),
                    "Ask for factor, signed-in-within or context.",
                );
            }
            fit.then_some(Effect::StepUp(need))
        }
        (true, None, None) => Some(Effect::Give(Box::new(grants))),
        (_, Some(words), None) if !words.trim().is_empty() => {
            if grants.enter {
                r.error("refuse", "the rule both enters and refuses".into(), "Keep one of enter and refuse.");
                return None;
            }
            if gives {
                let what =
                    if grants.roles.is_empty() { "a refusing rule gives nothing" } else { "a refusing rule gives no roles" };
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
