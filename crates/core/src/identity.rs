//! Evidence seen through one edition: who the person is, their attributes by index and their groups.

use std::borrow::Cow;
use std::collections::BTreeMap;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde_json::{Map, Value};

use crate::attribute::{Absence, Attribute, Origin};
use crate::decide::grants::Joined;
use crate::device::Device;
use crate::evidence::{Entry, Evidence, Factors, GroupFound, ReferredState, UserInfo, WayIn};
use crate::mapping;
pub use crate::person::Person;
use crate::site::{Access, AttributeId, BUILT_IN, Directory, GroupsFrom, Site};
use crate::step;
use crate::step::{Phrase, Witness};

/// Groups of a person, or why they are not known.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Groups {
    Known { by_name: BTreeMap<String, GroupFound>, origin: Origin },
    Unknown { absence: Absence, origin: Origin },
}

impl Groups {
    /// Whether the person is in the group. Names compare without regard to case.
    pub fn contains(&self, name: &str) -> bool {
        matches!(self, Groups::Known { by_name, .. } if by_name.contains_key(&name.to_lowercase()))
    }

    /// The group as found, with how the person is in it.
    pub fn found(&self, name: &str) -> Option<&GroupFound> {
        match self {
            Groups::Known { by_name, .. } => by_name.get(&name.to_lowercase()),
            Groups::Unknown { .. } => None,
        }
    }

    /// Names in lower case, when they are known.
    pub fn folded(&self) -> Option<impl Iterator<Item = &str>> {
        match self {
            Groups::Known { by_name, .. } => Some(by_name.keys().map(String::as_str)),
            Groups::Unknown { .. } => None,
        }
    }

    /// Names in order, or why there are none.
    pub fn names(&self) -> Result<Vec<String>, &Absence> {
        match self {
            Groups::Known { by_name, .. } => Ok(by_name.values().map(|g| g.name.clone()).collect()),
            Groups::Unknown { absence, .. } => Err(absence),
        }
    }

    /// Where they come from.
    pub fn origin(&self) -> &Origin {
        match self {
            Groups::Known { origin, .. } | Groups::Unknown { origin, .. } => origin,
        }
    }
}

/// A person as one edition sees them.
#[derive(Clone, Debug)]
pub struct Identity {
    pub person: Person,
    attributes: Vec<Attribute>,
    pub groups: Groups,
    /// The way in that was taken, by name.
    pub way: String,
    /// How and when the person proved who they are.
    pub factors: Factors,
    /// The device that they signed in on, where it was looked at.
    pub device: Option<Device>,
}

static NOT_MAPPED: Attribute = Attribute::Absent { absence: Absence::NotMapped, origin: Origin::SignIn };

impl Identity {
    pub(crate) fn set(&mut self, id: AttributeId, attribute: Attribute) {
        if let Some(slot) = self.attributes.get_mut(id.0 as usize) {
            *slot = attribute;
        }
    }

    /// An attribute; one that nothing maps to is absent for that reason.
    pub fn attribute(&self, id: AttributeId) -> &Attribute {
        self.attributes.get(id.0 as usize).unwrap_or(&NOT_MAPPED)
    }
}

/// What the sign-in itself says, before any directory is asked.
fn signed_in(site: &Site, evidence: &Evidence) -> Identity {
    let mut who = Identity {
        person: Person { provider: evidence.provider.clone(), subject: evidence.subject.clone() },
        attributes: vec![NOT_MAPPED.clone(); site.attributes.len()],
        groups: Groups::Unknown { absence: Absence::NotMapped, origin: Origin::SignIn },
        way: evidence.way().to_owned(),
        factors: evidence.factors.clone(),
        device: evidence.device.clone(),
    };
    let built_in = [&evidence.subject, &evidence.provider];
    for (name, value) in BUILT_IN.into_iter().zip(built_in) {
        if let Some(id) = site.attribute(name) {
            who.set(id, Attribute::Present { values: vec![value.clone()], origin: Origin::SignIn });
        }
    }
    for (id, claim) in site.fed_by_sign_in(&evidence.provider) {
        who.set(*id, from_claims(evidence, claim));
    }
    who
}

