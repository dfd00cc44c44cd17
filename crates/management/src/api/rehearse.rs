//! Rehearsal: past crossings, or one person, against an edition, with nothing changed.

use std::collections::HashSet;
use std::sync::Arc;

use axum::extract::State;
use chrono::Duration;
use http::StatusCode;
use passeur_api::{Fare, GateRehearsal, PersonRehearsal, PersonRequest, Problem, Rehearsal, RehearseRequest};
use passeur_core::circumstances::Circumstances;
use passeur_core::compare::ChangedSource;
use passeur_core::device::Device;
use passeur_core::evidence::Evidence;
use passeur_core::expect;
use passeur_core::rehearse::{Tried, Verdict, effects, story_at, try_after, try_at};
use passeur_core::role::Role;
use passeur_core::site::{Described, Gate, Place, Site};
use passeur_core::step::{Lang, sentence};
use passeur_core::tunnel::TunnelFacts;
use passeur_engine::look_up as asking;

use super::auth::Engineer;
use super::crossings::show;
use super::errors::{ApiError, bad, problem};
use super::extract::Json;
use super::people;
use super::sites::{changed, document, sound};
use crate::app::App;
use crate::computing::off_the_data_path;
use crate::rehearsal::{Pair, past as rehearse};
use crate::trials::Under;

/// The longest look back, in days; as long as crossings are kept by default.
const DAYS_MAX: u16 = 90;

