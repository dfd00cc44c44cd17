//! Trying expectations: somebody described by hand, at a gate, by the code that decides live.

use serde_json::{Map, Value};

use crate::Moment;
use crate::circumstances::Circumstances;
use crate::decide::{Decision, Goer, fold, opening};
use crate::device::Device;
use crate::evidence::{Entry, Evidence, Factors, GroupFound, LookUp, LookUpState, WayIn};
use crate::rehearse::{Given, Verdict, because, try_at};
use crate::site::{Described, Expectation, PathAccess, Place, Site, Wanted, WayKind, path_access};
use crate::step::{Lang, Silent};

/// An expectation that does not hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Broken {
    pub name: String,
    pub line: usize,
    pub place: Place,
    /// What is not as it must be, in words.
    pub what: Vec<String>,
    /// What decided: the rule, or else the reason.
    pub because: String,
}

/// Evidence of somebody described by hand, as if every directory of the site had answered. None when the provider is not
/// in the site.
pub fn described(site: &Site, who: &Described, at: Moment) -> Option<Evidence> {
    let provider = site.provider(&who.provider);
    let way = site.way(&who.provider);
    let way_in = match (provider, way.map(|w| &w.kind)) {
        (Some(p), _) if p.saml().is_some() => WayIn::Saml,
        (Some(_), _) => WayIn::Oidc,
        (None, Some(WayKind::Password(_))) => WayIn::Password,
        (None, Some(WayKind::MailedCode(_))) => WayIn::MailedCode,
        (None, Some(WayKind::Sponsor(_))) => WayIn::Sponsor,
        (None, Some(WayKind::Passkey(_))) => WayIn::Passkey,
        (None, Some(WayKind::Certificate(_))) => WayIn::Certificate,
        (None, Some(WayKind::Ticket(_))) => WayIn::Ticket,
        (None, Some(WayKind::Gateway)) => WayIn::Gateway,
        (None, Some(WayKind::Machine(_))) => WayIn::Machine,
        (None, None) => return None,
    };
    let mut claims: Map<String, Value> = who
        .claims
        .iter()
        .map(|(name, values)| {
            let value = match values.as_slice() {
                [one] => Value::from(one.clone()),
                several => Value::from(several.to_vec()),
            };
            (name.clone(), value)
        })
        .collect();
    let subject = claims.get("sub").and_then(Value::as_str).unwrap_or("described-by-hand").to_owned();
    claims.insert("sub".into(), subject.clone().into());
    let factors = Factors {
        acr: who.acr.clone().or_else(|| provider.and_then(|p| p.require_acr.first().cloned())),
        amr: who.amr.clone().unwrap_or_else(|| {
            provider.map_or_else(|| way.map(|w| vec![w.method().to_owned()]).unwrap_or_default(), |p| p.require_amr.clone())
        }),
        auth_time: Some(at),
        own: vec![],
    };
    // As names: a table of identifiers that drops what it does not know drops these too.
    if let Some(of) = provider.and_then(|p| p.groups.as_ref()).filter(|_| !who.groups.is_empty()) {
        claims.entry(of.claim.clone()).or_insert_with(|| who.groups.clone().into());
    }
    let groups = who.groups.iter().map(|g| GroupFound { name: g.clone(), dn: String::new(), via: None }).collect();
    let attributes = who.attributes.iter().map(|(k, v)| (k.to_ascii_lowercase(), v.clone())).collect();
    let entry = Entry { dn: "described by hand".into(), attributes, groups, ..Entry::default() };
    let look_ups = site.directories.iter().map(|d| LookUp {
        directory: d.name.clone(),
        key: d.key.clone(),
        value: None,
        at,
        millis: 0,
        cached: false,
        tried: vec![],
        asked: None,
        state: LookUpState::Answered { entry: entry.clone() },
    });
    Some(Evidence {
        claims,
        factors,
        device: (!site.device_checks.is_empty()).then(|| Device::described(at, who.device.clone().unwrap_or_default())),
        look_ups: look_ups.collect(),
        ..Evidence::of(
            way_in,
            who.provider.clone(),
            subject,
            provider.map_or_else(|| site.address.origin(), |p| p.issuer.clone()),
        )
    })
}

