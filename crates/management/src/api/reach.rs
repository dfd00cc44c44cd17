//! Reach: what the live edition opens to whom, and whether somebody may reach something.

use std::sync::Arc;
use std::time::Duration;

use super::auth::Engineer;
use super::errors::{ApiError, bad};
use super::extract::Json;
use super::rehearse::{fare, known_then};
use super::sites::{document, sound};
use crate::app::App;
use crate::computing::off_the_data_path;
use axum::extract::State;
use passeur_api::{PersonRequest, Problem, Reach, ReachAnswer, ReachAtGate, ReachRequest};
use passeur_core::circumstances::Circumstances;
use passeur_core::decide::opening_for;
use passeur_core::evidence::Evidence;
use passeur_core::rehearse::try_at;
use passeur_core::role::Role;
use passeur_core::site::{Gate, Site, Wanted};
use passeur_core::step::Lang;
use passeur_live::resolve::resolve;

/// How long a name may take to resolve.
const RESOLVE_MAX: Duration = Duration::from_secs(3);
/// The most addresses of a name that are judged.
const ADDRESSES_MAX: usize = 32;

/// Every reach of the live edition, with what opens it.
#[utoipa::path(get, path = "/reaches", responses((status = 200, body = Vec<Reach>)))]
pub async fn reaches(State(app): State<App>, who: Engineer) -> Result<Json<Vec<Reach>>, ApiError> {
    who.may(Role::View)?;
    let Some(edition) = app.live.get() else { return Ok(Json(vec![])) };
    let site = &edition.site;
    let one = |r: &passeur_core::site::Reach| Reach {
        name: r.name.clone(),
        title: r.title.clone(),
        leads_to: r.sentence(who.lang),
        opened_by: opened_by(site, &r.name, who.lang),
    };
    Ok(Json(site.reaches.iter().map(one).collect()))
}

/// Rules, zones and machines that open a reach, each in a few words.
fn opened_by(site: &Site, name: &str, lang: Lang) -> Vec<String> {
    let fr = lang == Lang::Fr;
    let named = |all: &[String]| all.iter().any(|n| n == name);
    let mut out = vec![];
    for gate in &site.gates {
        let Some(network) = gate.network() else { continue };
        let gives = gate.access.rules.iter().filter(|r| r.effect.gives().is_some_and(|g| named(&g.reach)));
        out.extend(gives.map(|r| match fr {
            true => format!("porte {}, règle « {} »", gate.name, r.name),
            false => format!("gate {}, rule “{}”", gate.name, r.name),
        }));
        for zone in site.zones_of(gate) {
            if named(&zone.before) {
                out.push(if fr {
                    format!("zone {}, à toute machine", zone.name)
                } else {
                    format!("zone {}, to every machine", zone.name)
                });
            }
            if zone.first.as_ref().is_some_and(|f| f.reach == name) {
                out.push(if fr { format!("zone {}, d'abord", zone.name) } else { format!("zone {}, at first", zone.name) });
            }
        }
        let machines = network.machines.iter().filter(|m| named(&m.reach));
        out.extend(machines.map(|m| match fr {
            true => format!("porte {}, machine {}", gate.name, m.name),
            false => format!("gate {}, machine {}", gate.name, m.name),
        }));
    }
    out
}

/// Whether somebody may reach something, by the code that decides: for now, for another moment, or under a draft.
#[utoipa::path(post, operation_id = "try_reach", path = "/reach/try", request_body = ReachRequest,
    responses((status = 200, body = ReachAnswer), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn try_reach(
    State(app): State<App>,
    who: Engineer,
    Json(ask): Json<ReachRequest>,
) -> Result<Json<ReachAnswer>, ApiError> {
    who.may(Role::View)?;
    let mut to =
        Wanted::parse(&ask.to).map_err(|why| bad(&format!("\"{}\" {why}.", passeur_core::text::shorten(&ask.to, 100))))?;
    let doc = document(&app, ask.source.clone()).await?;
    let site: Arc<Site> = sound(&app, &who, &doc).await?;
    let evidence = match &ask.person {
        None => None,
        Some(person) => Some(known_then(&app, &who, &site, &as_asked(&site, person)).await?),
    };
    let addresses = match &to.name {
        Some(name) => resolved(name).await,
        None => vec![],
    };
    to.addresses.extend(&addresses);
    let gate = ask.gate.clone();
    if let Some(name) = gate.as_deref().filter(|name| site.gate(name).and_then(Gate::network).is_none()) {
        return Err(bad(&format!("\"{}\" is no gate of kind network in {}.", passeur_core::text::shorten(name, 60), doc.name)));
    }
    let address = match ask.person.as_ref().and_then(|p| p.address.as_ref()) {
        None => None,
        Some(text) => Some(text.parse().map_err(|_| bad("address is an IP address."))?),
    };
    let now = ask.person.as_ref().and_then(|p| p.at).unwrap_or_else(|| app.now());
    let (lang, wanted) = (who.lang, to.clone());
    let gates = off_the_data_path(&app, &who.name, move || {
        let at = Circumstances { now, address, method: "GET", path: "/" };
        let meant = site.gates.iter().filter(|g| g.network().is_some() && gate.as_ref().is_none_or(|n| *n == g.name));
        meant.map(|g| at_gate(&site, g, evidence.as_ref(), &at, &wanted, lang)).collect()
    })
    .await?;
    let addresses = addresses.iter().map(ToString::to_string).collect();
    let to = Wanted { addresses: if to.name.is_some() { vec![] } else { to.addresses }, ..to };
    Ok(Json(ReachAnswer { source: doc.name, to: to.to_string(), addresses, gates }))
}

/// Somebody described by hand, of whom no authentication method is said, signed in as the way in asks: what they reach is the question.
fn as_asked(site: &Site, person: &PersonRequest) -> PersonRequest {
    let mut out = person.clone();
    if out.subject.is_none() && out.amr.is_empty() {
        let of_provider = site.provider(&out.provider).map(|p| p.require_amr.clone());
        let of_way = || site.way(&out.provider).map(|w| vec![w.method().to_owned()]);
        out.amr = of_provider.or_else(of_way).unwrap_or_default();
    }
    out
}

fn at_gate(
    site: &Site,
    gate: &Gate,
    evidence: Option<&Evidence>,
    at: &Circumstances<'_>,
    to: &Wanted,
    lang: Lang,
) -> ReachAtGate {
    let fared = evidence.map(|e| fare(site, &gate.place(), e, at, &try_at(site, &gate.place(), e, at), lang));
    let answer = opening_for(site, gate, evidence, at, to);
    let (verdict, because, steps) = match fared {
        Some(f) => (Some(f.verdict), Some(f.because), f.steps),
        None => (None, None, vec![]),
    };
    ReachAtGate {
        gate: gate.name.clone(),
        open: answer.is_open(),
        sentence: answer.sentence(to, lang),
        remedy: answer.remedy(to, lang),
        reach: answer.reach().map(str::to_owned),
        verdict,
        because,
        steps,
    }
}

/// The addresses of a name, as this node resolves it; none where it does not resolve in time.
async fn resolved(name: &str) -> Vec<std::net::IpAddr> {
    let found = tokio::time::timeout(RESOLVE_MAX, resolve(name, 0)).await;
    let mut all: Vec<_> = found.ok().and_then(Result::ok).into_iter().flatten().map(|a| a.ip().to_canonical()).collect();
    all.sort_unstable();
    all.dedup();
    all.truncate(ADDRESSES_MAX);
    all
}
