//! Deciding: person × edition × gate, once. Live requests, stories, rehearsal and expectations call [`fold`].
//!
//! A decision is made under circumstances: the moment, the network, method and path. It is used again while none of them
//! matters: [`RequestView`] tells requests of a gate apart by nothing but what its conditions ask of them, and
//! [`Admitted::good_until`] says when time alone may change it. Whatever cannot be known refuses.

mod account;
pub(crate) mod grants;
mod reach;
mod roles;
mod view;

use crate::Moment;
use crate::circumstances::Circumstances;
use crate::condition::{Condition, Need, Truth};
use crate::crossing::Outcome;
use crate::delivery::{self, Delivered};
use crate::evidence::Evidence;
use crate::identity::{self, Identity, Person, identify};
use crate::session::Lifetimes;
use crate::site::{Access, Effect, Gate, Limits, PathAccess, Place, RolesFrom, Rule, Section, SectionAccess, Site, path_access};
use crate::step;
use crate::step::{Phrase, Step, StepCode, Witness};
pub use grants::{Joined, Opens, Terms};
pub use reach::{By, Goer, Near, Opening, opening, opening_for};
pub use roles::why_roles;
pub(crate) use view::PARTS_MAX;
pub use view::RequestView;

/// Proof that the rules of a gate admit a person, with what is to be delivered. Only [`fold`] makes one; what is kept of a session is made of
/// it, and the upstream pool takes no request without that.
#[derive(Clone, Debug)]
pub struct Admitted {
    gate: String,
    person: Person,
    roles: Box<[String]>,
    terms: Option<Box<Terms>>,
    /// For each section of the gate, whether it lets this person in.
    sections: Box<[bool]>,
    headers: Vec<Delivered>,
    good_until: Option<Moment>,
}

impl Admitted {
    /// The gate that admits.
    pub fn gate(&self) -> &str {
        &self.gate
    }
    /// Who is admitted.
    pub fn person(&self) -> &Person {
        &self.person
    }
    /// Roles the rules give.
    pub fn roles(&self) -> &[String] {
        &self.roles
    }
    /// What else comes with entry.
    pub fn terms(&self) -> Option<&Terms> {
        self.terms.as_deref()
    }
    /// Lifetimes of the session at this gate: the site's, or shorter ones that a rule gives.
    pub fn lifetimes(&self, of_site: &Lifetimes) -> Lifetimes {
        self.terms.as_ref().map_or(*of_site, |t| Limits { idle: t.idle, absolute: t.absolute }.within(*of_site))
    }
    /// Whether a section of the gate, by index, lets this person in.
    pub fn section(&self, index: usize) -> bool {
        self.sections.get(index).copied().unwrap_or(false)
    }
    /// The same for each section.
    pub fn sections(&self) -> &[bool] {
        &self.sections
    }
    /// Headers to deliver, ready to be sent.
    pub fn headers(&self) -> &[Delivered] {
        &self.headers
    }
    /// The moment from which time alone may have changed the decision.
    pub fn good_until(&self) -> Option<Moment> {
        self.good_until
    }

    /// A digest of all that the decision gives: a new one is a new decision worth recording.
    pub fn digest(&self) -> [u8; 32] {
        let mut bytes = Vec::new();
        let mut put = |b: &[u8]| {
            bytes.extend((b.len() as u64).to_be_bytes());
            bytes.extend(b);
        };
        put(self.gate.as_bytes());
        self.roles.iter().for_each(|r| put(r.as_bytes()));
        put(b"headers");
        for h in &self.headers {
            put(h.name.as_bytes());
            put(&h.value);
        }
        if let Some(t) = &self.terms {
            put(format!("{t:?}").as_bytes());
        }
        put(b"sections");
        put(&self.sections.iter().map(|s| u8::from(*s)).collect::<Vec<_>>());
        crate::id::sha256(&bytes)
    }
}

/// Why a person is not let in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal {
    pub outcome: Outcome,
    /// The step that decided.
    pub code: StepCode,
    /// The rule's words for the person, where a rule refused.
    pub words: Option<String>,
    /// What would have to be proven besides, where that is all that is missing.
    pub need: Option<Box<Need>>,
}