/// Rehearses the crossings of the last days.
#[utoipa::path(post, operation_id = "rehearse", path = "/rehearse", request_body = RehearseRequest,
    responses((status = 200, body = Rehearsal), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn past(State(app): State<App>, who: Engineer, Json(ask): Json<RehearseRequest>) -> Result<Json<Rehearsal>, ApiError> {
    who.may(Role::View)?;
    let days = ask.days.unwrap_or(7);
    if !(1..=DAYS_MAX).contains(&days) {
        let words = format!("days is a number from 1 to {DAYS_MAX}.");
        return Err(bad(&words));
    }
    let (before, after) = (document(&app, Default::default()).await?, document(&app, ask.source).await?);
    let sites = (sound(&app, &who, &before).await?, sound(&app, &who, &after).await?);
    let changed = changed(&app, &who, (&before.text, &sites.0), (&after.text, &sites.1)).await?;
    let pair = Pair { before: sites.0, after: sites.1, changed, lang: who.lang };
    let since = app.now() - Duration::days(i64::from(days));
    let sums = rehearse(&app, &who.name, pair, since, ask.gate.as_deref()).await?;
    Ok(Json(Rehearsal {
        before: before.name,
        after: after.name,
        since,
        crossings: sums.crossings,
        distinct: sums.distinct,
        millis: sums.millis,
        same: sums.same,
        refused: sums.refused.crossings,
        admitted: sums.admitted.crossings,
        differing: sums.differs.crossings,
        not_known: sums.not_known.crossings,
        refuses: sums.refused.shown(),
        admits: sums.admitted.shown(),
        differs: sums.differs.shown(),
        cannot_be_known: sums.not_known.shown(),
    }))
}

/// Evidence of somebody described by hand. Without groups or attributes the directories are left to be asked.
fn described(app: &App, site: &Site, ask: &PersonRequest) -> Result<Evidence, ApiError> {
    let who = Described {
        provider: ask.provider.clone(),
        amr: Some(ask.amr.clone()),
        acr: ask.acr.clone(),
        groups: ask.groups.clone().unwrap_or_default(),
        attributes: ask.attributes.clone(),
        ..Described::default()
    };
    let mut evidence = expect::described(site, &who, app.now()).ok_or_else(|| {
        let words = format!("There is no provider \"{}\".", ask.provider);
        problem(StatusCode::NOT_FOUND, "no-provider", "No such provider", &words)
    })?;
    // Claims may be of any shape here, as a provider's may.
    for (name, value) in ask.claims.iter().flatten() {
        evidence.claims.insert(name.clone(), value.clone());
    }
    if let Some(subject) = evidence.claims.get("sub").and_then(|v| v.as_str()) {
        evidence.subject = subject.to_owned();
    }
    if ask.groups.is_none() && ask.attributes.is_empty() {
        evidence.look_ups.clear();
    }
    Ok(evidence)
}

/// What is known of the person, under the live edition and under the document: recorded, described, and where asked for, looked up now,
/// in the directories of each.
async fn evidence_of(
    app: &App,
    who: &Engineer,
    (before, after): (&Site, &Site),
    changed: &[ChangedSource],
    ask: &PersonRequest,
) -> Result<(Evidence, Evidence), ApiError> {
    let evidence = match &ask.subject {
        None => described(app, if before.provider(&ask.provider).is_some() { before } else { after }, ask)?,
        Some(subject) => {
            let none = || {
                let words = format!(
                    "Nobody with subject \"{subject}\" came through provider \"{}\" while crossings were kept. Describe them by hand.",
                    ask.provider
                );
                problem(StatusCode::NOT_FOUND, "no-person", "Nobody known", &words)
            };
            let person = people::key_of(app, &ask.provider, subject).await?;
            app.store.latest_evidence(&person).await?.ok_or_else(none)?
        }
    };
    let by_hand = ask.groups.is_some() || !ask.attributes.is_empty();
    let evidence = match &ask.device {
        None => evidence,
        Some(passes) => {
            let is_there = |name: &str| [before, after].iter().any(|s| s.device_checks.iter().any(|c| c.name == name));
            if let Some(name) = passes.iter().find(|name| !is_there(name)) {
                return Err(bad(&format!("There is no device check \"{}\".", passeur_core::text::shorten(name, 60))));
            }
            Evidence { device: Some(Device::described(app.now(), passes.clone())), ..evidence }
        }
    };
    let mut out = [evidence.clone(), evidence];
    for (site, evidence) in [before, after].into_iter().zip(&mut out) {
        let under = Under { site, live: Some(before), who: Some(who) };
        for access in site.accesses() {
            let Some(asking) = access.asking(site, evidence) else { continue };
            let name = asking.directory.name.clone();
            // What another directory of that name said is nothing that this one said.
            let another = std::ptr::eq(site, after) && changed.iter().any(|c| c.kind == "directory" && c.name == name);
            let known = !another && evidence.look_up(&name).is_some_and(|l| l.is_for(&asking));
            if by_hand || !access.takes(site, evidence) || (known && !ask.fresh) || (another && !ask.fresh) {
                continue;
            }
            if let Some(link) = under.directory(app, &name).await {
                asking::complete_by(app, site, access, evidence, Some(link)).await;
            }
        }
    }
    let [now, then] = out;
    Ok((now, then))
}

/// What is known of a person under one site, alone.
pub async fn known_then(app: &App, who: &Engineer, site: &Site, ask: &PersonRequest) -> Result<Evidence, ApiError> {
    evidence_of(app, who, (site, site), &[], ask).await.map(|(known, _)| known)
}

/// How somebody fares at a gate, with the story.
pub fn fare(site: &Site, place: &Place, evidence: &Evidence, at: &Circumstances<'_>, tried: &Tried, lang: Lang) -> Fare {
    let (steps, decided) = story_at(site, place, evidence, at);
    let last = decided.as_ref().and_then(|d| steps.iter().position(|s| s == d));
    let given = match &tried.verdict {
        Verdict::In(given) => given.as_ref().clone(),
        Verdict::Out | Verdict::NoGate | Verdict::NotKnown(_) => Default::default(),
    };
    Fare {
        verdict: (&tried.verdict).into(),
        because: decided.map(|s| sentence(&s, lang)).unwrap_or_default(),
        roles: given.roles,
        terms: given
            .reach
            .iter()
            .map(|(name, to)| if lang == Lang::Fr { format!("accès à {name} : {to}") } else { format!("reach to {name}: {to}") })
            .chain(given.terms.words(lang))
            .collect(),
        headers: given.values.into_iter().map(|(n, v)| format!("{n}: {v}")).collect(),
        steps: steps.iter().enumerate().map(|(i, s)| show(i, s, last == Some(i), lang)).collect(),
    }
}

/// How somebody fares at every gate of either site and at the console, or at one of them.
fn at_gates(
    (before, after): (&Site, &Site),
    (known, then_known): (&Evidence, &Evidence),
    changed: &[ChangedSource],
    at: &Circumstances<'_>,
    gate: Option<&str>,
    lang: Lang,
) -> Vec<GateRehearsal> {
    let mut seen = HashSet::new();
    let gate = gate.map(Place::parse);
    let places = before.gates.iter().chain(&after.gates).map(Gate::place).chain([Place::Console]);
    let wanted = places.filter(|place| seen.insert(place.clone()) && gate.as_ref().is_none_or(|g| g == place));
    let one = |place: Place| {
        let (now, then) = (try_at(before, &place, known, at), try_after(after, changed, &place, then_known, at));
        let effects = effects(&now, &then, lang);
        GateRehearsal {
            gate: place.to_string(),
            effect: (&effects).into(),
            now: fare(before, &place, known, at, &now, lang),
            then: fare(after, &place, then_known, at, &then, lang),
            what: effects.what(lang),
        }
    };
    wanted.map(one).collect()
}

/// The tunnel by which somebody would come, where one of these sites has its entrance.
pub(super) fn tunnel_asked(ask: &PersonRequest, sites: &[&Site]) -> Result<Option<TunnelFacts>, ApiError> {
    let Some(asked) = &ask.tunnel else { return Ok(None) };
    if !sites.iter().any(|s| s.has_entrance(&asked.entrance)) {
        return Err(bad(&format!("There is no entrance \"{}\".", passeur_core::text::shorten(&asked.entrance, 60))));
    }
    let (platform, version) = (asked.platform.as_deref(), asked.version.as_deref());
    Ok(Some(TunnelFacts::described(&asked.entrance, platform, version, asked.profile)))
}

/// Rehearses one person at every gate: known from their crossings, or described by hand.
#[utoipa::path(post, operation_id = "rehearse_person", path = "/rehearse/person", request_body = PersonRequest,
    responses((status = 200, body = PersonRehearsal), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn person(
    State(app): State<App>,
    who: Engineer,
    Json(ask): Json<PersonRequest>,
) -> Result<Json<PersonRehearsal>, ApiError> {
    who.may(Role::View)?;
    let (before, after) = (document(&app, Default::default()).await?, document(&app, ask.source.clone()).await?);
    let (a, b): (Arc<Site>, Arc<Site>) = (sound(&app, &who, &before).await?, sound(&app, &who, &after).await?);
    let changed = changed(&app, &who, (&before.text, &a), (&after.text, &b)).await?;
    let (known, then_known) = evidence_of(&app, &who, (&a, &b), &changed, &ask).await?;
    // What was asked of the document's own directories just now, or described by hand, is known.
    let asked = |c: &ChangedSource| {
        let by_hand = ask.groups.is_some() || !ask.attributes.is_empty() || ask.subject.is_none();
        let anew = c.kind == "directory" && then_known.look_up(&c.name) != known.look_up(&c.name);
        by_hand || anew
    };
    let unknown: Vec<ChangedSource> = changed.iter().filter(|c| !asked(c)).cloned().collect();
    let address = match &ask.address {
        None => None,
        Some(text) => Some(text.parse().map_err(|_| bad("address is an IP address."))?),
    };
    let tunnel = tunnel_asked(&ask, &[&a, &b])?;
    let method = ask.method.clone().unwrap_or_else(|| "GET".to_owned());
    let path = ask.path.clone().unwrap_or_else(|| "/".to_owned());
    let (now, gate, lang) = (ask.at.unwrap_or_else(|| app.now()), ask.gate, who.lang);
    let gates = off_the_data_path(&app, &who.name, move || {
        let at = Circumstances { now, address, method: &method, path: &path, tunnel: tunnel.as_ref() };
        at_gates((&a, &b), (&known, &then_known), &unknown, &at, gate.as_deref(), lang)
    })
    .await?;
    Ok(Json(PersonRehearsal { before: before.name, after: after.name, gates }))
}
