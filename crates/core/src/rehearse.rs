//! Rehearsal: how somebody would fare at a gate under an edition, with nothing changed.
//!
//! The same [`fold`] that decides live decides here. What an edition needs and the evidence does not hold is told as not
//! known, apart from refusals: nobody fetched it then.

use crate::attribute::Absence;
use crate::circumstances::Circumstances;
use crate::compare::ChangedSource;
use crate::condition::{Condition, Truth};
use crate::crossing::deciding;
use crate::decide::{Decision, Terms, console_roles, fold};
use crate::delivery::ValueOf;
use crate::evidence::Evidence;
use crate::identity::{Identity, identify};
use crate::site::{Access, AttributeId, Effect, Gate, Place, Rule, SectionAccess, Site};
use crate::step::{Lang, Silent, Step, Story, sentence};

/// How somebody fares at a gate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// Comes in.
    In(Box<Given>),
    /// Is refused.
    Out,
    /// The edition has no such gate.
    NoGate,
    /// It cannot be known: what is missing.
    NotKnown(Vec<Missing>),
}

/// What comes with entry.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Given {
    pub roles: Vec<String>,
    /// Delivered headers: name and value.
    pub values: Vec<(String, String)>,
    /// Paths of sections that stay closed.
    pub closed: Vec<String>,
    /// What else comes with entry: messages, lifetimes.
    pub terms: Terms,
    /// What opens in a network, with where it leads.
    pub reach: Vec<(String, String)>,
}

/// What an edition needs and the evidence does not hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Missing {
    /// An attribute that was not fetched then.
    Attribute(String),
    /// Groups that were not looked for then.
    Groups(String),
    /// A directory that was not asked then.
    Directory(String),
    /// A provider through which the person did not sign in.
    Provider(String),
    /// A check of devices that nobody held their device against then: its title.
    Device(String),
    /// A source that would be asked otherwise, or be another: its kind and name.
    Changed(&'static str, String),
}

impl Missing {
    /// In words.
    pub fn words(&self, lang: Lang) -> String {
        match (self, lang) {
            (Missing::Attribute(a), Lang::En) => format!("attribute {a} was not fetched then"),
            (Missing::Attribute(a), Lang::Fr) => format!("l'attribut {a} n'a pas été demandé alors"),
            (Missing::Groups(d), Lang::En) => format!("groups in directory {d} were not looked for then"),
            (Missing::Groups(d), Lang::Fr) => format!("les groupes de l'annuaire {d} n'ont pas été cherchés alors"),
            (Missing::Directory(d), Lang::En) => format!("directory {d} was not asked then"),
            (Missing::Directory(d), Lang::Fr) => format!("l'annuaire {d} n'a pas été consulté alors"),
            (Missing::Device(check), Lang::En) => format!("whether their device passes {check} was not looked at then"),
            (Missing::Device(check), Lang::Fr) => format!("on n'a pas regardé alors si l'appareil est conforme à {check}"),
            (Missing::Changed(kind, name), Lang::En) => {
                format!("{kind} {name} would be another, so that what it said then does not count")
            }
            (Missing::Changed(kind, name), Lang::Fr) => {
                let kind = match *kind {
                    "directory" => "l'annuaire",
                    "way" => "la voie",
                    _ => "le fournisseur",
                };
                format!("{kind} {name} serait autre, et ce qui en venait alors ne compte pas")
            }
            (Missing::Provider(p), Lang::En) => format!("the sign-in was not through provider {p}"),
            (Missing::Provider(p), Lang::Fr) => format!("la connexion n'est pas passée par le fournisseur {p}"),
        }
    }
}

/// A verdict, with a digest of all that the decision gives.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tried {
    pub verdict: Verdict,
    digest: [u8; 32],
}

