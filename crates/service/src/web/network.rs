//! Gates of kind `network`, wired: a machine is let through by its person's page, and its system is told how it stands.

use std::net::IpAddr;

use axum::response::IntoResponse;
use http::request::Parts;
use http::{HeaderValue, Method, Response, StatusCode, header};
use passeur_core::circumstances::RequestFacts;
use passeur_core::id::{CrossingId, Token};
use passeur_core::site::Gate;
use passeur_engine::attempt::Attempt;
use passeur_engine::tunnel;
use passeur_gate_network::captive::MEDIA_TYPE;
use passeur_gate_network::entering::{Arrival, NotOn, Shown, accept_terms, wanted_terms};
use passeur_gateway::body::Body;
use passeur_live::edition::Edition;
use passeur_signin::journey::{Ask, Destination};
use passeur_signin::network::page_of;
use passeur_signin::pages::{self, Machine, On};
use passeur_signin::problem::problem;
use passeur_signin::{Visit, browser_binding};
use passeur_store::{PresenceRow, StoreError};
use uuid::Uuid;

use super::{WebGate, ask_of, plain, session_of};
use crate::guard::from_own_page;

/// The most tunnels that a page lists.
const TUNNELS_MAX: i64 = 50;

/// The page of a gate for somebody whom it let in. Who opens it on a machine in one of its zones lets that machine through.
pub(super) async fn page(web: &WebGate, edition: &Edition, gate: &Gate, session: Uuid, facts: &RequestFacts) -> Response<Body> {
    let (machine, told) = match web.networks.as_ref() {
        _ if gate.is_vpn() => match tunnels_of(web, gate, session).await {
            Ok(stands) => (stands, None),
            Err(e) => return plain(pages::store_failed(&edition.site, facts.lang, &e).into_response()),
        },
        None => (Machine::Unguarded, None),
        Some(networks) if networks.interfaces().is_empty() => (Machine::Unguarded, None),
        // What a page loads by itself opens nothing.
        Some(_) if !facts.navigates => (Machine::Elsewhere, None),
        Some(networks) => match networks.arrive(edition, gate, session, facts.address).await {
            Ok(arrival) => shown(arrival),
            Err(e) => return plain(pages::store_failed(&edition.site, facts.lang, &e).into_response()),
        },
    };
    plain(page_of(&web.engine, edition, gate, session, facts, (machine, told)).await)
}

/// Somebody whom nobody knows yet opens a gate's page: in a zone that has a first reach, their machine has it for a few minutes.
pub(super) async fn before_sign_in(web: &WebGate, edition: &Edition, gate: &Gate, facts: &RequestFacts) {
    let Some(networks) = web.networks.as_ref().filter(|_| gate.network().is_some()) else { return };
    if let Err(e) = networks.open_first(edition, gate, facts.address).await {
        tracing::warn!(error = %e, "a first reach could not be opened");
    }
}

/// The tunnels that the person of a session has on at a gate, each in a few words; or that they accept its terms first.
async fn tunnels_of(web: &WebGate, gate: &Gate, session: Uuid) -> Result<Machine, StoreError> {
    let Some(row) = web.engine.store.session(session).await? else { return Ok(Machine::Tunnels(vec![])) };
    if wanted_terms(&web.engine, gate, &row.person()).await?.is_some() {
        return Ok(Machine::Terms);
    }
    let on = web.engine.store.presences_of_person(&row.person(), &gate.name, TUNNELS_MAX).await?;
    Ok(Machine::Tunnels(on.iter().map(PresenceRow::known_since).collect()))
}

fn shown(arrival: Arrival) -> (Machine, Option<CrossingId>) {
    match arrival {
        Arrival::Elsewhere => (Machine::Elsewhere, None),
        Arrival::Terms => (Machine::Terms, None),
        Arrival::On(shown) => (Machine::On(on(*shown)), None),
        Arrival::Over => (Machine::Shut, None),
        Arrival::Not(why, told) => {
            let machine = match why {
                NotOn::Unseen => Machine::Unseen,
                NotOn::Full { machines, .. } => Machine::Full(machines.iter().map(PresenceRow::known_since).collect()),
                NotOn::QuotaUsed { .. } => Machine::QuotaUsed,
                NotOn::Sluice | NotOn::Refused | NotOn::AddressTaken => Machine::Shut,
            };
            (machine, Some(told))
        }
    }
}

