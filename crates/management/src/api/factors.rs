//! Second factors and tokens of people: seen and taken away by engineers.

use axum::extract::State;
use passeur_api::{
    Factor, FactorKind, Factors, FactorsRemoved, PersonRoles, PersonalToken, Problem, RoleChange, RolesAt, TokensRevoked,
};
use passeur_core::role::Role;
use passeur_core::step::{Phrase, reason_text};
use passeur_engine::ending;
use serde::Deserialize;
use serde_json::json;
use utoipa::IntoParams;
use uuid::Uuid;

use super::auth::Engineer;
use super::errors::ApiError;
use super::extract::{Json, Path, Query};
use super::people::known;
use crate::app::App;

/// Which factor.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct FactorQuery {
    /// Only this one; otherwise all of them, with the recovery codes.
    id: Option<Uuid>,
}

/// Factors of a person.
#[utoipa::path(get, operation_id = "factors", path = "/people/{provider}/{subject}/factors",
    params(("provider" = String, Path, description = "The provider or way in"), ("subject" = String, Path, description = "Its identifier of the person")),
    responses((status = 200, body = Factors), (status = 404, body = Problem)))]
pub async fn show(
    State(app): State<App>,
    who: Engineer,
    Path((provider, subject)): Path<(String, String)>,
) -> Result<Json<Factors>, ApiError> {
    who.may(Role::View)?;
    let person = known(&app, &provider, &subject).await?;
    let rows = app.store.factors(&person).await?;
    let factors = rows.into_iter().filter_map(|r| {
        Some(Factor {
            id: r.id,
            words: reason_text(&r.kind, who.lang).unwrap_or_default().to_owned(),
            kind: FactorKind::parse(&r.kind)?,
            name: r.name,
            enrolled: r.created_at,
            used: r.used_at,
        })
    });
    let recovery_codes = app.store.recovery_codes_left(&person).await?;
    Ok(Json(Factors { factors: factors.collect(), recovery_codes }))
}

/// Takes factors of a person away. Sessions in which one was proven go on; end them where that is meant.
#[utoipa::path(delete, operation_id = "remove_factors", path = "/people/{provider}/{subject}/factors",
    params(("provider" = String, Path, description = "The provider or way in"), ("subject" = String, Path, description = "Its identifier of the person"), FactorQuery),
    responses((status = 200, body = FactorsRemoved), (status = 403, body = Problem), (status = 404, body = Problem)))]
pub async fn remove(
    State(app): State<App>,
    who: Engineer,
    Path((provider, subject)): Path<(String, String)>,
    Query(q): Query<FactorQuery>,
) -> Result<Json<FactorsRemoved>, ApiError> {
    who.may(Role::Operate)?;
    let person = known(&app, &provider, &subject).await?;
    let mut act = who.act(&app, "remove factors", json!({"only": q.id}));
    act.act.personal.people.push(format!("{provider}/{subject}"));
    let gone = app.store.remove_factors(&person, q.id, Some(act)).await?;
    Ok(Json(FactorsRemoved { removed: gone.into_iter().map(|r| r.name).collect() }))
}

/// Good tokens that a person made for programs.
#[utoipa::path(get, operation_id = "personal_tokens", path = "/people/{provider}/{subject}/tokens",
    params(("provider" = String, Path, description = "The provider or way in"), ("subject" = String, Path, description = "Its identifier of the person")),
    responses((status = 200, body = Vec<PersonalToken>), (status = 404, body = Problem)))]
pub async fn tokens(
    State(app): State<App>,
    who: Engineer,
    Path((provider, subject)): Path<(String, String)>,
) -> Result<Json<Vec<PersonalToken>>, ApiError> {
    who.may(Role::View)?;
    let person = known(&app, &provider, &subject).await?;
    let rows = app.store.personal_tokens(&person, app.now()).await?;
    let out = rows.into_iter().map(|r| PersonalToken {
        id: r.id,
        name: r.name,
        gates: r.gates,
        paths: r.paths,
        made: r.created_at,
        until: r.expires_at,
        used: r.used_at,
    });
    Ok(Json(out.collect()))
}

/// Revokes tokens of a person, and ends the sessions that they opened.
#[utoipa::path(delete, operation_id = "revoke_personal_tokens", path = "/people/{provider}/{subject}/tokens",
    params(("provider" = String, Path, description = "The provider or way in"), ("subject" = String, Path, description = "Its identifier of the person"), FactorQuery),
    responses((status = 200, body = TokensRevoked), (status = 403, body = Problem), (status = 404, body = Problem)))]
pub async fn revoke_tokens(
    State(app): State<App>,
    who: Engineer,
    Path((provider, subject)): Path<(String, String)>,
    Query(q): Query<FactorQuery>,
) -> Result<Json<TokensRevoked>, ApiError> {
    who.may(Role::Operate)?;
    let person = known(&app, &provider, &subject).await?;
    let mut act = who.act(&app, "revoke personal tokens", json!({"only": q.id}));
    act.act.personal.people.push(format!("{provider}/{subject}"));
    let gone = app.store.revoke_personal_tokens(&person, q.id, Some(act)).await?;
    let mut opened = vec![];
    for token in &gone {
        opened.extend(app.store.sessions_of_token(token.id).await?);
    }
    let ended = ending::end(&app, &opened, &who.name, None).await?.sessions;
    Ok(Json(TokensRevoked { revoked: gone.into_iter().map(|r| r.name).collect(), ended }))
}

/// The most changes of roles that are shown.
const CHANGES_MAX: i64 = 100;

/// Roles of a person, as they were last worked out, and when and why they changed.
#[utoipa::path(get, operation_id = "roles", path = "/people/{provider}/{subject}/roles",
    params(("provider" = String, Path, description = "The provider or way in"), ("subject" = String, Path, description = "Its identifier of the person")),
    responses((status = 200, body = PersonRoles), (status = 404, body = Problem)))]
pub async fn roles(
    State(app): State<App>,
    who: Engineer,
    Path((provider, subject)): Path<(String, String)>,
) -> Result<Json<PersonRoles>, ApiError> {
    who.may(Role::View)?;
    let person = known(&app, &provider, &subject).await?;
    let now = app.store.roles_of(&person).await?;
    let changes = app.store.role_changes(&person, CHANGES_MAX).await?;
    let roles =
        now.into_iter().map(|r| RolesAt { gate: r.gate, roles: r.roles, since: r.since, crossing: r.crossing, seen: r.seen_at });
    let changes = changes.into_iter().map(|c| {
        // What an older binary cannot read of a newer one's words is left out.
        let why: Vec<Phrase> = serde_json::from_value(c.why).unwrap_or_default();
        RoleChange {
            gate: c.gate,
            at: c.at,
            crossing: c.crossing,
            gained: c.gained,
            lost: c.lost,
            why: why.iter().map(|p| p.words(who.lang)).collect(),
        }
    });
    Ok(Json(PersonRoles { roles: roles.collect(), changes: changes.collect() }))
}
