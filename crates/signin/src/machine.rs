//! Machines that somebody has on networks and tunnels: what the quay shows of them, and how their person ends one.

use axum::extract::{Form, State};
use axum::response::{IntoResponse, Response};
use passeur_core::crossing::Outcome;
use passeur_core::site::{Gate, Place};
use passeur_core::step;
use passeur_engine::attempt::Attempt;
use passeur_engine::sessions::Session;
use passeur_engine::tunnel::TunnelOf;
use passeur_engine::{Engine, ending};
use passeur_store::{PresenceRow, StoreError};
use serde::Deserialize;
use uuid::Uuid;

use crate::pages::{self, QuayMachine};
use crate::{LiveEdition, Visit, session};

/// The most machines of somebody that the quay lists for a gate.
const LISTED: i64 = 20;

/// What somebody has on at a gate.
///
/// # Errors
/// Those of the store.
pub async fn on_at(engine: &Engine, gate: &Gate, session: &Session) -> Result<Vec<QuayMachine>, StoreError> {
    if gate.network().is_none() {
        return Ok(vec![]);
    }
    let rows = engine.store.presences_of_person(&session.row.person(), &gate.name, LISTED).await?;
    Ok(rows.into_iter().map(|row| shown(row, session.row.id)).collect())
}

fn shown(row: PresenceRow, session: Uuid) -> QuayMachine {
    let second = TunnelOf::kept(row.tunnel.as_ref()).and_then(|t| t.second).map(|a| a.to_string());
    QuayMachine {
        id: row.id,
        named: row.known_by().to_owned(),
        began: row.began,
        until: row.until,
        addresses: Some(row.address).filter(|a| !a.is_empty()).into_iter().chain(second).collect(),
        is_of_this: row.session_id == Some(session),
    }
}

/// What the quay sends.
#[derive(Deserialize)]
pub struct Which {
    id: Uuid,
}

/// `POST /.passeur/machine-end`: ends a machine of the person, with the session by which it came. The guard has checked where it comes from.
/// Nobody else's is ended, and nobody learns whether there is such a one.
pub async fn end(
    State(engine): State<Engine>,
    LiveEdition(edition): LiveEdition,
    visit: Visit,
    Form(which): Form<Which>,
) -> Response {
    let done = async {
        let Some(own) = session::of_browser(&engine, &edition, &visit.headers).await? else { return Ok(()) };
        let row = engine.store.presences_by_id(&[which.id]).await?.pop();
        let is_theirs =
            |r: &PresenceRow| r.authority == own.row.authority && r.subject == own.row.subject && r.ended_at.is_none();
        let Some((row, ended)) = row.filter(is_theirs).and_then(|r| r.session_id.map(|s| (r, s))) else { return Ok(()) };
        let mut attempt = Attempt::begin(&engine, Place::Quay, &visit.facts);
        attempt.is_of(&own.row);
        attempt.step(|| step!(MachineEndedByPerson { machine: row.known_by(), gate: row.gate.as_str() }));
        // Ended first and recorded second: a store that fails in between leaves nothing open.
        ending::end(&engine, &[ended], "person", None).await?;
        attempt.record(Outcome::SignedOut).await
    };
    match done.await {
        Ok(()) => pages::redirect(&edition.site.address.at("/"), None),
        Err(e) => pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    }
}