/// The attribute that feeds a directory: from the sign-in, or made from it by the site's mappings.
pub(crate) fn fed(site: &Site, access: &Access, evidence: &Evidence, id: AttributeId) -> Attribute {
    if site.mapped.contains(&id) {
        let mut who = signed_in(site, evidence);
        mapping::before_rules(site, access, &mut who);
        return who.attribute(id).clone();
    }
    // Mostly it is one claim, asked for at every decision.
    match site.fed_by_sign_in(&evidence.provider).iter().find(|(a, _)| *a == id) {
        Some((_, claim)) => from_claims(evidence, claim),
        None => signed_in(site, evidence).attribute(id).clone(),
    }
}

/// Derives the identity for what a gate (or the console) asks for. Total: whatever is missing becomes an absence.
pub fn identify(site: &Site, access: &Access, evidence: &Evidence, witness: &mut impl Witness) -> Identity {
    let mut who = signed_in(site, evidence);
    if let Some(directory) = access.asked(site, evidence) {
        for (id, name) in &directory.attributes {
            who.set(*id, from_directory(evidence, directory, *id, name));
        }
        who.groups = groups_from(evidence, directory);
    }
    if access.groups == GroupsFrom::Provider {
        groups_of_provider(site, evidence, &mut who, witness);
    }
    mapping::before_rules(site, access, &mut who);
    for i in 0..who.attributes.len() {
        let id = AttributeId(i as u16);
        // What is made at other gates, or only once the rules have spoken, is no part of this story yet.
        if !site.mapped.contains(&id) || access.mappings.iter().any(|m| m.attribute == id && !m.after_rules) {
            note(site, id, who.attribute(id), witness);
        }
    }
    who
}

/// Adds what is made from what the rules gave.
pub(crate) fn complete(site: &Site, access: &Access, who: &mut Identity, given: &Joined, witness: &mut impl Witness) {
    for id in mapping::after_rules(site, access, who, given) {
        note(site, id, who.attribute(id), witness);
    }
}

fn note(site: &Site, id: AttributeId, attribute: &Attribute, witness: &mut impl Witness) {
    witness.step(|| match attribute {
        Attribute::Present { values, origin } => step!(AttributePresent {
            attribute: site.attribute_name(id),
            values: values.clone(),
            origin: Phrase::From { origin: origin.clone() }
        }),
        Attribute::Absent { absence, origin } => step!(AttributeAbsent {
            attribute: site.attribute_name(id),
            absence: absence.param(),
            origin: Phrase::From { origin: origin.clone() }
        }),
    });
}

/// Reads a claim by name: the id_token's is preferred, then userinfo's; or an attribute of the assertion.
pub fn from_claims(evidence: &Evidence, claim: &str) -> Attribute {
    if evidence.way_in == WayIn::Saml {
        let origin = Origin::Assertion { attribute: claim.to_owned() };
        // Names are URIs as a rule, and never paths.
        return match evidence.claims.get(claim) {
            Some(value) => from_json(value, origin),
            None => Attribute::Absent { absence: Absence::NotReleased, origin },
        };
    }
    // Ways in of our own have no provider that could say more.
    let ours = matches!(
        evidence.way_in,
        WayIn::Password
            | WayIn::MailedCode
            | WayIn::Sponsor
            | WayIn::Certificate
            | WayIn::Ticket
            | WayIn::Gateway
            | WayIn::Machine
    );
    if ours && evidence.through.is_none() {
        let origin = Origin::Proof { claim: claim.to_owned() };
        return match claim_of(&evidence.claims, claim) {
            Some(value) => from_json(value, origin),
            None => Attribute::Absent { absence: Absence::NotReleased, origin },
        };
    }
    if let Some(value) = claim_of(&evidence.claims, claim) {
        return from_json(value, Origin::IdToken { claim: claim.to_owned() });
    }
    if let Some(found) = by_reference(evidence, claim) {
        return found;
    }
    match &evidence.userinfo {
        UserInfo::Answered { claims } => match claim_of(claims, claim) {
            Some(value) => from_json(value, Origin::UserInfo { claim: claim.to_owned() }),
            None => Attribute::Absent { absence: Absence::NotReleased, origin: Origin::Claims { claim: claim.to_owned() } },
        },
        UserInfo::NotAsked => {
            Attribute::Absent { absence: Absence::NotReleased, origin: Origin::IdToken { claim: claim.to_owned() } }
        }
        UserInfo::Failed { how } => Attribute::Absent {
            absence: Absence::LookUpFailed { how: how.clone() },
            origin: Origin::UserInfo { claim: claim.to_owned() },
        },
    }
}

