//! The session at the sign-in host.

use std::sync::Arc;

use http::HeaderMap;
use passeur_core::evidence::Evidence;
use passeur_core::id::Token;
use passeur_core::session::{Life, Lifetimes, State};
use passeur_core::site::{Gate, Site};
use passeur_gateway::admission::SessionLive;
use passeur_gateway::cookies::{Found, find};
use passeur_gateway::shared::Edition;
use passeur_store::{SessionRow, StoreError};
use uuid::Uuid;

use crate::app::App;

/// A live session with its evidence.
pub struct Session {
    pub row: SessionRow,
    pub evidence: Evidence,
}

/// The session a browser presents at the sign-in host; none unless it is live.
pub async fn of_browser(app: &App, edition: &Edition, headers: &HeaderMap) -> Result<Option<Session>, StoreError> {
    let (name, _) = edition.site.address.cookie("session");
    let Found::One(text) = find(headers, &name) else {
        return Ok(None);
    };
    let Some(token) = Token::parse(&text) else {
        return Ok(None);
    };
    let Some(row) = app.store.session_by_token(&token.digest()).await? else {
        return Ok(None);
    };
    if state(app, edition, &row) != State::Live {
        return Ok(None);
    }
    let Some(evidence) = read_evidence(&row) else {
        return Ok(None);
    };
    live(app, &row).touch(app.now());
    Ok(Some(Session { row, evidence }))
}

/// What this node's memory knows of a stored session.
pub fn live(app: &App, row: &SessionRow) -> Arc<SessionLive> {
    app.table.session(row.id, row.began, row.last_seen, row.until)
}

/// The state of a stored session now.
pub fn state(app: &App, edition: &Edition, row: &SessionRow) -> State {
    let life = Life { began: row.began, last_seen: row.last_seen, ended: row.ended_at, until: row.until };
    let limits = lifetimes(&edition.site, row, None);
    match limits.state(&life, app.now()) {
        // Last-seen is written in batches: memory may know of later use.
        State::IdleTooLong => live(app, row).state(&limits, app.now()),
        other => other,
    }
}

/// How long a stored session lasts; at a gate, where one is named.
pub fn lifetimes(site: &Site, row: &SessionRow, gate: Option<&Gate>) -> Lifetimes {
    site.lifetimes_at(row.address.parse().ok(), gate)
}

/// Evidence as stored; none when it is of a format this binary does not know.
pub fn read_evidence(row: &SessionRow) -> Option<Evidence> {
    Evidence::from_stored(row.evidence.clone())
}

/// Stores evidence that grew, or was read again.
pub async fn keep_evidence(app: &App, id: Uuid, evidence: &Evidence) -> Result<(), StoreError> {
    app.store.set_evidence(id, serde_json::to_value(evidence).unwrap_or_default()).await
}