fn on(shown: Shown) -> On {
    let passed = u64::try_from(shown.row.up.saturating_add(shown.row.down)).unwrap_or(0);
    On { named: shown.row.known_by().to_owned(), passed, left: shown.left, wanted: shown.wanted }
}

/// Answers under `/.passeur/` of a network gate's host; none where the address is that of another page.
pub(super) async fn own_page(
    web: &WebGate,
    edition: &Edition,
    gate: &Gate,
    parts: &Parts,
    address: IpAddr,
) -> Option<Response<Body>> {
    gate.network()?;
    match (&parts.method, parts.uri.path()) {
        (&Method::GET | &Method::HEAD, "/.passeur/captive") => Some(captive(web, edition, gate, address)),
        (&Method::GET, "/.passeur/extend") => Some(extend(web, edition, gate, parts)),
        (&Method::POST, "/.passeur/accept") => Some(accept(web, edition, gate, parts).await),
        _ => None,
    }
}

/// What the system of a machine asks (RFC 8908 section 4): by its address alone, so that it may hold for nobody else and is not kept.
fn captive(web: &WebGate, edition: &Edition, gate: &Gate, address: IpAddr) -> Response<Body> {
    let Some(networks) = web.networks.as_ref() else {
        let words = "No node guards a zone of this gate.";
        return plain(problem(StatusCode::NOT_FOUND, "unguarded", "Nothing is guarded", words).into_response());
    };
    let document = networks.captive(edition, gate, address);
    let mut answer = axum::Json(&document).into_response();
    answer.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static(MEDIA_TYPE));
    answer.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("private, no-store"));
    plain(answer)
}

/// Somebody wants to stay longer: they prove anew who they are, and their time begins again. Whoever is not signed in signs in.
fn extend(web: &WebGate, edition: &Edition, gate: &Gate, parts: &Parts) -> Response<Body> {
    let Some(visit) = Visit::of(parts) else { return plain(pages::redirect(&gate.address.at("/"), None)) };
    let attempt = Attempt::begin(&web.engine, gate.place(), &visit.facts);
    let (binding, set) = browser_binding(&web.engine, &visit.headers, &gate.address, "binding");
    let ask = Ask { anew: true, ..ask_of(gate, &binding, &attempt, "extend") };
    let to = edition.site.address.at(&Destination::Gate(ask).onward(&web.engine));
    plain(pages::redirect(&to, set.as_deref()))
}

/// Somebody accepts the terms that they were shown.
async fn accept(web: &WebGate, edition: &Edition, gate: &Gate, parts: &Parts) -> Response<Body> {
    if !from_own_page(&parts.headers, &gate.address.origin()) {
        let words = "Terms are accepted on the gate's own page.";
        return plain(problem(StatusCode::FORBIDDEN, "cross-site", "Not from our own page", words).into_response());
    }
    let visit = Visit::of(parts);
    // To the tunnel that waits, where one does.
    let ask = visit.as_ref().and_then(|v| Token::parse(&v.parameter("ask")?)).filter(|_| gate.is_vpn());
    let target = ask.map_or_else(|| "/".to_owned(), |token| tunnel::target(&token));
    let back = || plain(pages::redirect(&gate.address.at(&target), None));
    let (Some(visit), Some(terms)) = (visit, gate.network().and_then(|n| n.terms.as_ref())) else { return back() };
    // Who read another version reads this one first.
    if visit.parameter("version").as_deref() != Some(terms.version.as_str()) {
        return back();
    }
    let accepted = async {
        let address = visit.facts.address;
        match (session_of(web, edition, gate, &visit).await?, web.networks.as_ref()) {
            // What opens is decided when the tunnel asks, from where it does.
            (Some(row), _) if gate.is_vpn() => {
                let token = web.engine.store.latest_gate_token(row.id, &gate.name).await?;
                if let Some(crossing) = token.and_then(|t| t.crossing.parse().ok()) {
                    accept_terms(&web.engine, gate, &row, (address, crossing)).await?;
                }
            }
            (Some(row), Some(networks)) => {
                networks.accept(edition, gate, row.id, address).await?;
            }
            _ => {}
        }
        Ok::<_, StoreError>(())
    };
    match accepted.await {
        Ok(()) => back(),
        Err(e) => plain(pages::store_failed(&edition.site, visit.facts.lang, &e).into_response()),
    }
}