/// A claim that the provider said where to have; none where it said nothing of it.
fn by_reference(evidence: &Evidence, claim: &str) -> Option<Attribute> {
    let first = top_claim(claim);
    let source = evidence.referred.iter().find(|r| r.names.iter().any(|n| *n == first))?;
    let origin = Origin::Referred { claim: claim.to_owned(), at: source.at.clone() };
    Some(match &source.state {
        ReferredState::Answered { claims } => match claim_of(claims, claim) {
            Some(value) => from_json(value, origin),
            None => Attribute::Absent { absence: Absence::NotReleased, origin },
        },
        ReferredState::Failed { how } => Attribute::Absent { absence: Absence::LookUpFailed { how: how.clone() }, origin },
    })
}

/// The claim itself, of what is written as its name or as a path into it.
pub fn top_claim(claim: &str) -> Cow<'_, str> {
    match claim.strip_prefix('/') {
        None => claim.into(),
        Some(path) => path.split('/').next().unwrap_or_default().replace("~1", "/").replace("~0", "~").into(),
    }
}

/// A claim by its name, or by a path into it (JSON Pointer, RFC 6901) where what is written begins with `/`.
fn claim_of<'a>(claims: &'a Map<String, Value>, claim: &str) -> Option<&'a Value> {
    let found = claims.get(top_claim(claim).as_ref())?;
    let below = claim.strip_prefix('/').and_then(|path| path.find('/').map(|i| &path[i..]));
    found.pointer(below.unwrap_or_default())
}

fn from_json(value: &Value, origin: Origin) -> Attribute {
    let one = |v: &Value| match v {
        Value::String(s) => Some(s.clone()),
        Value::Number(n) => Some(n.to_string()),
        Value::Bool(b) => Some(b.to_string()),
        _ => None,
    };
    let not_text = || Absence::Unsafe { why: "not-text".to_owned() };
    match value {
        Value::Null => Attribute::Absent { absence: Absence::NotReleased, origin },
        Value::Array(items) => match items.iter().map(one).collect::<Option<Vec<_>>>() {
            Some(values) => non_blank(values, origin, Absence::NotReleased),
            None => Attribute::Absent { absence: not_text(), origin },
        },
        other => match one(other) {
            Some(v) => non_blank(vec![v], origin, Absence::NotReleased),
            None => Attribute::Absent { absence: not_text(), origin },
        },
    }
}

/// Values that are empty or blank are no values.
fn non_blank(values: Vec<String>, origin: Origin, if_empty: Absence) -> Attribute {
    let values = values.into_iter().filter(|v| !v.trim().is_empty()).collect();
    Attribute::from_values(values, origin, if_empty)
}

fn from_directory(evidence: &Evidence, directory: &Directory, id: AttributeId, name: &str) -> Attribute {
    let origin = Origin::Directory { directory: directory.name.clone(), attribute: name.to_owned() };
    let Some(look_up) = evidence.look_up(&directory.name) else {
        return Attribute::Absent { absence: Absence::NotRecorded, origin };
    };
    let Some(entry) = look_up.state.entry() else {
        let absence = Absence::LookUpFailed { how: look_up.state.code().to_owned() };
        return Attribute::Absent { absence, origin };
    };
    if !look_up.asked_for(name) {
        return Attribute::Absent { absence: Absence::NotRecorded, origin };
    }
    of_entry(directory, entry, id, name)
}

/// An attribute of the site as a directory entry gives it: the same bytes may feed several, each in its own form.
pub fn of_entry(directory: &Directory, entry: &Entry, id: AttributeId, name: &str) -> Attribute {
    let origin = Origin::Directory { directory: directory.name.clone(), attribute: name.to_owned() };
    let key = name.to_ascii_lowercase();
    if let Some(bytes) = entry.octets.get(&key) {
        let (form, why) = match directory.octets.get(&id) {
            Some(form) => (Some(form), "not-octets"),
            None => (None, "not-text"),
        };
        let text = |b: Vec<u8>| form.map_or_else(|| String::from_utf8(b.clone()).ok(), |f| f.text(&b));
        let texts = bytes.iter().map(|b| STANDARD.decode(b).ok().and_then(text)).collect::<Option<Vec<_>>>();
        let unfit = Attribute::Absent { absence: Absence::Unsafe { why: why.to_owned() }, origin: origin.clone() };
        return texts.map_or(unfit, |t| non_blank(t, origin, Absence::NotInEntry));
    }
    if entry.binary.iter().any(|b| b.eq_ignore_ascii_case(name)) {
        return Attribute::Absent { absence: Absence::Unsafe { why: "not-text".to_owned() }, origin };
    }
    let values = entry.attributes.get(&key).cloned().unwrap_or_default();
    non_blank(values, origin, Absence::NotInEntry)
}

