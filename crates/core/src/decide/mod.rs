//! Deciding: person × edition × gate, once. Live requests, stories and, later, rehearsal call [`fold`].
//!
//! The first stage folds everything that does not depend on the single request into one decision. No condition depends
//! on the request yet, so the fold is the decision; conditions on path, method, network and time will be left over here
//! and finished per request. Whatever cannot be known refuses.

mod account;

use crate::condition::Truth;
use crate::crossing::Outcome;
use crate::delivery::{self, Delivered};
use crate::evidence::Evidence;
use crate::identity::{Identity, Person, identify};
use crate::site::{Access, Effect, Gate, Rule, Section, SectionAccess, Site, Standing, standing};
use crate::step::{Phrase, Step, StepCode, Witness};

/// That the rules of a gate admit a person, with what is to be delivered. Only [`fold`] makes one.
#[derive(Clone, Debug)]
pub struct Admitted {
    entry: Entry,
    headers: Vec<Delivered>,
}

/// Proof that the rules of a gate admit a person, without the values: it is kept as long as a session is. The upstream pool
/// takes no request without it.
#[derive(Clone, Debug)]
pub struct Entry {
    gate: String,
    person: Person,
    roles: Box<[String]>,
    /// For each section of the gate, whether it lets this person in.
    sections: Box<[bool]>,
}

impl Entry {
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
    /// Whether a section of the gate, by index, lets this person in.
    pub fn section(&self, index: usize) -> bool {
        self.sections.get(index).copied().unwrap_or(false)
    }
}

impl Admitted {
    /// Who is admitted where.
    pub fn entry(&self) -> &Entry {
        &self.entry
    }
    /// Headers to deliver, ready to be sent.
    pub fn headers(&self) -> &[Delivered] {
        &self.headers
    }
    /// The proof and the values, apart.
    pub fn into_parts(self) -> (Entry, Vec<Delivered>) {
        (self.entry, self.headers)
    }

