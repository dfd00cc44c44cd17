//! Who may enter: the part that gates and the console share (ways in, directory, rules), and what the document may name.

use chrono::Duration;
use chrono_tz::Tz;

use super::callers::{self, ACCESS_TOKEN, Callers, PERSONAL_TOKEN};
use super::read::Fields;
use super::rule::{Effect, Rule, Rules, read_rules};
use super::{AttributeId, Site, Way, WayKind};
use crate::condition::{self, Condition};
use crate::evidence::Evidence;
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

/// Where the groups come from that rules ask about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GroupsFrom {
    /// From the directory that is asked; the default where one is named.
    Directory,
    /// From what the provider sends.
    Provider,
}

/// Which sign-in is wanted, where groups come from, and the rules.
#[derive(Clone, Debug)]
pub struct Access {
    /// Ways in that are taken, by name: providers and ways in of our own. The first is the one that people take unless
    /// something else decides.
    pub ways: Vec<String>,
    /// Directories, of which one is asked for a person: see [`Access::asking`].
    pub directories: Vec<String>,
    /// Where groups come from.
    pub groups: GroupsFrom,
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
    /// Which tokens of programs are taken.
    pub callers: Option<Callers>,
    pub rules: Rules,
}

impl Access {
    /// Whether people of a provider or way in come here, by it or by a passkey of theirs.
    pub fn is_of(&self, site: &Site, provider: &str) -> bool {
        let by_passkey = |w: &Way| matches!(&w.kind, WayKind::Passkey(p) if p.of.iter().any(|o| o == provider));
        self.ways.iter().any(|w| w == provider || site.way(w).is_some_and(by_passkey))
    }

    /// Whether somebody who came in this way is taken here.
    pub fn takes(&self, site: &Site, evidence: &Evidence) -> bool {
        // The name of a provider may stand for another issuer by now.
        if !site.knows(&evidence.provider, &evidence.person()) {
            return false;
        }
        let way = evidence.way();
        let callers = self.callers.as_ref();
        match way {
            ACCESS_TOKEN => return callers.is_some_and(|c| c.access_tokens.contains(&evidence.provider)),
            PERSONAL_TOKEN => return callers.is_some_and(|c| c.personal) && self.is_of(site, &evidence.provider),
            _ => {}
        }
        let theirs = match site.way(way).map(|w| &w.kind) {
            Some(WayKind::Certificate(_)) => {
                return evidence.through.is_none() && callers.is_some_and(|c| c.certificates.as_deref() == Some(way));
            }
            // Who may come by passkey is the site's word of today, whoever enrolled one.
            Some(WayKind::Passkey(p)) => p.of.contains(&evidence.provider),
            _ => evidence.through.is_none(),
        };
        theirs && self.ways.iter().any(|w| w == way)
    }

    /// Whether an attribute is made only once the rules have spoken.
    fn comes_late(&self, id: AttributeId) -> bool {
        self.mappings.iter().any(|m| m.after_rules && m.attribute == id)
    }

    /// Whether a rule hands on, as roles, what is made only then.
    fn gives_too_early(&self, effect: &Effect) -> bool {
        matches!(effect, Effect::Give(g) if g.roles_from.as_ref().and_then(|r| r.attribute).is_some_and(|id| self.comes_late(id)))
    }

