//! Keys of the ring: what still needs each, and retiring one.

use axum::extract::State;
use http::StatusCode;
use passeur_api::{Problem, RetireKey, RingKey};
use passeur_core::role::Role;
use passeur_engine::editions::Load;
use passeur_engine::ring::reseal;
use passeur_store::NotRetired;
use serde_json::json;

use super::auth::Engineer;
use super::errors::{ApiError, problem};
use super::extract::{Json, Path};
use crate::app::App;

/// For how long a node counts as running that was heard of.
const RUNS: chrono::Duration = chrono::Duration::seconds(30);

async fn all(app: &App) -> Result<Vec<RingKey>, ApiError> {
    let mut out = vec![];
    for row in app.store.ring_keys().await? {
        let number = u16::try_from(row.number).unwrap_or_default();
        let under = app.store.sealed_under(number).await?;
        out.push(RingKey {
            number,
            since: row.seen_at,
            here: app.ring.proof(number).is_some(),
            seals: app.ring.newest() == number,
            retired: row.retired_at,
            secrets: under.secrets,
            factors: under.factors,
            sessions: under.sessions,
            recovery_codes: under.recovery_codes,
            acts: under.acts,
        });
    }
    Ok(out)
}

/// Keys of the ring, and what still needs each.
#[utoipa::path(get, operation_id = "ring_keys", path = "/key-ring", responses((status = 200, body = Vec<RingKey>), (status = 403, body = Problem)))]
pub async fn list(State(app): State<App>, who: Engineer) -> Result<Json<Vec<RingKey>>, ApiError> {
    who.may(Role::View)?;
    all(&app).await.map(Json)
}

/// Retires a key: everything sealed under it is sealed anew under the newest, the acts are linked anew, and nothing needs it afterwards. Its
/// line can be taken out of every ring file then.
#[utoipa::path(post, operation_id = "retire_ring_key", path = "/key-ring/{number}/retire", request_body = RetireKey, params(("number" = u16, Path)),
    responses((status = 200, body = Vec<RingKey>), (status = 403, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn retire(
    State(app): State<App>,
    who: Engineer,
    Path(number): Path<u16>,
    Json(ask): Json<RetireKey>,
) -> Result<Json<Vec<RingKey>>, ApiError> {
    who.may(Role::Configure)?;
    let conflict = |detail: &str| problem(StatusCode::CONFLICT, "key-ring", "Not retired", detail);
    let known = all(&app).await?;
    let Some(key) = known.iter().find(|k| k.number == number && k.retired.is_none()) else {
        let words = format!("There is no key {number} to retire; see passeur key-ring list.");
        return Err(problem(StatusCode::NOT_FOUND, "no-key", "No such key", &words));
    };
    if !key.here {
        return Err(conflict(
            "This node does not have the key, so that it cannot open what is sealed under it. Nothing was changed.",
        ));
    }
    if key.seals {
        let words = "It is the newest key, and seals. Add another (passeur key-ring add FILE), give it to every node, and restart them one \
                     by one. Nothing was changed.";
        return Err(conflict(words));
    }
    let sealing = app.store.nodes_sealing_with(number, app.now() - RUNS).await?;
    if !sealing.is_empty() {
        let words = format!(
            "{} still seals with it: give it the newest ring file and restart it. Nothing was changed.",
            sealing.join(", ")
        );
        return Err(conflict(&words));
    }
    if key.recovery_codes > 0 && !ask.anyway.iter().any(|w| w == "recovery-codes") {
        let words = format!(
            "{} recovery codes were made under it, and nobody can seal them anew: those people would have to make new ones at the quay. \
             Nothing was changed.",
            key.recovery_codes
        );
        return Err(
            problem(StatusCode::CONFLICT, "recovery-codes", "Recovery codes would be lost", &words).with_anyway("recovery-codes")
        );
    }
    let (count, head) = app.store.acts_head().await?;
    let about = json!({"key": number, "acts": count, "head_before": passeur_core::id::hex(&head)});
    let act = who.act(&app, "retire key", about);
    match app.store.retire_ring_key(number, &app.ring, &reseal(&app), act).await? {
        Ok(_) => {}
        Err(NotRetired::NotOpened { what }) => {
            return Err(conflict(&format!(
                "{what} cannot be opened with this ring: it was altered, or belongs to another. Nothing was changed."
            )));
        }
        Err(NotRetired::ActsBroken { number }) => {
            let words = format!(
                "The record of acts does not hold at act {number}: find out why first (passeur acts check). Nothing was changed."
            );
            return Err(conflict(&words));
        }
    }
    app.load_edition(Load::Anyway).await?;
    all(&app).await.map(Json)
}