/// Tries every expectation of a site; those that hold are left out.
pub fn broken(site: &Site, at: Moment, lang: Lang) -> Vec<Broken> {
    site.expectations.iter().filter_map(|e| try_one(site, e, at, lang)).collect()
}

fn try_one(site: &Site, e: &Expectation, at: Moment, lang: Lang) -> Option<Broken> {
    let fr = lang == Lang::Fr;
    let at = e.at.unwrap_or(at);
    let evidence = described(site, &e.person, at)?;
    let method = e.method.as_deref().unwrap_or("GET");
    let circumstances = Circumstances { now: at, address: e.from, method, path: "/", tunnel: e.tunnel.as_ref() };
    let mut what = vec![];
    match (try_at(site, &e.place, &evidence, &circumstances).verdict, e.enter) {
        (Verdict::In(given), true) => {
            given_as_expected(e, &given, fr, &mut what);
            paths(site, e, &evidence, &circumstances, fr, &mut what);
        }
        (Verdict::In(_), false) if fr => what.push("devait être refusé, et entre".to_owned()),
        (Verdict::In(_), false) => what.push("must be refused, and comes in".to_owned()),
        (_, true) if fr => what.push("devait entrer, et est refusé".to_owned()),
        (_, true) => what.push("must come in, and is refused".to_owned()),
        (_, false) => {}
    }
    (!what.is_empty()).then(|| Broken {
        name: e.name.clone(),
        line: e.line,
        place: e.place.clone(),
        what,
        because: because(site, &e.place, &evidence, &circumstances, lang),
    })
}

fn given_as_expected(e: &Expectation, given: &Given, fr: bool, what: &mut Vec<String>) {
    if let Some(wanted) = &e.roles {
        let sorted = |l: &[String]| {
            let mut l = l.to_vec();
            l.sort();
            l.join(", ")
        };
        let (wanted, got) = (sorted(wanted), sorted(&given.roles));
        if wanted != got {
            let none = if fr { "aucun" } else { "none" };
            let or = |s: String| if s.is_empty() { none.to_owned() } else { s };
            let (wanted, got) = (or(wanted), or(got));
            what.push(if fr {
                format!("rôles : {got} au lieu de {wanted}")
            } else {
                format!("roles are {got} instead of {wanted}")
            });
        }
    }
    for (name, wanted) in &e.headers {
        let got = given.values.iter().find(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| v.as_str()).unwrap_or_default();
        if got != wanted {
            let show = |v: &str| match (v.is_empty(), fr) {
                (true, true) => "rien".to_owned(),
                (true, false) => "nothing".to_owned(),
                (false, _) => format!("“{v}”"),
            };
            let (got, wanted) = (show(got), show(wanted));
            what.push(if fr {
                format!("{name} : {got} au lieu de {wanted}")
            } else {
                format!("{name} is {got} instead of {wanted}")
            });
        }
    }
}

/// Sections, by the paths a request would have.
fn paths(site: &Site, e: &Expectation, evidence: &Evidence, at: &Circumstances<'_>, fr: bool, what: &mut Vec<String>) {
    let Some(gate) = e.place.as_gate().and_then(|name| site.gate(name)) else { return };
    let decision = gate.network().map(|_| fold(site, gate, evidence, at, &mut Silent));
    // Rules may look at the path as well, so each is decided for itself.
    let reached = |path: &str| {
        if let Some(decision) = &decision {
            let open = |to| opening(site, gate, Goer::of(decision), None, &to).is_open();
            return Wanted::parse(path).is_ok_and(open);
        }
        let at = Circumstances { path, ..*at };
        let decision = fold(site, gate, evidence, &at, &mut Silent);
        match (path_access(gate.sections(), path), decision) {
            (PathAccess::Open, _) => true,
            (PathAccess::Entry, Decision::Admitted(_)) => true,
            (PathAccess::More(sections), Decision::Admitted(a)) => sections.into_iter().all(|i| a.section(i)),
            (_, Decision::Refused(_)) => false,
        }
    };
    for path in e.reaches.iter().filter(|p| !reached(p)) {
        what.push(if fr { format!("{path} devait être atteint") } else { format!("{path} must be reached, and is closed") });
    }
    for path in e.closed.iter().filter(|p| reached(p)) {
        what.push(if fr { format!("{path} devait rester fermé") } else { format!("{path} must stay closed, and is reached") });
    }
}