    /// A digest of all that the decision gives: a new one is a new decision worth recording.
    pub fn digest(&self) -> [u8; 32] {
        let mut bytes = Vec::new();
        let mut put = |b: &[u8]| {
            bytes.extend((b.len() as u64).to_be_bytes());
            bytes.extend(b);
        };
        put(self.entry.gate.as_bytes());
        self.entry.roles.iter().for_each(|r| put(r.as_bytes()));
        put(b"headers");
        for h in &self.headers {
            put(h.name.as_bytes());
            put(&h.value);
        }
        put(b"sections");
        put(&self.entry.sections.iter().map(|s| u8::from(*s)).collect::<Vec<_>>());
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

/// Decides whether a gate admits the person of the evidence, and prepares what it delivers.
pub fn fold(site: &Site, gate: &Gate, evidence: &Evidence, witness: &mut impl Witness) -> Decision {
    if gate.access.rules.is_empty() {
        witness.step(|| Step::new(StepCode::Unprotected).with("gate", gate.name.as_str()));
        return refused(Outcome::Refused, StepCode::Unprotected);
    }
    let (who, roles) = match enter(site, &gate.access, &gate.name, evidence, witness) {
        Ok(entry) => entry,
        Err(refusal) => return Decision::Refused(refusal),
    };
    let headers = match site.delivery(gate) {
        None => vec![],
        Some(d) => match delivery::prepare(site, d, &who, &roles, witness) {
            Ok(headers) => headers,
            Err(_) => return refused(Outcome::Refused, StepCode::HeaderRefused),
        },
    };
    let sections = gate.sections.iter().map(|s| lets_in(s, &who)).collect();
    let entry = Entry { gate: gate.name.clone(), person: who.person, roles: roles.into(), sections };
    Decision::Admitted(Admitted { entry, headers })
}

/// Whether a section lets in somebody who may enter the gate. What cannot be known does not.
fn lets_in(section: &Section, who: &Identity) -> bool {
    match &section.access {
        SectionAccess::Open => true,
        SectionAccess::More { when, .. } => when.judge(who) == Truth::Yes,
    }
}

/// Tells why a section does not let in somebody who may enter the gate. Returns the section's words for the person.
pub fn tell_section(site: &Site, gate: &Gate, index: usize, evidence: &Evidence, witness: &mut impl Witness) -> Option<String> {
    let section = gate.sections.get(index)?;
    let SectionAccess::More { when, words } = &section.access else { return None };
    let who = identify(site, &gate.access, evidence, &mut crate::step::Silent);
    witness.step(|| {
        Step::new(StepCode::SectionRefused)
            .with("section", section.path.as_str())
            .with("wanted", when.wanted(site))
            .with("saw", when.saw(site, &who))
    });
    words.clone()
}

/// Proof that a request goes to a section that is open to anybody: nothing is known of who sent it, and nothing is
/// delivered. Only [`opened`] makes one; the upstream pool takes no request without this or an [`Entry`].
#[derive(Clone, Copy, Debug)]
pub struct Opened(());

/// Whether a path lies in an open section of a gate.
pub fn opened(gate: &Gate, path: &str) -> Option<Opened> {
    let protected = !gate.access.rules.is_empty();
    (protected && standing(&gate.sections, path) == Standing::Open).then_some(Opened(()))
}

/// Decides which console roles the person of the evidence has; empty when none.
pub fn console_roles(site: &Site, evidence: &Evidence, witness: &mut impl Witness) -> Vec<String> {
    let Some(access) = &site.engineers else { return vec![] };
    enter(site, access, "console", evidence, witness).map(|(_, roles)| roles).unwrap_or_default()
}

fn refused(outcome: Outcome, code: StepCode) -> Decision {
    Decision::Refused(Refusal { outcome, code, words: None })
}

/// Provider, factors, account, then rules.
fn enter(
    site: &Site,
    access: &Access,
    name: &str,
    evidence: &Evidence,
    witness: &mut impl Witness,
) -> Result<(Identity, Vec<String>), Refusal> {
    let stop = |outcome, code| Refusal { outcome, code, words: None };
    if evidence.provider != access.provider {
        witness.step(|| {
            Step::new(StepCode::OtherProvider).with("seen", evidence.provider.as_str()).with("wanted", access.provider.as_str())
        });
        return Err(stop(Outcome::CheckFailed, StepCode::OtherProvider));
    }
    account::factors(site, evidence, witness)?;
    account::directory(site, access, evidence, witness)?;
    let who = identify(site, access, evidence, witness);
    let roles = judge_rules(site, access, name, &who, witness)?;
    Ok((who, roles))
}

fn saw(site: &Site, rule: &Rule, who: &Identity) -> Vec<Phrase> {
    rule.when.saw(site, who)
}

/// Grants of all rules that apply are joined; a refusal wins; where nothing grants entry, the answer is no.
fn judge_rules<W: Witness>(
    site: &Site,
    access: &Access,
    name: &str,
    who: &Identity,
    witness: &mut W,
) -> Result<Vec<String>, Refusal> {
    let mut granted: Vec<&str> = vec![];
    let mut roles: Vec<String> = vec![];
    let mut refusal: Option<(&Rule, &str)> = None;
    // A story tells of every rule. Where nothing is told and the groups are known, a rule that asks for a group somebody is
    // not in decides nothing.
    let rules: Vec<&Rule> = match who.groups.folded() {
        Some(groups) if !W::TELLS => access.rules.concerning(groups),
        _ => access.rules.iter().collect(),
    };
    for rule in rules {
        let truth = rule.when.judge(who);
        match (&rule.effect, truth) {
            (Effect::Enter { roles: gives }, Truth::Yes) => {
                granted.push(&rule.name);
                for role in gives {
                    if !roles.contains(role) {
                        roles.push(role.clone());
                    }
                }
                witness.step(|| {
                    let gives = Phrase::Entry { roles: gives.clone() };
                    Step::new(StepCode::RuleMatched)
                        .with("rule", rule.name.as_str())
                        .with("gives", gives)
                        .with("saw", saw(site, rule, who))
                });
            }
            (Effect::Refuse { words }, Truth::Yes | Truth::Unknown) => {
                if truth == Truth::Unknown {
                    witness.step(|| not_matched(site, rule, who, StepCode::RuleUncertain));
                }
                refusal.get_or_insert((rule, words));
            }
            _ => witness.step(|| not_matched(site, rule, who, StepCode::RuleNotMatched)),
        }
    }
    if let Some((rule, words)) = refusal {
        witness.step(|| {
            Step::new(StepCode::RefusedByRule)
                .with("rule", rule.name.as_str())
                .with("words", words)
                .with("saw", saw(site, rule, who))
        });
        return Err(Refusal { outcome: Outcome::Refused, code: StepCode::RefusedByRule, words: Some(words.to_owned()) });
    }
    if granted.is_empty() {
        witness.step(|| Step::new(StepCode::NothingGrants).with("gate", name).with("rules", access.rules.len() as i64));
        return Err(Refusal { outcome: Outcome::Refused, code: StepCode::NothingGrants, words: None });
    }
    witness.step(|| {
        Step::new(StepCode::Granted)
            .with("gate", name)
            .with("rules", granted.iter().map(|r| (*r).to_owned()).collect::<Vec<_>>())
            .with("roles", Phrase::Roles { roles: roles.clone() })
    });
    Ok(roles)
}

fn not_matched(site: &Site, rule: &Rule, who: &Identity, code: StepCode) -> Step {
    Step::new(code).with("rule", rule.name.as_str()).with("wanted", rule.when.wanted(site)).with("saw", saw(site, rule, who))
}