/// The outcome of folding.
#[derive(Clone, Debug)]
pub enum Decision {
    Admitted(Admitted),
    Refused(Refusal),
}

impl Decision {
    /// A digest that differs whenever the decision does.
    pub fn digest(&self) -> [u8; 32] {
        match self {
            Decision::Admitted(a) => a.digest(),
            Decision::Refused(r) => crate::id::sha256(
                format!("{}|{}|{}", r.outcome.code(), r.code.spec().code, r.words.as_deref().unwrap_or("")).as_bytes(),
            ),
        }
    }
}

/// Decides whether a gate admits the person of the evidence under circumstances, and prepares what it delivers.
pub fn fold(site: &Site, gate: &Gate, evidence: &Evidence, at: &Circumstances<'_>, witness: &mut impl Witness) -> Decision {
    if gate.access.rules.is_empty() {
        witness.step(|| step!(Unprotected { gate: gate.name.as_str() }));
        return refused(Outcome::Refused, StepCode::Unprotected);
    }
    let (mut who, joined) = match enter(site, &gate.access, Some(&gate.name), evidence, at, witness) {
        Ok(entry) => entry,
        Err(refusal) => return Decision::Refused(refusal),
    };
    identity::complete(site, &gate.access, &mut who, &joined, witness);
    let headers = match site.delivery(gate) {
        None => {
            // A network is told nothing of anybody.
            let hands = gate.ticket().is_some() || gate.hand_over().is_some() || gate.network().is_some();
            if !hands {
                witness.step(|| step!(NoDelivery { gate: gate.name.as_str() }));
            }
            vec![]
        }
        Some(d) => match delivery::prepare(site, d, &who, &joined, witness) {
            Ok(headers) => headers,
            Err(_) => return refused(Outcome::Refused, StepCode::HeaderRefused),
        },
    };
    let mut open = gate.sections().iter().filter(|s| s.access == SectionAccess::Open).map(|s| &s.path).peekable();
    if gate.delivery.is_some() && open.peek().is_some() {
        witness.step(|| step!(SectionsOpen { sections: open.cloned().collect::<Vec<_>>() }));
    }
    let sections = gate.sections().iter().map(|s| lets_in(s, &who, at, Some(&gate.name))).collect();
    let closing = gate.sections().iter().filter_map(|s| match &s.access {
        SectionAccess::More { when, .. } => when.next_edge(&who, at.now),
        SectionAccess::Open => None,
    });
    let good_until = joined.good_until.into_iter().chain(closing).chain(re_read(site, &gate.access, evidence, at.now)).min();
    let (roles, terms) = joined.into_parts();
    let (gate, person, roles) = (gate.name.clone(), who.person, roles.into());
    Decision::Admitted(Admitted { gate, person, roles, terms, sections, headers, good_until })
}

/// How long a decision counts at least, when what it was made on is old already.
const COUNTS_AT_LEAST: chrono::Duration = chrono::Duration::seconds(30);

/// When the directory is to be asked again.
fn re_read(site: &Site, access: &Access, evidence: &Evidence, now: Moment) -> Option<Moment> {
    let look_up = evidence.look_up(&access.asked(site, evidence)?.name)?;
    Some((look_up.at + access.re_read).max(now + COUNTS_AT_LEAST))
}

/// Whether a section lets in somebody who may enter the gate. What cannot be known does not.
fn lets_in(section: &Section, who: &Identity, at: &Circumstances<'_>, gate: Option<&str>) -> bool {
    match &section.access {
        SectionAccess::Open => true,
        SectionAccess::More { when, .. } => when.judge(who, at, gate) == Truth::Yes,
    }
}

/// Notes why a section does not let in somebody who may enter the gate. Returns the section's words for the person.
pub fn note_section(
    site: &Site,
    gate: &Gate,
    index: usize,
    evidence: &Evidence,
    at: &Circumstances<'_>,
    witness: &mut impl Witness,
) -> Option<String> {
    let section = gate.sections().get(index)?;
    let SectionAccess::More { when, words } = &section.access else { return None };
    let who = identify(site, &gate.access, evidence, &mut crate::step::Silent);
    witness.step(|| {
        step!(SectionRefused {
            section: section.path.as_str(),
            wanted: when.wanted(site),
            saw: when.saw(site, &who, at, Some(&gate.name))
        })
    });
    words.clone()
}

