//! Trials of entrances: an engineer says for whom, somebody connects, and all of it is seen, with nothing opened. What is shown is read from
//! where it is kept anyway: clients that wait, crossings, and machines that are on.

use std::collections::HashSet;

use axum::extract::State;
use http::StatusCode;
use ipnet::IpNet;
use passeur_api::{
    Crossing, EntranceTrial, EntranceTrialRequest, EntranceTried, Outcome, Problem, Step, TriedStage, WaitingClient,
};
use passeur_core::Moment;
use passeur_core::id::CrossingId;
use passeur_core::role::Role;
use passeur_core::step::{Lang, StepCode};
use passeur_engine::entrance_trials::{OPEN_FOR, is_about};
use passeur_engine::random::new_uuid;
use passeur_engine::rights;
use passeur_engine::tunnel::TunnelOf;
use passeur_live::edition::Edition;
use passeur_store::{EntranceTrialRow, PresenceRow, WaitingTunnel};
use uuid::Uuid;

use super::auth::Engineer;
use super::crossings::whole;
use super::errors::{ApiError, bad, problem};
use super::extract::{Json, Path};
use crate::app::App;
use crate::survey::{self, done};

/// The longest name of a person, in characters.
const PERSON_MAX: usize = 200;
/// The most connections that are told in full, the latest first.
const TOLD_MAX: usize = 20;
/// A trial that is about a network alone shuts out whoever is there: the widest that it may be, of each family.
const WIDEST: (u8, u8) = (24, 48);

fn none() -> ApiError {
    let words = "There is no such trial, or it was over for more than a day.";
    problem(StatusCode::NOT_FOUND, "no-trial", "No such trial", words)
}

/// Trials of entrances that go on, the latest first.
#[utoipa::path(get, operation_id = "entrance_trials", path = "/trials/entrance",
    responses((status = 200, body = Vec<EntranceTrial>), (status = 403, body = Problem)))]
pub async fn list(State(app): State<App>, who: Engineer) -> Result<Json<Vec<EntranceTrial>>, ApiError> {
    who.may(Role::View)?;
    let edition = app.live.get();
    let now = app.now();
    let open = app.store.open_entrance_trials(None, now).await?;
    Ok(Json(open.into_iter().map(|row| head(row, edition.as_deref(), now)).collect()))
}

/// Begins a trial of an entrance: whoever it is about and connects within half an hour is decided on and told everything, and nothing is opened
/// to them. Tunnels that are on go on as they are.
#[utoipa::path(post, operation_id = "begin_entrance_trial", path = "/trials/entrance", request_body = EntranceTrialRequest,
    responses((status = 200, body = EntranceTrial), (status = 400, body = Problem), (status = 403, body = Problem),
        (status = 404, body = Problem), (status = 429, body = Problem)))]
pub async fn begin(
    State(app): State<App>,
    who: Engineer,
    Json(ask): Json<EntranceTrialRequest>,
) -> Result<Json<EntranceTrial>, ApiError> {
    who.may(Role::Operate)?;
    let text = |t: Option<String>| t.map(|t| t.trim().to_owned()).filter(|t| !t.is_empty());
    let (from, person) = (text(ask.from), text(ask.person));
    let edition = app.live.get();
    let site = edition.as_ref().map(|e| &e.site);
    let gate = site.and_then(|s| s.gate_of_entrance(&ask.entrance));
    let tunnel = site.and_then(|s| s.zone(&ask.entrance)?.tunnel());
    let (Some(gate), Some(tunnel)) = (gate, tunnel) else {
        let words =
            format!("No gate of the live edition has an entrance \"{}\".", passeur_core::text::shorten(&ask.entrance, 100));
        return Err(problem(StatusCode::NOT_FOUND, "no-entrance", "No such entrance", &words));
    };
    let network = from.map(|f| network_in(&f, person.is_some() || tunnel.trial)).transpose()?;
    if person.as_ref().is_some_and(|p| p.chars().count() > PERSON_MAX || p.chars().any(char::is_control)) {
        return Err(bad(&format!("person is a subject or a name, of at most {PERSON_MAX} characters.")));
    }
    if network.is_none() && person.is_none() && !tunnel.trial {
        return Err(bad(
            "Say for whom: from, the address that the client connects from, or person. Nothing is opened to anybody it is about.",
        ));
    }
    let now = app.now();
    let row = EntranceTrialRow {
        id: new_uuid(),
        gate: gate.name.clone(),
        entrance: ask.entrance,
        network: network.map(|n| n.to_string()),
        person,
        begun_by: who.name.clone(),
        begun: now,
        expires_at: now + OPEN_FOR,
        ended_at: None,
        ended_by: None,
        crossings: vec![],
    };
    let about = serde_json::json!({"entrance": row.entrance, "from": row.network, "person": row.person});
    let act = who.act(&app, "trial of an entrance", about);
    if !app.store.begin_entrance_trial(row.clone(), act).await? {
        let words = "Too many trials of entrances are open; end one first.";
        return Err(problem(StatusCode::TOO_MANY_REQUESTS, "trials", "Not now", words));
    }
    Ok(Json(shown(&app, row, who.lang).await?))
}

