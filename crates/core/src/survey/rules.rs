//! Rules: those that can never apply, that refuse everybody, that change nothing, and groups that no directory has.

use super::deliveries::is_fed;
use super::{Code, Facts, Finding, Word, places};
use crate::Moment;
use crate::condition::Condition;
use crate::site::{ACCESS_TOKEN, Access, Callers, Effect, Grants, GroupsFrom, PERSONAL_TOKEN, Rule, Site};

/// What can be said of a condition without knowing who comes.
#[derive(Clone, Debug, PartialEq)]
enum Outlook {
    Always,
    Maybe,
    /// It can never be known: it grants nothing, and a refusing rule refuses.
    Unknown(Why),
    Never(Why),
}

/// Why a condition can never hold, or be known.
#[derive(Clone, Debug, PartialEq)]
enum Why {
    NoDirectory,
    NoGroups,
    NotMapped(String),
    OtherProvider,
    OtherPeople,
    EmptyList(String),
    Over(String),
    NotTrue,
    OtherGate,
}

impl Why {
    fn words(&self) -> Word {
        let (en, fr) = match self {
            Why::NoDirectory => (
                "it asks for a group, and no directory is named".to_owned(),
                "elle demande un groupe, et aucun annuaire n'est nommé".to_owned(),
            ),
            Why::NoGroups => (
                "it asks for a group, and the directory is not asked for groups".to_owned(),
                "elle demande un groupe, et l'annuaire n'en donne pas".to_owned(),
            ),
            Why::NotMapped(a) => (format!("nothing feeds the attribute {a} there"), format!("rien n'y alimente l'attribut {a}")),
            Why::OtherProvider => {
                ("people come through another provider".to_owned(), "les gens passent par un autre fournisseur".to_owned())
            }
            Why::OtherPeople => (
                "the people it names come through another provider".to_owned(),
                "les personnes nommées passent par un autre fournisseur".to_owned(),
            ),
            Why::EmptyList(l) => (format!("the list {l} is empty"), format!("la liste {l} est vide")),
            Why::Over(day) => (format!("its dates ended on {day}"), format!("ses dates ont pris fin le {day}")),
            Why::NotTrue => (
                "it asks that something does not hold which always holds".to_owned(),
                "elle exige que ne soit pas ce qui est toujours".to_owned(),
            ),
            Why::OtherGate => ("it names other gates".to_owned(), "elle nomme d'autres portes".to_owned()),
        };
        Word::Say([en, fr])
    }
}

struct Looking<'a> {
    site: &'a Site,
    access: &'a Access,
    /// The gate's name; none for the console.
    gate: Option<&'a str>,
    now: Moment,
}

impl Looking<'_> {
    fn outlook(&self, c: &Condition) -> Outlook {
        use Outlook::{Always, Maybe, Never, Unknown};
        match c {
            Condition::Everyone => Always,
            Condition::Group(_) | Condition::DirectGroup(_) => self.groups(),
            Condition::AnyGroup(list) if list.members.is_empty() => Never(Why::EmptyList(list.list.clone().unwrap_or_default())),
            Condition::AnyGroup(_) => self.groups(),
            Condition::Attribute(id, _) | Condition::Present(id, _) => match is_fed(self.site, self.access, *id) {
                true => Maybe,
                false => Unknown(Why::NotMapped(self.site.attribute_name(*id).to_owned())),
            },
            Condition::WayIn(of) if !of.iter().any(|w| self.comes(w)) => Never(Why::OtherProvider),
            Condition::WayIn(of) if self.access.callers.is_none() && self.access.ways.iter().all(|w| of.contains(w)) => Always,
            Condition::WayIn(_) => Maybe,
            Condition::Person(list) if list.members.is_empty() => Never(Why::EmptyList(list.list.clone().unwrap_or_default())),
            Condition::Person(list) if !list.members.iter().any(|p| self.gives(&p.provider)) => Never(Why::OtherPeople),
            Condition::Network(list) if list.members.is_empty() => Never(Why::EmptyList(list.list.clone().unwrap_or_default())),
            Condition::Dates(dates) => match dates.ended(self.now) {
                Some(day) => Never(Why::Over(day)),
                None => Maybe,
            },
            Condition::Gate(gates) => match self.gate {
                Some(gate) if gates.iter().any(|g| g == gate) => Always,
                _ => Never(Why::OtherGate),
            },
            Condition::All(parts) => {
                let all: Vec<_> = parts.iter().map(|p| self.outlook(p)).collect();
                let never = all.iter().find(|o| matches!(o, Never(_)));
                let unknown = all.iter().find(|o| matches!(o, Unknown(_)));
                match (never, unknown) {
                    (Some(o), _) | (None, Some(o)) => o.clone(),
                    (None, None) if all.iter().all(|o| *o == Always) => Always,
                    (None, None) => Maybe,
                }
            }
            Condition::Any(parts) => {
                let all: Vec<_> = parts.iter().map(|p| self.outlook(p)).collect();
                if all.contains(&Always) {
                    return Always;
                }
                if all.contains(&Maybe) {
                    return Maybe;
                }
                all.iter().find(|o| matches!(o, Unknown(_))).or(all.first()).cloned().unwrap_or(Never(Why::NotTrue))
            }
            Condition::None(parts) => {
                let all: Vec<_> = parts.iter().map(|p| self.outlook(p)).collect();
                if all.contains(&Always) {
                    return Never(Why::NotTrue);
                }
                match all.iter().find(|o| matches!(o, Unknown(_))) {
                    Some(o) => o.clone(),
                    None if all.iter().all(|o| matches!(o, Never(_))) => Always,
                    None => Maybe,
                }
            }
            _ => Maybe,
        }
    }

    /// Whether people of a provider or way in come here, themselves or by a program.
    fn gives(&self, provider: &str) -> bool {
        let by_token = |c: &Callers| c.access_tokens.iter().any(|p| p == provider);
        let by_certificate = |c: &Callers| c.certificates.as_deref() == Some(provider);
        let callers = self.access.callers.as_ref();
        self.access.is_of(self.site, provider) || callers.is_some_and(|c| by_token(c) || by_certificate(c))
    }

    /// Whether anybody comes here that way.
    fn comes(&self, way: &str) -> bool {
        let callers = self.access.callers.as_ref();
        match way {
            ACCESS_TOKEN => callers.is_some_and(|c| !c.access_tokens.is_empty()),
            PERSONAL_TOKEN => callers.is_some_and(|c| c.personal),
            _ => self.access.ways.iter().any(|w| w == way) || callers.is_some_and(|c| c.certificates.as_deref() == Some(way)),
        }
    }

    fn groups(&self) -> Outlook {
        let mut directories = self.access.directories.iter().filter_map(|d| self.site.directory(d)).peekable();
        match (directories.peek().is_none(), directories.any(|d| d.groups.is_some())) {
            (true, _) => Outlook::Unknown(Why::NoDirectory),
            (false, false) => Outlook::Unknown(Why::NoGroups),
            (false, true) => Outlook::Maybe,
        }
    }
}