/// Tries somebody at a gate, or at the console.
pub fn try_at(site: &Site, place: &Place, evidence: &Evidence, at: &Circumstances<'_>) -> Tried {
    let out = |verdict| Tried { verdict, digest: [0; 32] };
    let gate = match place {
        Place::Console => return try_console(site, evidence, at),
        Place::Gate(name) => site.gate(name),
        Place::Quay | Place::SignIn | Place::Trial => None,
    };
    let Some(gate) = gate else { return out(Verdict::NoGate) };
    if let Some(missing) = sources(site, &gate.access, evidence) {
        return out(Verdict::NotKnown(missing));
    }
    let decision = fold(site, gate, evidence, at, &mut Silent);
    let missing = unrecorded(site, &gate.access, Some(gate), evidence, at);
    if !missing.is_empty() {
        return out(Verdict::NotKnown(missing));
    }
    let digest = decision.digest();
    match decision {
        Decision::Refused(_) => Tried { verdict: Verdict::Out, digest },
        Decision::Admitted(a) => {
            let values = a.headers().iter().map(|h| (h.name.clone(), String::from_utf8_lossy(&h.value).into_owned())).collect();
            let closed =
                gate.sections().iter().enumerate().filter(|(i, _)| !a.section(*i)).map(|(_, s)| s.path.clone()).collect();
            let terms = a.terms().cloned().unwrap_or_default();
            let leads = |name: &str| site.reach(name).map(|r| r.sentence(Lang::En)).unwrap_or_default();
            let reach: Vec<(String, String)> = terms.opens.iter().map(|o| (o.reach.clone(), leads(&o.reach))).collect();
            // The decision names what opens; where that leads is the edition's.
            let digest = crate::id::sha256(format!("{digest:?}{reach:?}").as_bytes());
            Tried { verdict: Verdict::In(Box::new(Given { roles: a.roles().to_vec(), values, closed, terms, reach })), digest }
        }
    }
}

fn try_console(site: &Site, evidence: &Evidence, at: &Circumstances<'_>) -> Tried {
    let out = |verdict| Tried { verdict, digest: [0; 32] };
    let Some(access) = &site.engineers else { return out(Verdict::NoGate) };
    if let Some(missing) = sources(site, access, evidence) {
        return out(Verdict::NotKnown(missing));
    }
    let roles = console_roles(site, evidence, at, &mut Silent);
    let missing = unrecorded(site, access, None, evidence, at);
    let digest = crate::id::sha256(roles.join("\n").as_bytes());
    match (missing.is_empty(), roles.is_empty()) {
        (false, _) => out(Verdict::NotKnown(missing)),
        (true, true) => Tried { verdict: Verdict::Out, digest },
        (true, false) => Tried { verdict: Verdict::In(Box::new(Given { roles, ..Given::default() })), digest },
    }
}

/// Tries somebody under an edition in which sources are others than when the evidence was taken: what came from one of these cannot be
/// known.
pub fn try_after(site: &Site, changed: &[ChangedSource], place: &Place, evidence: &Evidence, at: &Circumstances<'_>) -> Tried {
    let tried = try_at(site, place, evidence, at);
    let stands_on = |c: &&ChangedSource| {
        let used = match c.kind {
            "directory" => evidence.look_up(&c.name).is_some(),
            _ => evidence.provider == c.name || evidence.way() == c.name,
        };
        used && c.users.contains(place)
    };
    let missing: Vec<Missing> = changed.iter().filter(stands_on).map(|c| Missing::Changed(c.kind, c.name.clone())).collect();
    match tried.verdict {
        Verdict::NoGate => tried,
        _ if missing.is_empty() => tried,
        _ => Tried { verdict: Verdict::NotKnown(missing), digest: [0; 32] },
    }
}

/// The story of the same decision, and the step that decided.
pub fn story_at(site: &Site, place: &Place, evidence: &Evidence, at: &Circumstances<'_>) -> (Vec<Step>, Option<Step>) {
    let mut story = Story::default();
    match place {
        Place::Console => {
            console_roles(site, evidence, at, &mut story);
        }
        Place::Gate(name) => {
            if let Some(gate) = site.gate(name) {
                fold(site, gate, evidence, at, &mut story);
            }
        }
        Place::Quay | Place::SignIn | Place::Trial => {}
    }
    let decided = deciding(&story.steps).and_then(|i| story.steps.get(i).cloned());
    (story.steps, decided)
}

/// The rule, or else the sentence, that made a decision.
pub fn because(site: &Site, place: &Place, evidence: &Evidence, at: &Circumstances<'_>, lang: Lang) -> String {
    story_at(site, place, evidence, at).1.map(|s| sentence(&s, lang)).unwrap_or_default()
}

/// What a source that is needed would have had to be asked.
fn sources(site: &Site, access: &Access, evidence: &Evidence) -> Option<Vec<Missing>> {
    if access.rules.is_empty() {
        return None;
    }
    if !access.takes(site, evidence) {
        return Some(vec![Missing::Provider(access.ways.join(", "))]);
    }
    let asking = access.asking(site, evidence)?;
    // A look-up that was made by another key or for another value says nothing of what this one would bring.
    let answers = evidence.look_up(&asking.directory.name).is_some_and(|l| l.is_for(&asking));
    (!answers).then(|| vec![Missing::Directory(asking.directory.name.clone())])
}

