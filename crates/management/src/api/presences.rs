//! Machines that network gates let through.

use std::collections::BTreeMap;

use axum::extract::State;
use chrono::{DateTime, Duration, Utc};
use http::StatusCode;
use passeur_api::{Accepted, AtGateway, EndAnswer, EndPresences, HadAddress, Opens, Presence, Presences, Problem, Quarter};
use passeur_core::role::Role;
use passeur_core::step::{Lang, reason_text};
use passeur_engine::ending;
use passeur_engine::tunnel::TunnelOf;
use passeur_store::{PresenceFilter, PresenceRow, QuarterRow, RadiusRow};
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;

use super::auth::Engineer;
use super::errors::{ApiError, bad, problem};
use super::extract::{Json, Query};
use crate::app::App;

/// Which machines.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct PresenceQuery {
    /// Part of a name, subject, way in, zone, hardware address or address.
    text: Option<String>,
    /// At this gate.
    gate: Option<String>,
    /// Those that are over as well.
    #[serde(default)]
    all: bool,
    /// From the page before.
    before: Option<DateTime<Utc>>,
    /// At most so many, 1 to 1000; 200 unless said.
    limit: Option<i64>,
}

/// Machines that are on, the latest first; with `all` those that were.
#[utoipa::path(get, path = "/presences", params(PresenceQuery), responses((status = 200, body = Presences)))]
pub async fn presences(
    State(app): State<App>,
    who: Engineer,
    Query(q): Query<PresenceQuery>,
) -> Result<Json<Presences>, ApiError> {
    who.may(Role::View)?;
    let limit = q.limit.unwrap_or(200).clamp(1, 1_000);
    let filter = PresenceFilter { text: q.text, gate: q.gate, now: !q.all, before: q.before, limit };
    let rows = app.store.presences(&filter).await?;
    let before = (rows.len() as i64 == limit).then(|| rows.last().map(|r| r.began)).flatten();
    Ok(Json(Presences { presences: shown(&app, rows, who.lang).await?, before }))
}

/// Of which gate.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct DayQuery {
    /// At this gate; at all of them otherwise.
    gate: Option<String>,
}

/// The last day in quarters of an hour: machines and people that were on, and what passed.
#[utoipa::path(get, path = "/presences/day", params(DayQuery), responses((status = 200, body = Vec<Quarter>)))]
pub async fn day(State(app): State<App>, who: Engineer, Query(q): Query<DayQuery>) -> Result<Json<Vec<Quarter>>, ApiError> {
    who.may(Role::View)?;
    let rows = app.store.day_of_networks(app.now(), q.gate.as_deref()).await?;
    let one = |r: QuarterRow| Quarter { at: r.at, machines: r.machines, people: r.people, up: r.up, down: r.down };
    Ok(Json(rows.into_iter().map(one).collect()))
}

/// Rows as they are shown, with what the kernel of this node holds.
async fn shown(app: &App, rows: Vec<PresenceRow>, lang: Lang) -> Result<Vec<Presence>, ApiError> {
    let ids: Vec<Uuid> = rows.iter().map(|r| r.id).collect();
    let mut addresses: BTreeMap<Uuid, Vec<String>> = BTreeMap::new();
    for a in app.store.addresses_of(&ids).await? {
        let held = addresses.entry(a.presence).or_default();
        if !held.contains(&a.address) {
            held.push(a.address);
        }
    }
    let places = app.store.at_clients(&ids).await?;
    let mut places: BTreeMap<Uuid, RadiusRow> = places.into_iter().map(|(row, at)| (row.id, at)).collect();
    let kernel = match app.networks.get() {
        Some(networks) => networks.marks_held().await.ok().flatten(),
        None => None,
    };
    let mut one = |r: PresenceRow| {
        let gateway = places.remove(&r.id).map(|at| at_gateway(at, lang));
        let here = r.node == app.node && r.ended_at.is_none() && gateway.is_none();
        let in_kernel = kernel.as_ref().filter(|_| here).map(|marks| marks.contains(&(r.mark as u32)));
        let tunnel = TunnelOf::kept(r.tunnel.as_ref());
        let said = tunnel.as_ref().map(|t| t.facts.words()).filter(|w| !w.is_empty());
        let calls_itself = said.or_else(|| r.hardware.as_deref().and_then(|h| app.networks.get()?.name_of(h)));
        let opens = r
            .reach
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(|o| Some(Opens { reach: o["reach"].as_str()?.to_owned(), rule: o["rule"].as_str()?.to_owned() }));
        Presence {
            opens: opens.collect(),
            addresses: addresses.remove(&r.id).unwrap_or_default().into_iter().filter(|a| !a.is_empty()).collect(),
            id: r.id,
            gate: r.gate,
            zone: r.zone,
            node: r.node,
            interface: r.interface,
            name: r.name,
            provider: r.provider,
            subject: r.subject,
            session: r.session_id,
            hardware: r.hardware,
            calls_itself,
            tried: tunnel.as_ref().is_some_and(|t| !t.trials.is_empty()),
            outside: tunnel.map(|t| t.outside.to_string()),
            address: r.address,
            groups: r.groups,
            crossing: Some(r.crossing).filter(|c| !c.is_empty()),
            began: r.began,
            until: r.until,
            quota: r.quota,
            rate: r.rate,
            up: r.up,
            down: r.down,
            counted_at: r.counted_at,
            ended_at: r.ended_at,
            ended_by: r.ended_by.map(|code| reason_text(&code, lang).map_or(code.clone(), str::to_owned)),
            gateway,
            in_kernel,
        }
    };
    Ok(rows.into_iter().map(&mut one).collect())
}