/// Proof that a request goes to a section that is open to anybody: nothing is known of who sent it, and nothing is
/// delivered. Only [`opened`] makes one; the upstream pool takes no request without this or an [`Admitted`].
#[derive(Clone, Copy, Debug)]
pub struct Opened(());

/// Whether a path lies in an open section of a gate.
pub fn opened(gate: &Gate, path: &str) -> Option<Opened> {
    let protected = !gate.access.rules.is_empty();
    (protected && path_access(gate.sections(), path) == PathAccess::Open).then_some(Opened(()))
}

/// Decides which console roles the person of the evidence has; empty when none.
pub fn console_roles(site: &Site, evidence: &Evidence, at: &Circumstances<'_>, witness: &mut impl Witness) -> Vec<String> {
    let Some(access) = &site.engineers else { return vec![] };
    enter(site, access, None, evidence, at, witness).map(|(_, joined)| joined.roles).unwrap_or_default()
}

fn refused(outcome: Outcome, code: StepCode) -> Decision {
    Decision::Refused(Refusal { outcome, code, words: None, need: None })
}

/// Provider, factors, account, then rules.
fn enter(
    site: &Site,
    access: &Access,
    gate: Option<&str>,
    evidence: &Evidence,
    at: &Circumstances<'_>,
    witness: &mut impl Witness,
) -> Result<(Identity, Joined), Refusal> {
    let stop = |outcome, code| Refusal { outcome, code, words: None, need: None };
    if !access.takes(site, evidence) {
        let person = evidence.person();
        witness.step(|| match site.authority(&evidence.provider) {
            Some(wanted) if wanted != person.authority => {
                step!(OtherIssuer { provider: evidence.provider.as_str(), seen: person.authority, wanted })
            }
            _ => step!(OtherProvider { seen: evidence.way(), wanted: access.ways.join(", ") }),
        });
        return Err(stop(Outcome::CheckFailed, StepCode::OtherProvider));
    }
    account::factors(site, access, evidence, witness)?;
    account::directory(site, access, evidence, witness)?;
    let who = identify(site, access, evidence, witness);
    let joined = Judging { site, access, gate, who: &who, at }.judge(witness)?;
    Ok((who, joined))
}

/// The rules of a gate, judged for a person under circumstances.
struct Judging<'a> {
    site: &'a Site,
    access: &'a Access,
    /// The gate that is asked for; none for the console.
    gate: Option<&'a str>,
    who: &'a Identity,
    at: &'a Circumstances<'a>,
}