/// The network of an address or a network in CIDR notation, which is one place where it alone says for whom.
fn network_in(text: &str, is_other: bool) -> Result<IpNet, ApiError> {
    let of_address = text.parse::<std::net::IpAddr>().ok().map(|a| IpNet::from(a.to_canonical()));
    let network = of_address.or_else(|| text.parse::<IpNet>().ok().map(|n| n.trunc()));
    let Some(network) = network else {
        return Err(bad("from is the IP address that the client connects from, or a network such as 198.51.100.0/28."));
    };
    let widest = if network.addr().is_ipv4() { WIDEST.0 } else { WIDEST.1 };
    if network.prefix_len() < widest && !is_other {
        let words = format!("{network} is many people's: say person as well, or a network no wider than /{widest}.");
        return Err(bad(&words));
    }
    Ok(network)
}

/// A trial of an entrance, with all that came of it.
#[utoipa::path(get, operation_id = "entrance_trial", path = "/trials/entrance/{id}", params(("id" = Uuid, Path)),
    responses((status = 200, body = EntranceTrial), (status = 403, body = Problem), (status = 404, body = Problem)))]
pub async fn read(State(app): State<App>, who: Engineer, Path(id): Path<Uuid>) -> Result<Json<EntranceTrial>, ApiError> {
    who.may(Role::View)?;
    let row = app.store.entrance_trial(id).await?.ok_or_else(none)?;
    Ok(Json(shown(&app, row, who.lang).await?))
}

/// Ends a trial of an entrance. Tunnels that came by it are ended as well: whoever connects again is let in for real.
#[utoipa::path(delete, operation_id = "end_entrance_trial", path = "/trials/entrance/{id}", params(("id" = Uuid, Path)),
    responses((status = 200, body = EntranceTrial), (status = 403, body = Problem), (status = 404, body = Problem)))]
pub async fn end(State(app): State<App>, who: Engineer, Path(id): Path<Uuid>) -> Result<Json<EntranceTrial>, ApiError> {
    who.may(Role::Operate)?;
    let row = app.store.entrance_trial(id).await?.ok_or_else(none)?;
    let act = who.act(&app, "end trial of an entrance", serde_json::json!({"entrance": row.entrance}));
    if app.store.end_entrance_trial(id, app.now(), &who.name, act).await? {
        // Whoever is on by it is decided anew on their node, and is off.
        for session in app.store.on_by_entrance_trial(id).await?.into_iter().filter_map(|r| r.session_id) {
            rights::changed(&app, session).await?;
        }
    }
    let row = app.store.entrance_trial(id).await?.ok_or_else(none)?;
    Ok(Json(shown(&app, row, who.lang).await?))
}

async fn shown(app: &App, row: EntranceTrialRow, lang: Lang) -> Result<EntranceTrial, ApiError> {
    let (edition, now) = (app.live.get(), app.now());
    let findings = match &edition {
        Some(edition) => survey::of_entrance(app, edition, &row.entrance).await?,
        None => vec![],
    };
    let on = app.store.on_by_entrance_trial(row.id).await?;
    Ok(EntranceTrial {
        findings: done::shown(&findings, lang),
        waiting: app.store.waiting_by_entrance_trial(row.id, now).await?.into_iter().filter_map(waiting).collect(),
        tried: tried(app, &row, &on, lang).await?,
        ..head(row, edition.as_deref(), now)
    })
}