/// What a gateway tells of a machine there, and what it was ordered.
fn at_gateway(at: RadiusRow, lang: Lang) -> AtGateway {
    let account = at.account();
    let ordered = at.ordered.unwrap_or_default();
    let words = |key: &str| reason_text(ordered[key].as_str()?, lang);
    let state = ordered["state"].as_str().unwrap_or_default();
    let came = reason_text(&format!("order-{state}"), lang);
    AtGateway {
        nas: at.nas,
        number: at.acct,
        heard_at: account.heard,
        began_there: account.began,
        ahead: account.ahead,
        order: words("what").map(|what| came.map_or_else(|| what.to_owned(), |came| format!("{what}: {came}"))),
        ordered_at: ordered["at"].as_str().and_then(|at| at.parse().ok()),
        disobeyed: matches!(state, "silent" | "refused" | "none"),
    }
}

/// Ends machines, with the sessions that they are of. Running flows are cut when this returns, or the answer names the nodes where they are
/// not yet.
#[utoipa::path(post, operation_id = "end_presences", path = "/presences/end", request_body = EndPresences,
    responses((status = 200, body = EndAnswer), (status = 403, body = Problem), (status = 409, body = Problem)))]
pub async fn end(State(app): State<App>, who: Engineer, Json(ask): Json<EndPresences>) -> Result<Json<EndAnswer>, ApiError> {
    who.may(Role::Operate)?;
    if ask.presences.len() > 1_000 {
        return Err(bad("At most 1000 machines at once."));
    }
    let rows = app.store.presences_by_id(&ask.presences).await?;
    if let Some(machine) = rows.iter().find(|r| r.session_id.is_none() && r.ended_at.is_none()) {
        let (name, gate, client) = (&machine.name, &machine.gate, &machine.zone);
        let words = match machine.interface.as_str() {
            "" => format!("{name} was let in by {client} itself, and not here: end the session there."),
            _ => format!(
                "{name} has no person whose session could be ended: take its [[gate.machine]] out of gate {gate}, and publish."
            ),
        };
        return Err(problem(StatusCode::CONFLICT, "no-person", "A machine without a person", &words));
    }
    let sessions: Vec<Uuid> = rows.iter().filter(|r| r.ended_at.is_none()).filter_map(|r| r.session_id).collect();
    let about = serde_json::json!({ "machines": rows.len() });
    let act = who.act(&app, "end sessions", about);
    let ended = ending::end(&app, &sessions, &who.name, Some(act)).await?;
    Ok(Json(EndAnswer { ended: ended.sessions, behind: ended.behind }))
}

/// Which address, and when.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct AddressQuery {
    address: String,
    /// From this moment; a day before `until` unless said.
    from: Option<DateTime<Utc>>,
    /// Until this moment; now unless said.
    until: Option<DateTime<Utc>>,
}

/// Who had an address in a span of time, the latest first.
#[utoipa::path(get, operation_id = "who_had", path = "/presences/addresses", params(AddressQuery),
    responses((status = 200, body = Vec<HadAddress>), (status = 400, body = Problem)))]
pub async fn who_had(
    State(app): State<App>,
    who: Engineer,
    Query(q): Query<AddressQuery>,
) -> Result<Json<Vec<HadAddress>>, ApiError> {
    who.may(Role::Operate)?;
    let address = q.address.parse::<std::net::IpAddr>().map_err(|_| bad("address is an IP address."))?.to_canonical().to_string();
    let until = q.until.unwrap_or_else(|| app.now());
    let from = q.from.unwrap_or(until - Duration::days(1));
    if from > until {
        return Err(bad("from is not after until."));
    }
    let one = |h: passeur_store::HadAddress| HadAddress {
        address: h.address.address,
        from: h.address.began,
        until: h.address.ended_at,
        name: h.presence.name,
        provider: h.presence.provider,
        subject: h.presence.subject,
        hardware: h.presence.hardware,
        gate: h.presence.gate,
        zone: h.presence.zone,
        crossing: Some(h.presence.crossing).filter(|c| !c.is_empty()),
        presence: h.presence.id,
    };
    Ok(Json(app.store.who_had(&address, from, until, 1_000).await?.into_iter().map(one).collect()))
}

/// At which gate.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct AcceptedQuery {
    gate: Option<String>,
}

/// Who accepted terms of use, the latest first.
#[utoipa::path(get, operation_id = "terms_accepted", path = "/presences/terms", params(AcceptedQuery),
    responses((status = 200, body = Vec<Accepted>)))]
pub async fn accepted(
    State(app): State<App>,
    who: Engineer,
    Query(q): Query<AcceptedQuery>,
) -> Result<Json<Vec<Accepted>>, ApiError> {
    who.may(Role::View)?;
    let one = |r: passeur_store::AcceptedRow| Accepted {
        gate: r.gate,
        version: r.version,
        name: r.name,
        provider: r.provider,
        subject: r.subject,
        address: r.address,
        at: r.at,
    };
    Ok(Json(app.store.accepted(q.gate.as_deref(), 1_000).await?.into_iter().map(one).collect()))
}