impl Judging<'_> {
    fn place(&self) -> Place {
        self.gate.map_or(Place::Console, Place::gate)
    }

    /// Grants of all rules that apply are joined; a refusal wins; where nothing grants entry, the answer is no.
    fn judge<W: Witness>(&self, witness: &mut W) -> Result<Joined, Refusal> {
        let Judging { access, who, at, gate, .. } = self;
        let mut granted: Vec<&str> = vec![];
        let mut joined = Joined::default();
        let mut refusal: Option<(&Rule, &str)> = None;
        let mut step_up: Option<(&Rule, &Condition)> = None;
        // A story tells of every rule. Where nothing is told and the groups are known, a rule that asks for a group somebody
        // is not in decides nothing.
        let rules: Vec<&Rule> = match who.groups.folded() {
            Some(groups) if !W::TELLS => access.rules.concerning(groups),
            _ => access.rules.iter().collect(),
        };
        for rule in rules {
            let truth = rule.when.judge(who, at, *gate);
            joined.turns(rule.when.next_edge(who, at.now));
            match (&rule.effect, truth) {
                (Effect::Give(grants), Truth::Yes) => {
                    if grants.enter {
                        granted.push(&rule.name);
                    }
                    witness.step(|| {
                        step!(RuleMatched { rule: rule.name.as_str(), gives: grants::gives(grants), saw: self.saw(rule) })
                    });
                    joined.join(&rule.name, grants, witness);
                    if let Some(from) = &grants.roles_from {
                        self.roles_from(&rule.name, from, &mut joined, witness);
                    }
                }
                (Effect::Refuse { words }, Truth::Yes | Truth::Unknown) => {
                    if truth == Truth::Unknown {
                        witness.step(|| self.uncertain(rule));
                    }
                    refusal.get_or_insert((rule, words));
                }
                (Effect::StepUp(need), Truth::Yes | Truth::Unknown) => {
                    joined.turns(need.next_edge(who, at.now));
                    if need.judge(who, at, *gate) != Truth::Yes {
                        step_up.get_or_insert((rule, need));
                    }
                }
                _ => witness.step(|| self.not_matched(rule)),
            }
        }
        if let Some((rule, words)) = refusal {
            witness.step(|| step!(RefusedByRule { rule: rule.name.as_str(), words, saw: self.saw(rule) }));
            // Of a tunnel's machine its server tells, and nobody can show another one.
            let of_device = at.tunnel.is_none() && !rule.when.device_checks().is_empty();
            return Err(Refusal {
                outcome: Outcome::Refused,
                code: StepCode::RefusedByRule,
                words: Some(words.to_owned()),
                need: of_device.then(|| Box::new(Need { device: true, ..Need::default() })),
            });
        }
        if let Some((rule, need)) = step_up {
            witness.step(|| {
                step!(StepUpNeeded {
                    rule: rule.name.as_str(),
                    wanted: need.wanted(self.site),
                    saw: need.saw(self.site, who, at, *gate)
                })
            });
            // Whom nothing lets in is not asked to prove more for it.
            let missing = Some(need.need(who, at, *gate)).filter(|n| !n.is_empty() && !granted.is_empty()).map(Box::new);
            return Err(Refusal { outcome: Outcome::Refused, code: StepCode::StepUpNeeded, words: None, need: missing });
        }
        if granted.is_empty() {
            witness.step(|| step!(NothingGrants { gate: self.place().to_string(), rules: access.rules.len() as i64 }));
            return Err(Refusal { outcome: Outcome::Refused, code: StepCode::NothingGrants, words: None, need: None });
        }
        witness.step(|| {
            step!(Granted {
                gate: self.place().to_string(),
                rules: granted.iter().map(|r| (*r).to_owned()).collect::<Vec<_>>(),
                roles: Phrase::Roles { roles: joined.roles.clone() }
            })
        });
        Ok(joined)
    }

    /// Adds roles that come from claims or groups. What cannot be known gives none.
    fn roles_from(&self, rule: &str, from: &RolesFrom, joined: &mut Joined, witness: &mut impl Witness) {
        let (source, values) = match from.attribute {
            Some(id) => (self.site.attribute_name(id), self.who.attribute(id).values().map(<[String]>::to_vec)),
            None => ("groups", self.who.groups.names()),
        };
        let found = values.map(|v| from.among(v.iter().map(String::as_str)));
        witness.step(|| {
            let (roles, other) = match &found {
                Ok((roles, other)) => (Phrase::Roles { roles: roles.clone() }.into(), other.iter().take(10).cloned().collect()),
                Err(absence) => (absence.param(), vec![]),
            };
            step!(RolesFrom { rule, source, roles, other })
        });
        if let Ok((roles, _)) = found {
            joined.add_roles(&roles);
        }
    }

    fn saw(&self, rule: &Rule) -> Vec<Phrase> {
        rule.when.saw(self.site, self.who, self.at, self.gate)
    }

    fn not_matched(&self, rule: &Rule) -> Step {
        step!(RuleNotMatched { rule: rule.name.as_str(), wanted: rule.when.wanted(self.site), saw: self.saw(rule) })
    }

    fn uncertain(&self, rule: &Rule) -> Step {
        step!(RuleUncertain { rule: rule.name.as_str(), wanted: rule.when.wanted(self.site), saw: self.saw(rule) })
    }
}