/// A trial without what came of it.
fn head(row: EntranceTrialRow, edition: Option<&Edition>, now: Moment) -> EntranceTrial {
    let tunnel = edition.and_then(|e| e.site.zone(&row.entrance)?.tunnel());
    // A network of one address is that address.
    let one =
        |n: String| n.parse::<IpNet>().ok().filter(|n| n.prefix_len() == n.max_prefix_len()).map_or(n, |n| n.addr().to_string());
    EntranceTrial {
        id: row.id,
        open: row.is_open(now),
        came: row.crossings.len(),
        servers: tunnel.map(|t| t.servers.iter().map(ToString::to_string).collect()).unwrap_or_default(),
        findings: vec![],
        waiting: vec![],
        tried: vec![],
        gate: row.gate,
        entrance: row.entrance,
        from: row.network.map(one),
        person: row.person,
        begun_by: row.begun_by,
        begun: row.begun,
        until: row.expires_at,
        ended: row.ended_at,
        ended_by: row.ended_by,
    }
}

fn waiting(of: WaitingTunnel) -> Option<WaitingClient> {
    let tunnel = TunnelOf::kept(Some(&of.tunnel))?;
    let (outside, says) = (tunnel.outside.to_string(), tunnel.facts.words());
    Some(WaitingClient { outside, says, since: of.since, answered: of.answered })
}

/// Crossings of a trial, the latest first: those of whoever it is about, once that is known.
async fn tried(app: &App, row: &EntranceTrialRow, on: &[PresenceRow], lang: Lang) -> Result<Vec<EntranceTried>, ApiError> {
    let on: HashSet<&str> = on.iter().map(|p| p.crossing.as_str()).collect();
    let mut out = vec![];
    for id in row.crossings.iter().rev().filter_map(|id| id.parse::<CrossingId>().ok()) {
        // One that is not written yet comes when it is.
        let Some(crossing) = whole(app, id, lang).await? else { continue };
        let (subject, name) = (crossing.line.subject.as_deref(), crossing.line.person.as_deref());
        if subject.is_some_and(|s| !is_about(row, s, name.unwrap_or_default())) {
            continue;
        }
        let is_on = on.contains(crossing.line.id.as_str());
        out.push(one(crossing, is_on, lang));
        if out.len() == TOLD_MAX {
            break;
        }
    }
    Ok(out)
}

fn one(crossing: Crossing, is_on: bool, lang: Lang) -> EntranceTried {
    let stage = stage(&crossing, is_on);
    let list = |codes: &[StepCode], name: &str| {
        let step = crossing.steps.iter().rfind(|s| codes.iter().any(|c| c.spec().code == s.code));
        let of = step.and_then(|s| s.params.get(name)?.as_array().cloned()).unwrap_or_default();
        of.iter().filter_map(|v| v.as_str().map(str::to_owned)).collect::<Vec<_>>()
    };
    EntranceTried {
        stage,
        stage_words: words(stage, lang).to_owned(),
        would_open: list(&[StepCode::TunnelTried, StepCode::TunnelTrial], "opens"),
        lines: list(&[StepCode::TunnelPushed], "lines"),
        addresses: list(&[StepCode::TunnelPushed], "addresses"),
        crossing,
    }
}

fn stage(crossing: &Crossing, is_on: bool) -> TriedStage {
    let has = |code: StepCode| crossing.steps.iter().any(|s: &Step| s.code == code.spec().code);
    let was_in = has(StepCode::TunnelTried) || has(StepCode::TunnelTrial);
    match crossing.line.outcome {
        _ if is_on && has(StepCode::TunnelUp) => TriedStage::Stands,
        _ if is_on => TriedStage::LetIn,
        Outcome::Waiting => TriedStage::SigningIn,
        Outcome::Admitted if was_in => TriedStage::Over,
        Outcome::Admitted => TriedStage::SignedIn,
        _ => TriedStage::Refused,
    }
}

fn words(stage: TriedStage, lang: Lang) -> &'static str {
    let (en, fr) = match stage {
        TriedStage::SigningIn => ("is signing in", "en cours de connexion"),
        TriedStage::SignedIn => (
            "signed in; it is not said yet that the tunnel is theirs",
            "connecté ; le tunnel n'est pas encore reconnu comme sien",
        ),
        TriedStage::Refused => ("not let in", "non admis"),
        TriedStage::LetIn => (
            "let in, with nothing opened; its tunnel does not stand yet",
            "admis, sans rien ouvrir ; son tunnel ne tient pas encore",
        ),
        TriedStage::Stands => ("the tunnel stands, with nothing opened", "le tunnel tient, sans rien ouvrir"),
        TriedStage::Over => ("was let in, and is over", "a été admis, et c'est fini"),
    };
    match lang {
        Lang::En => en,
        Lang::Fr => fr,
    }
}