    /// Whether a condition asks about what is made only once the rules have spoken.
    pub(crate) fn asks_too_early(&self, when: &Condition) -> bool {
        when.attributes().into_iter().any(|id| self.comes_late(id))
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
    /// Providers and ways in of our own.
    pub(crate) ways: &'a [String],
    /// Those of them whose access tokens can be checked.
    pub(crate) token_givers: &'a [String],
    /// Those of them that send groups.
    pub(crate) group_givers: &'a [String],
    /// Ways in by a directory's password.
    pub(crate) password_ways: &'a [String],
    /// Ways in by client certificate.
    pub(crate) certificate_ways: &'a [String],
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
pub(crate) fn refer_to_several(f: &Fields<'_, '_>, key: &'static str, what: &str, known: &[String]) -> Vec<String> {
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

pub(crate) fn known_name(f: &Fields<'_, '_>, key: &'static str, what: &str, known: &[String], name: String) -> Option<String> {
    if known.contains(&name) {
        return Some(name);
    }
    let remedy = match super::finding::nearest(&name, known.iter().map(String::as_str)) {
        Some(meant) => format!("Did you mean \"{meant}\"?"),
        None if known.is_empty() && what == "way in" => "Add a [[provider]] or a [[way]] with that name.".into(),
        None if known.is_empty() => format!("Add a [[{what}]] with that name."),
        None => format!("There are: {}.", known.join(", ")),
    };
    f.error(key, format!("there is no {what} \"{name}\""), remedy);
    None
}

/// Which ways in are taken: `provider` for one, `ways-in` for several.
fn read_ways(f: &Fields<'_, '_>, names: &Names<'_>) -> Vec<String> {
    let one: Vec<String> = refer(f, "provider", "provider", names.ways).into_iter().collect();
    let several = refer_to_several(f, "ways-in", "way in", names.ways);
    match (f.has("provider"), f.has("ways-in")) {
        (false, false) => {
            f.error("provider", "provider is missing".into(), "Name the provider people sign in with, or several ways-in.");
            vec![]
        }
        (true, true) => {
            f.error("ways-in", "provider and ways-in both say how people sign in".into(), "Keep one of them.");
            vec![]
        }
        (true, false) => one,
        (false, true) => {
            if several.is_empty() {
                f.error("ways-in", "no way in is named".into(), "Name at least one.");
            }
            several
        }
    }
}

/// Reads `groups-from`, and says whether there are groups there.
fn read_groups_from(f: &Fields<'_, '_>, names: &Names<'_>, ways: &[String], directories: &[String]) -> (GroupsFrom, bool) {
    let usual = if directories.is_empty() { GroupsFrom::Provider } else { GroupsFrom::Directory };
    let out = f.choice("groups-from", usual, &[("directory", GroupsFrom::Directory), ("provider", GroupsFrom::Provider)]);
    let there = match out {
        GroupsFrom::Directory => !directories.is_empty(),
        GroupsFrom::Provider => ways.iter().any(|w| names.group_givers.contains(w)),
    };
    if f.has("groups-from") && !there {
        match out {
            GroupsFrom::Directory => {
                f.error("groups-from", "no directory is named here".into(), "Name one, or write groups-from = \"provider\".")
            }
            GroupsFrom::Provider => {
                f.error("groups-from", "no provider here sends groups".into(), "Add [provider.groups] with the claim.")
            }
        }
    }
    (out, there)
}

/// Reads provider, directory and rules from a gate or from `[engineers]`.
pub(crate) fn read_access(
    f: &Fields<'_, '_>,
    names: &Names<'_>,
    allowed_roles: Option<&[&str]>,
    of_site: OfSite<'_>,
    sector: Option<&str>,
) -> Access {
    let ways = read_ways(f, names);
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
    let (groups, has_groups) = read_groups_from(f, names, &ways, &directories);
    if !has_groups {
        for r in rules.iter().filter(|r| !r.when.groups().is_empty()) {
            let what = format!(
                "the site's rule \"{}\" asks for a group, and neither a directory is named here nor does a provider send groups",
                r.name
            );
            f.warn(
                "provider",
                what,
                "It is not known there: it lets nobody in, and refuses if it is a refusing one. Name a directory.",
            );
        }
    }
    rules.extend(read_rules(f, names, has_groups, allowed_roles, of_site.rules));
    let unasked = sector.is_some() && f.flag("unasked", false);
    let callers = if sector.is_some() { callers::read(f, names) } else { None };
    let rules = Rules::new(rules);
    let out = Access { ways, directories, groups, without_directory, disabled, re_read, dead, mappings, unasked, callers, rules };
    for r in out.rules.iter().filter(|r| out.asks_too_early(&r.when) || out.gives_too_early(&r.effect)) {
        f.error(
            "rule",
            format!("the rule \"{}\" asks about an attribute that is made from what rules give", r.name),
            "Rules come first: ask about what the attribute is made from.",
        );
    }
    out
}
