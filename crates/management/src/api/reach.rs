//! Reach: what the live edition opens to whom, and whether somebody may reach something.

use super::auth::Engineer;
use super::errors::{ApiError, bad, problem};
use super::extract::{Json, Query};
use super::reached::{Found, Whom, found};
use super::rehearse::fare;
use crate::app::App;
use crate::computing::off_the_data_path;
use axum::extract::{Path, State};
use http::StatusCode;
use passeur_api::{Problem, Reach, ReachAnswer, ReachAtGate, ReachRequest, ZoneNeed, ZoneProposal};
use passeur_core::before::{Need, Passage, Why, passage, proposal, ways_of};
use passeur_core::circumstances::Circumstances;
use passeur_core::decide::{Goer, opening, opening_for};
use passeur_core::rehearse::try_at;
use passeur_core::role::Role;
use passeur_core::site::{Gate, Opener, Site, Wanted};
use passeur_core::step::Lang;
use passeur_engine::providers::browser::{needs_of, resolved};
use serde::Deserialize;
use utoipa::IntoParams;

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
    let words = |(gate, opener): (&Gate, Opener<'_>)| match (opener, lang) {
        (Opener::Rule(r), Lang::En) => format!("gate {}, rule “{}”", gate.name, r.name),
        (Opener::Rule(r), Lang::Fr) => format!("porte {}, règle « {} »", gate.name, r.name),
        (Opener::Zone(z), Lang::En) => format!("zone {}, to every machine", z.name),
        (Opener::Zone(z), Lang::Fr) => format!("zone {}, à toute machine", z.name),
        (Opener::First(z), Lang::En) => format!("zone {}, at first", z.name),
        (Opener::First(z), Lang::Fr) => format!("zone {}, d'abord", z.name),
        (Opener::Machine(m), Lang::En) => format!("gate {}, machine {}", gate.name, m.name),
        (Opener::Machine(m), Lang::Fr) => format!("porte {}, machine {}", gate.name, m.name),
    };
    site.openers(name).map(words).collect()
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
    let Found { doc, site, whom, address, tunnel, at, gate, machines } = found(&app, &who, &ask).await?;
    let addresses = match &to.name {
        // What names lead to within a network is not for everybody who may look at rules.
        Some(name) if who.may(Role::Operate).is_ok() => resolved(name).await,
        Some(_) | None => vec![],
    };
    to.addresses.extend(&addresses);
    let (lang, wanted) = (who.lang, to.clone());
    let gates = off_the_data_path(&app, &who.name, move || {
        let at = Circumstances { now: at, address, method: "GET", path: "/", tunnel: tunnel.as_ref() };
        let meant = site.gates.iter().filter(|g| g.network().is_some() && gate.as_ref().is_none_or(|n| *n == g.name));
        meant.map(|g| at_gate(&site, g, &whom, &at, &wanted, lang)).collect()
    })
    .await?;
    let machines = machines.shown(&app, &to, lang).await;
    let addresses = addresses.iter().map(ToString::to_string).collect();
    let to = Wanted { addresses: if to.name.is_some() { vec![] } else { to.addresses }, ..to };
    Ok(Json(ReachAnswer { source: doc, to: to.to_string(), addresses, gates, machines }))
}

fn at_gate(site: &Site, gate: &Gate, whom: &Whom, at: &Circumstances<'_>, to: &Wanted, lang: Lang) -> ReachAtGate {
    let (fared, answer) = match whom {
        Whom::Listed(machine) => (None, opening(site, gate, Goer::Listed(machine), None, to)),
        Whom::Nobody => (None, opening_for(site, gate, None, at, to)),
        Whom::Person(e) => {
            let tried = try_at(site, &gate.place(), e, at);
            (Some(fare(site, &gate.place(), e, at, &tried, lang)), opening_for(site, gate, Some(e), at, to))
        }
    };
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

/// What else is looked at.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ProposeQuery {
    /// Hosts that the machine at this address asked for of late, while nobody was signed in on it: an engineer goes through a sign-in there.
    seen_from: Option<String>,
}

/// Hosts that a machine asked for, as needs: port 443, which is what a browser goes to.
async fn asked_by(app: &App, machine: &str) -> Result<Vec<Need>, ApiError> {
    let address = machine.trim().parse().map_err(|_| bad("seen_from is an IP address of a machine in the zone."))?;
    let Some(names) = app.networks.get().and_then(|n| n.asked_by(address)) else {
        let words = "This node answers no questions about names: ask the node that guards the zone, which is started with --names-listen.";
        return Err(problem(StatusCode::CONFLICT, "names-unseen", "Names are not seen here", words));
    };
    let need = async |host: String| {
        let addresses = resolved(&host).await;
        Need { way: machine.trim().to_owned(), host, port: 443, why: Why::Asked, addresses }
    };
    Ok(futures_util::future::join_all(names.into_iter().take(100).map(need)).await)
}

/// What people in a zone of the live edition must reach before they have signed in, and what would open it.
#[utoipa::path(post, operation_id = "propose_zone", path = "/zones/{zone}/proposal", params(("zone" = String, Path), ProposeQuery),
    responses((status = 200, body = ZoneProposal), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn propose(
    State(app): State<App>,
    who: Engineer,
    Path(name): Path<String>,
    Query(q): Query<ProposeQuery>,
) -> Result<Json<ZoneProposal>, ApiError> {
    who.may(Role::Operate)?;
    let none = || {
        problem(
            StatusCode::NOT_FOUND,
            "no-zone",
            "No such zone",
            "No zone of the live edition has that name, or no gate guards it.",
        )
    };
    let edition = app.live.get().ok_or_else(none)?;
    let site = &edition.site;
    let guarded = site.gates.iter().flat_map(|g| site.zones_of(g).map(move |z| (g, z)));
    let (gate, zone) = guarded.into_iter().find(|(_, z)| z.name == name).ok_or_else(none)?;
    let (mut needs, unknown) = needs_of(&app, ways_of(gate, zone)).await;
    if let Some(machine) = &q.seen_from {
        let asked = asked_by(&app, machine).await?;
        let known: Vec<String> = needs.iter().map(|n| n.host.clone()).collect();
        needs.extend(asked.into_iter().filter(|n| !known.contains(&n.host)));
    }
    let judged: Vec<(&Need, Passage)> = needs.iter().map(|n| (n, passage(site, gate, zone, n))).collect();
    let shut: Vec<&Need> = judged.iter().filter(|(_, p)| matches!(p, Passage::Shut { .. })).map(|(n, _)| *n).collect();
    let document = proposal(zone, &shut);
    let one = |(need, passage): &(&Need, Passage)| {
        let (open, reach, given) = match passage {
            Passage::Open(reach) => (true, Some(reach.clone()), vec![]),
            Passage::Inside => (true, None, vec![]),
            Passage::Shut { by_rules } => (false, None, by_rules.clone()),
        };
        ZoneNeed {
            way: need.way.clone(),
            host: need.host.clone(),
            port: need.port,
            code: need.why.code().to_owned(),
            why: need.why.words(&need.way, who.lang),
            addresses: need.addresses.iter().map(ToString::to_string).collect(),
            open,
            reach,
            given,
        }
    };
    let needs = judged.iter().map(one).collect();
    let unknown = unknown.into_iter().map(|(provider, why)| format!("{provider}: {why}")).collect();
    Ok(Json(ZoneProposal { zone: zone.name.clone(), gate: gate.name.clone(), needs, unknown, document }))
}