/// What was not recorded and matters: to a rule that cannot be judged, to a section, or to a delivered value.
fn unrecorded(site: &Site, access: &Access, gate: Option<&Gate>, evidence: &Evidence, at: &Circumstances<'_>) -> Vec<Missing> {
    let name = gate.map(|g| g.name.as_str());
    let devices = devices_lacking(site, access, name, evidence, at);
    if !devices.is_empty() {
        return devices;
    }
    let directory = access.asked(site, evidence).and_then(|d| Some((d, evidence.look_up(&d.name)?)));
    if directory.is_none_or(|(d, l)| l.covers(d) || l.state.entry().is_none()) {
        return vec![];
    }
    let who = identify(site, access, evidence, &mut Silent);
    let mut out = vec![];
    let mut entered = false;
    for rule in access.rules.iter() {
        match (rule.when.judge(&who, at, name), &rule.effect) {
            (Truth::Yes, Effect::Refuse { .. }) => return vec![],
            (Truth::Yes, effect) => entered |= effect.enters(),
            (Truth::Unknown, _) => lacking(site, &rule.when, &who, &mut out),
            (Truth::No, _) => {}
        }
    }
    // Nobody who is refused either way needs sections or values.
    if let Some(gate) = gate.filter(|_| entered) {
        for section in gate.sections() {
            if let SectionAccess::More { when, .. } = &section.access
                && when.judge(&who, at, name) == Truth::Unknown
            {
                lacking(site, when, &who, &mut out);
            }
        }
        for header in site.delivery(gate).iter().flat_map(|d| &d.headers) {
            if header.value == ValueOf::Groups {
                groups_lacking(&who, &mut out);
            }
            header.value.attributes().into_iter().for_each(|id| attribute_lacking(site, id, &who, &mut out));
        }
    }
    out
}

/// Checks of devices that rules ask about, and that nobody held the device against; none where another rule refuses either way.
fn devices_lacking(
    site: &Site,
    access: &Access,
    gate: Option<&str>,
    evidence: &Evidence,
    at: &Circumstances<'_>,
) -> Vec<Missing> {
    let mut out = vec![];
    for check in access.rules.iter().flat_map(|r| r.when.device_checks()) {
        if !check.is_held_against(evidence.device.as_ref()) {
            add(&mut out, Missing::Device(check.title.clone()));
        }
    }
    if out.is_empty() {
        return out;
    }
    let who = identify(site, access, evidence, &mut Silent);
    let refuses = |r: &Rule| matches!(r.effect, Effect::Refuse { .. }) && r.when.device_checks().is_empty();
    let refused = access.rules.iter().any(|r| refuses(r) && r.when.judge(&who, at, gate) == Truth::Yes);
    if refused { vec![] } else { out }
}

fn add(out: &mut Vec<Missing>, missing: Missing) {
    if !out.contains(&missing) {
        out.push(missing);
    }
}

fn attribute_lacking(site: &Site, id: AttributeId, who: &Identity, out: &mut Vec<Missing>) {
    if who.attribute(id).values() == Err(&Absence::NotRecorded) {
        add(out, Missing::Attribute(site.attribute_name(id).to_owned()));
    }
}

fn groups_lacking(who: &Identity, out: &mut Vec<Missing>) {
    if let crate::identity::Groups::Unknown { absence: Absence::NotRecorded, origin } = &who.groups {
        let directory = match origin {
            crate::attribute::Origin::Directory { directory, .. } => directory.clone(),
            _ => String::new(),
        };
        add(out, Missing::Groups(directory));
    }
}

fn lacking(site: &Site, when: &Condition, who: &Identity, out: &mut Vec<Missing>) {
    if !when.groups().is_empty() {
        groups_lacking(who, out);
    }
    when.attributes().into_iter().for_each(|id| attribute_lacking(site, id, who, out));
}

/// What becomes different for somebody.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Effects {
    Same,
    /// Comes in now and would be refused.
    Refused,
    /// Is refused now and would come in.
    Admitted,
    /// Comes in either way, with something else: what, in words.
    Differs(Vec<String>),
    NotKnown(Vec<Missing>),
}

