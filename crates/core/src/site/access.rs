//! Who may enter: the part that gates and the console share (provider, directory, rules).

use std::collections::HashMap;

use super::AttributeId;
use super::read::Fields;
use crate::condition::{self, Condition};

/// What to do with a person whose directory account is disabled or expired.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Disabled {
    /// Refuse, even though the provider said yes. The default.
    Refuse,
    /// Go on.
    Admit,
}

/// Which sign-in is wanted, where groups come from, and the rules.
#[derive(Clone, Debug)]
pub struct Access {
    pub provider: String,
    /// The directory asked, if any.
    pub directory: Option<String>,
    /// Whether to go on when the directory gives no entry.
    pub without_directory: bool,
    pub disabled: Disabled,
    pub rules: Rules,
}

/// Rules in the order of the site file, with an index by group: most rules name one group, and of those only the ones
/// whose group somebody is in can concern them.
#[derive(Clone, Debug, Default)]
pub struct Rules {
    all: Vec<Rule>,
    by_group: HashMap<String, Vec<usize>>,
    /// Rules that ask for anything but one group.
    others: Vec<usize>,
}

impl Rules {
    /// Indexes rules.
    pub fn new(all: Vec<Rule>) -> Rules {
        let mut out = Rules { all, ..Rules::default() };
        for (i, rule) in out.all.iter().enumerate() {
            match &rule.when {
                Condition::Group(name) => out.by_group.entry(name.to_lowercase()).or_default().push(i),
                _ => out.others.push(i),
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

/// What a rule gives.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Effect {
    /// Entry, with roles.
    Enter { roles: Vec<String> },
    /// Refusal, with words for the person. A refusal wins over every entry.
    Refuse { words: String },
}

/// Names that later parts of the document may refer to.
pub(crate) struct Names<'a> {
    pub(crate) providers: &'a [String],
    pub(crate) directories: &'a [String],
    pub(crate) attribute: &'a dyn Fn(&str) -> Option<AttributeId>,
    pub(crate) attributes: &'a [String],
}

/// A reference to a named part; a wrong one is a finding with the nearest right one.
pub(crate) fn refer(f: &Fields<'_, '_>, key: &'static str, what: &str, known: &[String]) -> Option<String> {
    let name = f.text(key)?;
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
pub(crate) fn read_access(f: &Fields<'_, '_>, names: &Names<'_>, allowed_roles: Option<&[&str]>) -> Access {
    if !f.has("provider") {
        f.error("provider", "provider is missing".into(), "Name the provider people sign in with.");
    }
    let provider = refer(f, "provider", "provider", names.providers).unwrap_or_default();
    let directory = refer(f, "directory", "directory", names.directories);
    let without_directory = f.flag("without-directory", false);
    let disabled = f.choice("disabled-accounts", Disabled::Refuse, &[("refuse", Disabled::Refuse), ("admit", Disabled::Admit)]);
    if directory.is_none() && without_directory {
        f.warn("without-directory", "without-directory has no meaning here".into(), "Name a directory, or take the line away.");
    }
    let rules = read_rules(f, names, directory.is_some(), allowed_roles);
    Access { provider, directory, without_directory, disabled, rules: Rules::new(rules) }
}

fn read_rules(f: &Fields<'_, '_>, names: &Names<'_>, has_directory: bool, allowed_roles: Option<&[&str]>) -> Vec<Rule> {
    let mut rules = vec![];
    for r in f.tables("rule") {
        let name = r.need("name", "\"pilots may enter\"").unwrap_or_default();
        if rules.iter().any(|o: &Rule| o.name == name) && !name.is_empty() {
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
        let enter = r.flag("enter", false);
        let effect = match (enter, r.text("refuse")) {
            (true, None) => Some(Effect::Enter { roles }),
            (false, Some(words)) if !words.trim().is_empty() => {
                if !roles.is_empty() {
                    r.warn("roles", "a refusing rule gives no roles".into(), "Take roles away.");
                }
                Some(Effect::Refuse { words })
            }
            (false, Some(_)) => {
                r.error("refuse", "refuse is empty".into(), "Write the words the refused person will read.");
                None
            }
            (true, Some(_)) => {
                r.error("refuse", "the rule both enters and refuses".into(), "Keep one of enter and refuse.");
                None
            }
            (false, None) => {
                r.error("enter", "the rule gives nothing".into(), "Add enter = true, or refuse = \"words for the person\".");
                None
            }
        };
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