/// Groups as the provider sends them, made into names as the site file says. Those that are still identifiers are told: no rule
/// by name can hold of them.
fn groups_of_provider(site: &Site, evidence: &Evidence, who: &mut Identity, witness: &mut impl Witness) {
    let Some(of) = site.provider(&evidence.provider).and_then(|p| p.groups.as_ref()) else {
        who.groups = Groups::Unknown { absence: Absence::NotMapped, origin: Origin::SignIn };
        return;
    };
    let sent = from_claims(evidence, &of.claim);
    let origin = match &sent {
        Attribute::Present { origin, .. } | Attribute::Absent { origin, .. } => origin.clone(),
    };
    let named = match sent.values() {
        // A provider that releases no group where somebody is in none leaves the claim out.
        Err(Absence::NotReleased) if of.may_lack => Ok(vec![]),
        Err(absence) => Err(absence.clone()),
        Ok(values) => mapping::apply(site, who, &of.by, values.to_vec()),
    };
    who.groups = match named {
        Err(absence) => Groups::Unknown { absence, origin },
        Ok(names) => {
            let unnamed: Vec<String> = names.iter().filter(|n| is_identifier(n)).take(10).cloned().collect();
            if !unnamed.is_empty() {
                witness.step(|| step!(GroupsUnnamed { provider: evidence.provider.as_str(), values: unnamed }));
            }
            let found = names.into_iter().map(|name| GroupFound { dn: String::new(), name, via: None });
            Groups::Known { by_name: found.map(|g| (g.name.to_lowercase(), g)).collect(), origin }
        }
    };
}

/// Whether a group's name is plainly none: a UUID (RFC 9562 4), a security identifier, or a distinguished name (RFC 4514).
fn is_identifier(name: &str) -> bool {
    let hex = |s: &str| s.len() >= 8 && s.bytes().all(|b| b.is_ascii_hexdigit());
    let uuid = name.len() == 36 && name.matches('-').count() == 4 && hex(&name.replace('-', ""));
    let security = name.strip_prefix("S-1-").is_some_and(|rest| rest.split('-').all(|p| p.parse::<u64>().is_ok()));
    let dn = name.split(',').count() > 1 && name.split(',').all(|part| part.contains('='));
    uuid || security || dn || (name.len() == 32 && hex(name))
}

fn groups_from(evidence: &Evidence, directory: &Directory) -> Groups {
    let origin = Origin::Directory { directory: directory.name.clone(), attribute: "groups".to_owned() };
    let look_up = evidence.look_up(&directory.name).filter(|l| l.asked.as_ref().is_none_or(|a| a.groups));
    match look_up.map(|l| &l.state) {
        None => Groups::Unknown { absence: Absence::NotRecorded, origin },
        Some(state) => match state.entry() {
            None => Groups::Unknown { absence: Absence::LookUpFailed { how: state.code().to_owned() }, origin },
            Some(entry) => {
                let by_name = directory.known_groups(entry).map(|g| (g.name.to_lowercase(), g)).collect();
                Groups::Known { by_name, origin }
            }
        },
    }
}

/// What to call the person on pages and in lists. Never a key.
pub fn display_name(evidence: &Evidence) -> String {
    // By OpenID Connect, by SAML with plain names, and by SAML with those of X.500 (displayName, cn).
    ["name", "preferred_username", "displayName", "urn:oid:2.16.840.1.113730.3.1.241", "cn", "urn:oid:2.5.4.3"]
        .into_iter()
        .find_map(|claim| from_claims(evidence, claim).values().ok().and_then(|v| v.first().cloned()))
        .map(|n| crate::text::shorten(&n, 120))
        .unwrap_or_else(|| evidence.subject.clone())
}