pub(super) fn look(site: &Site, facts: &Facts, out: &mut Vec<Finding>) {
    let of_site = site.site_rules.len();
    for (place, access) in places(site) {
        let gate = place.strip_prefix("gate ");
        let looking = Looking { site, access, gate, now: facts.now };
        let finding =
            |code, rule: &Rule| Finding::new(code, place.as_str()).with("gate", place.as_str()).with("rule", rule.name.as_str());
        let mut admits = false;
        for (i, rule) in access.rules.iter().enumerate() {
            let outlook = looking.outlook(&rule.when);
            admits |= rule.effect.enters() && matches!(outlook, Outlook::Always | Outlook::Maybe);
            // Rules of the whole site often mean some gates only; what never applies anywhere is told once, below.
            let own = gate.is_none() || i >= of_site;
            match (&outlook, &rule.effect) {
                (Outlook::Unknown(why), Effect::Refuse { .. } | Effect::StepUp(_)) => {
                    out.push(finding(Code::RuleRefusesAll, rule).with("why", why.words()));
                }
                (Outlook::Unknown(why) | Outlook::Never(why), _) if own => {
                    out.push(finding(Code::RuleNever, rule).with("why", why.words()));
                }
                _ => {}
            }
            if own
                && matches!(outlook, Outlook::Always | Outlook::Maybe)
                && let Some(by) = hidden_by(&access.rules, i)
            {
                out.push(finding(Code::RuleHidden, rule).with("by", by.name.as_str()));
            }
            missing_groups(&place, access, rule, facts, out);
        }
        if let Some(name) = gate {
            let code = if access.rules.len() <= of_site && !admits {
                Some(Code::GateNoRule)
            } else {
                (!admits).then_some(Code::GateAdmitsNobody)
            };
            out.extend(code.map(|c| Finding::new(c, place.as_str()).with("gate", name)));
        }
    }
    never_anywhere(site, facts, out);
    let configures =
        |a: &Access| a.rules.iter().any(|r| matches!(&r.effect, Effect::Give(g) if g.roles.iter().any(|r| r == "configure")));
    if !site.engineers.as_ref().is_some_and(configures) {
        out.push(Finding::new(Code::NobodyConfigures, "the console"));
    }
}

/// Rules of the whole site that apply at no gate at all.
fn never_anywhere(site: &Site, facts: &Facts, out: &mut Vec<Finding>) {
    for rule in &site.site_rules {
        let at =
            |g: &crate::site::Gate| Looking { site, access: &g.access, gate: Some(&g.name), now: facts.now }.outlook(&rule.when);
        let all: Vec<Outlook> = site.gates.iter().map(at).collect();
        let gives = matches!(rule.effect, Effect::Give(_));
        let dead = |o: &Outlook| matches!(o, Outlook::Never(_)) || (gives && matches!(o, Outlook::Unknown(_)));
        if let Some(Outlook::Never(why) | Outlook::Unknown(why)) = all.first().filter(|_| all.iter().all(dead)) {
            out.push(
                Finding::new(Code::RuleNever, "the site")
                    .with("gate", Word::Say(["the site".into(), "tout le site".into()]))
                    .with("rule", rule.name.as_str())
                    .with("why", why.words()),
            );
        }
    }
}

