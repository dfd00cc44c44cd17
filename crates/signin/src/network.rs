//! What a network gate says to somebody who is signed in there: what is open to them, and what is not.

use axum::response::{IntoResponse, Response};
use http::StatusCode;
use passeur_core::circumstances::RequestFacts;
use passeur_core::id::CrossingId;
use passeur_core::session::State;
use passeur_core::site::Gate;
use passeur_engine::Engine;
use passeur_engine::grants::glance;
use passeur_engine::sessions;
use passeur_live::edition::Edition;
use uuid::Uuid;

use crate::pages::{self, Machine, Opened};

/// The page of a gate for the person of a session that the gate has let in; with the crossing that tells why their machine is not let through.
pub async fn page_of(
    engine: &Engine,
    edition: &Edition,
    gate: &Gate,
    session: Uuid,
    facts: &RequestFacts,
    (machine, told): (Machine, Option<CrossingId>),
) -> Response {
    let (site, lang) = (&edition.site, facts.lang);
    let row = match sessions::by_id(engine, session).await {
        Ok(Some((row, live))) if sessions::state(engine, edition, &row, &live) == State::Live => row,
        // It ended between the request's admission and here: the browser asks again, and signs in.
        Ok(_) => return pages::redirect(&gate.address.at("/"), None),
        Err(e) => return pages::store_failed(site, lang, &e).into_response(),
    };
    let Some(evidence) = sessions::read_evidence(&row) else {
        return StatusCode::INTERNAL_SERVER_ERROR.into_response();
    };
    let seen = glance(site, gate, &evidence, &facts.circumstances(engine.now()));
    let of_gate = site.lifetimes_at(row.address.parse().ok(), Some(gate));
    let absolute = seen.terms.absolute.map_or(of_gate.absolute, |d| d.min(of_gate.absolute));
    let longest = row.began + absolute;
    let until = row.until.map_or(longest, |u| u.min(longest));
    let left = until - engine.now();
    let opened = Opened { name: &row.name, terms: &seen.terms, until, left, machine, told };
    pages::network(site, gate, lang, &opened).into_response()
}
