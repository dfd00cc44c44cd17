//! At the gate again: the one-time code is taken, the gate's own token set, and the address cleaned.

use std::net::IpAddr;

use axum::response::{IntoResponse, Response};
use http::StatusCode;
use passeur_core::crossing::Outcome;
use passeur_core::id::{CrossingId, Token};
use passeur_core::session::State;
use passeur_core::site::Gate;
use passeur_core::step;
use passeur_core::step::Param;
use passeur_engine::attempt::{self, Attempt};
use passeur_engine::grants::glance;
use passeur_engine::sessions;
use passeur_http::cookies;
use passeur_live::edition::Edition;
use passeur_store::{CodeRow, GateTokenRow, SessionRow, StoreError};

use super::Visit;
use crate::journey::hand_back::first_request;
use crate::pages::{self, redirect};
use passeur_engine::Engine;

enum Taken {
    Good(Box<(CodeRow, SessionRow)>),
    Refused(&'static str),
}

/// `GET /.passeur/arrive?code=…` on a gate's host.
pub async fn arrive(engine: &Engine, edition: &Edition, gate: &Gate, visit: &Visit) -> Response {
    let taken = match take(engine, edition, gate, visit).await {
        Ok(t) => t,
        Err(e) => return pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    };
    match taken {
        Taken::Good(rows) => match open(engine, edition, gate, &rows.0, &rows.1, visit.facts.address).await {
            Ok(Some(response)) => response,
            Ok(None) => refused(engine, edition, gate, visit, "ended"),
            Err(e) => pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
        },
        Taken::Refused(why) => refused(engine, edition, gate, visit, why),
    }
}

fn refused(engine: &Engine, edition: &Edition, gate: &Gate, visit: &Visit, why: &str) -> Response {
    let mut attempt = Attempt::begin(engine, gate.place(), &visit.facts);
    attempt.step(|| step!(CodeRefused { why: Param::reason(why) }));
    let id = attempt.record_anonymous(Outcome::CheckFailed);
    let mut refused = pages::Refused::of_step(&attempt, id, None);
    refused.again = Some(gate.address.at("/"));
    pages::refused(&edition.site, visit.facts.lang, StatusCode::FORBIDDEN, &refused).into_response()
}

/// The code is used up whatever else turns out to be wrong.
async fn take(engine: &Engine, edition: &Edition, gate: &Gate, visit: &Visit) -> Result<Taken, StoreError> {
    let Some(token) = visit.parameter("code").as_deref().and_then(Token::parse) else {
        return Ok(Taken::Refused("code-unknown"));
    };
    let Some(code) = engine.store.take_code(&token.digest()).await? else {
        return Ok(Taken::Refused("code-unknown"));
    };
    if code.expires_at <= engine.now() {
        return Ok(Taken::Refused("code-unknown"));
    }
    if code.gate != gate.name {
        return Ok(Taken::Refused("code-other-gate"));
    }
    if !visit.holds(&gate.address, "binding", &code.binding) {
        return Ok(Taken::Refused("code-other-browser"));
    }
    match sessions::by_id(engine, code.session_id).await? {
        Some((row, live)) if sessions::state(engine, edition, &row, &live) == State::Live => {
            Ok(Taken::Good(Box::new((code, row))))
        }
        _ => Ok(Taken::Refused("ended")),
    }
}

async fn open(
    engine: &Engine,
    edition: &Edition,
    gate: &Gate,
    code: &CodeRow,
    row: &SessionRow,
    address: IpAddr,
) -> Result<Option<Response>, StoreError> {
    let token = engine.new_token();
    // The decision is made anew here: the edition may have changed in the minute between.
    let digest = match sessions::read_evidence(row) {
        Some(e) => glance(&edition.site, gate, &e, &first_request(&code.target, address, engine.now())).digest,
        None => {
            return Err(StoreError::Query("the session's evidence cannot be read".into()));
        }
    };
    let kept = engine
        .store
        .add_gate_token(GateTokenRow {
            digest: token.digest().to_vec(),
            session_id: row.id,
            gate: gate.name.clone(),
            crossing: code.crossing.clone(),
            decision: digest.to_vec(),
            created_at: engine.now(),
            expires_at: None,
            paths: None,
            thing: None,
            remember_until: None,
        })
        .await?;
    if !kept {
        return Ok(None);
    }
    if let Ok(id) = code.crossing.parse::<CrossingId>() {
        let path = code.target.split('?').next().unwrap_or("/").to_owned();
        attempt::extend(engine, id, vec![step!(CameThrough { gate: gate.name.as_str(), target: path })]).await?;
    }
    let (name, secure) = gate.address.cookie("gate");
    let cookie = cookies::set(&name, token.reveal(), secure, None);
    Ok(Some(redirect(&gate.address.at(&code.target), Some(&cookie))))
}
