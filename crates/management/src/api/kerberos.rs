//! Kerberos as it is seen from this node.

use axum::extract::State;
use passeur_api::{KerberosSeen, Problem};
use passeur_core::role::Role;

use super::auth::Engineer;
use super::errors::{ApiError, no_edition};
use super::extract::Json;
use crate::app::App;
use crate::kerberos;

/// Realms that the live edition names, in order of names.
#[utoipa::path(get, operation_id = "realms", path = "/kerberos/realms",
    responses((status = 200, body = Vec<String>), (status = 404, body = Problem)))]
pub async fn realms(State(app): State<App>, who: Engineer) -> Result<Json<Vec<String>>, ApiError> {
    who.may(Role::View)?;
    let edition = app.live.get().ok_or_else(no_edition)?;
    Ok(Json(kerberos::look::realms_named(&edition.site)))
}

/// Keytabs, what the KDCs give for services, accounts that act for people, and what is wrong with any of it: looked at now. Each
/// key that is tried and refused counts as a wrong password of its account; at most eight are tried for a realm.
#[utoipa::path(post, operation_id = "look_at_kerberos", path = "/kerberos",
    responses((status = 200, body = KerberosSeen), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn look(State(app): State<App>, who: Engineer) -> Result<Json<KerberosSeen>, ApiError> {
    who.may(Role::Operate)?;
    let edition = app.web.get().ok_or_else(no_edition)?;
    let _running = super::survey::alone(&app)?;
    Ok(Json(kerberos::seen(&app, &edition, who.lang).await?))
}