/// Whether one condition holds whenever another does, as far as their form shows.
fn implies(a: &Condition, b: &Condition) -> bool {
    let same = |x: &str, y: &str| x.eq_ignore_ascii_case(y);
    match (a, b) {
        _ if a == b => true,
        (_, Condition::Everyone) => true,
        (_, Condition::All(parts)) if !parts.is_empty() => parts.iter().all(|p| implies(a, p)),
        (Condition::All(parts), _) if parts.iter().any(|p| implies(p, b)) => true,
        (Condition::Any(parts), _) if !parts.is_empty() => parts.iter().all(|p| implies(p, b)),
        (_, Condition::Any(parts)) => parts.iter().any(|p| implies(a, p)),
        (Condition::DirectGroup(x) | Condition::Group(x), Condition::Group(y)) => same(x, y),
        (Condition::DirectGroup(x) | Condition::Group(x), Condition::AnyGroup(list)) => list.members.iter().any(|m| same(x, m)),
        (Condition::AnyGroup(x), Condition::AnyGroup(y)) => x.members.iter().all(|m| y.members.iter().any(|n| same(m, n))),
        _ => false,
    }
}

/// The rule that makes another one of no effect: one that refuses whomever it applies to, or one before it that gives all it
/// gives to the same people.
fn hidden_by(rules: &[Rule], index: usize) -> Option<&Rule> {
    let rule = rules.get(index)?;
    rules.iter().enumerate().find_map(|(i, other)| {
        let covers = i != index && implies(&rule.when, &other.when);
        let hides = match (&other.effect, &rule.effect) {
            (Effect::Refuse { .. }, Effect::Give(_) | Effect::StepUp(_)) => true,
            // Of two refusals for the same people the first one's words are read.
            (Effect::Refuse { .. }, Effect::Refuse { .. }) => i < index,
            (Effect::Give(a), Effect::Give(b)) => {
                // Both the same: the later one is the one too many.
                let gives = gives_all_of(a, b);
                gives && (i < index || !implies(&other.when, &rule.when) || a != b)
            }
            _ => false,
        };
        (covers && hides).then_some(other)
    })
}

/// Whether one grant gives all that another gives.
fn gives_all_of(a: &Grants, b: &Grants) -> bool {
    // Taken apart, so that what grants learn to give is not forgotten here.
    let Grants { enter, roles, roles_from, deliver, message, idle, absolute, reach, quota, rate, devices } = b;
    (a.enter || !enter)
        && roles.iter().all(|r| a.roles.contains(r))
        && (roles_from.is_none() || a.roles_from == *roles_from)
        && deliver.iter().all(|d| a.deliver.contains(d))
        && (message.is_none() || a.message == *message)
        && (idle.is_none() || a.idle == *idle)
        && (absolute.is_none() || a.absolute == *absolute)
        && reach.iter().all(|r| a.reach.contains(r))
        && (quota.is_none() || a.quota == *quota)
        && (rate.is_none() || a.rate == *rate)
        && (devices.is_none() || a.devices == *devices)
}

/// Directories of an access, where every one of them was asked for the groups that rules name.
fn asked_for_groups<'a>(access: &Access, facts: &'a Facts) -> Option<Vec<&'a super::DirectoryFacts>> {
    let asked: Vec<_> = facts.directories.iter().filter(|d| access.directories.contains(&d.name)).collect();
    let of_provider = access.groups == GroupsFrom::Provider;
    (!of_provider && !asked.is_empty() && asked.len() == access.directories.len()).then_some(asked)
}

/// Whether none of the directories has a group.
fn is_missing(asked: &[&super::DirectoryFacts], group: &str) -> bool {
    asked.iter().all(|d| d.missing_groups.iter().any(|m| m.eq_ignore_ascii_case(group)))
}

/// Whether nobody can enter by any rule, since each asks for a group that no directory has.
fn is_shut(access: &Access, asked: &[&super::DirectoryFacts]) -> bool {
    let enters = |r: &&Rule| matches!(&r.effect, Effect::Give(g) if g.enter);
    let mut entries = access.rules.iter().filter(enters).peekable();
    entries.peek().is_some() && entries.all(|r| r.when.fails_without(&|g| is_missing(asked, g)))
}

/// Groups that none of the directories of an access has.
fn missing_groups(place: &str, access: &Access, rule: &Rule, facts: &Facts, out: &mut Vec<Finding>) {
    let Some(asked) = asked_for_groups(access, facts) else { return };
    for group in rule.when.groups() {
        if !is_missing(&asked, group) {
            continue;
        }
        let code = match &rule.effect {
            Effect::Refuse { .. } => Code::RefusedGroupMissing,
            Effect::Give(g) if g.enter && is_shut(access, &asked) => Code::OnlyGroupMissing,
            _ => Code::GroupMissing,
        };
        let names: Vec<&str> = asked.iter().map(|d| d.name.as_str()).collect();
        out.push(
            Finding::new(code, place)
                .with("gate", place)
                .with("rule", rule.name.as_str())
                .with("group", group)
                .with("directory", names.join(", ")),
        );
    }
}