impl Effects {
    /// A stable code.
    pub fn code(&self) -> &'static str {
        match self {
            Effects::Same => "same",
            Effects::Refused => "refused",
            Effects::Admitted => "admitted",
            Effects::Differs(_) => "differs",
            Effects::NotKnown(_) => "not-known",
        }
    }

    /// What differs or is missing, in words.
    pub fn what(&self, lang: Lang) -> Vec<String> {
        match self {
            Effects::Same | Effects::Refused | Effects::Admitted => vec![],
            Effects::Differs(what) => what.clone(),
            Effects::NotKnown(missing) => missing.iter().map(|m| m.words(lang)).collect(),
        }
    }
}

/// Compares how somebody fares under two editions.
pub fn effects(before: &Tried, after: &Tried, lang: Lang) -> Effects {
    use Verdict::{In, NoGate, NotKnown, Out};
    match (&before.verdict, &after.verdict) {
        (_, NotKnown(missing)) => Effects::NotKnown(missing.clone()),
        (In(_), Out | NoGate) => Effects::Refused,
        (Out | NoGate, In(_)) => Effects::Admitted,
        (Out, Out | NoGate) | (NoGate, Out | NoGate) => Effects::Same,
        // What the live edition cannot know, it refuses.
        (NotKnown(_), In(_)) => Effects::Admitted,
        (NotKnown(_), Out | NoGate) => Effects::Same,
        (In(a), In(b)) => {
            let told = differences(a, b, lang);
            if told.is_empty() || before.digest == after.digest { Effects::Same } else { Effects::Differs(told) }
        }
    }
}

/// What opens no more, what opens besides, and what leads elsewhere.
fn reach_differences(a: &Given, b: &Given, lang: Lang, out: &mut Vec<String>) {
    let fr = lang == Lang::Fr;
    let leads = |of: &Given, name: &str| of.reach.iter().find(|(n, _)| n == name).map(|(_, to)| to.clone());
    for (name, to) in &a.reach {
        match leads(b, name) {
            None => {
                out.push(if fr { format!("n'atteint plus {name} ({to})") } else { format!("no longer reaches {name} ({to})") })
            }
            Some(new) if new != *to && fr => out.push(format!("{name} mènerait à {new} ; aujourd'hui {to}")),
            Some(new) if new != *to => out.push(format!("{name} would lead to {new}; now {to}")),
            Some(_) => {}
        }
    }
    for (name, to) in b.reach.iter().filter(|(n, _)| leads(a, n).is_none()) {
        out.push(if fr { format!("atteint {name} ({to})") } else { format!("reaches {name} ({to})") });
    }
}

fn differences(a: &Given, b: &Given, lang: Lang) -> Vec<String> {
    let fr = lang == Lang::Fr;
    let mut out = vec![];
    let lost = |of: &[String], from: &[String]| of.iter().filter(|x| !from.contains(x)).cloned().collect::<Vec<_>>();
    for (all, en, fr_words) in [
        (lost(&a.roles, &b.roles), "loses role", "perd le rôle"),
        (lost(&b.roles, &a.roles), "gains role", "gagne le rôle"),
        (lost(&a.terms.words(lang), &b.terms.words(lang)), "loses", "perd"),
        (lost(&b.terms.words(lang), &a.terms.words(lang)), "gains", "gagne"),
        (lost(&b.closed, &a.closed), "no longer reaches", "n'atteint plus"),
        (lost(&a.closed, &b.closed), "reaches", "atteint"),
    ] {
        out.extend(all.into_iter().map(|x| format!("{} {x}", if fr { fr_words } else { en })));
    }
    reach_differences(a, b, lang, &mut out);
    let find = |of: &Given, name: &str| of.values.iter().find(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| v.clone());
    for (name, value) in &a.values {
        match find(b, name) {
            None if fr => out.push(format!("{name} manquerait ; aujourd'hui {value}")),
            None => out.push(format!("{name} would be missing; now {value}")),
            Some(new) if new != *value && fr => out.push(format!("{name} serait {new} ; aujourd'hui {value}")),
            Some(new) if new != *value => out.push(format!("{name} would be {new}; now {value}")),
            Some(_) => {}
        }
    }
    for (name, value) in b.values.iter().filter(|(n, _)| find(a, n).is_none()) {
        out.push(if fr {
            format!("{name} serait {value} ; absent aujourd'hui")
        } else {
            format!("{name} would be {value}; missing now")
        });
    }
    out
}
