//! API tokens: made by somebody who signed in, for themselves; scoped, with an end, and over with their owner.

use axum::extract::State;
use chrono::Duration;
use http::StatusCode;
use passeur_api::{ApiToken, KnownBy, MadeToken, Problem, TokenRequest};
use passeur_core::evidence::Evidence;
use passeur_core::role::Role;
use passeur_store::{NewToken, StoreError, TokenRow};
use serde_json::json;

use super::auth::Engineer;
use super::errors::{ApiError, problem};
use super::extract::{Json, Path};
use crate::app::App;

/// Parts of the API that a token may be bound to: the first segment of a call's path.
pub const AREAS: [&str; 14] = [
    "acts",
    "crossings",
    "directories",
    "gates",
    "handover",
    "me",
    "node",
    "people",
    "providers",
    "rehearse",
    "secrets",
    "sessions",
    "site",
    "trials",
];

fn shown(t: TokenRow) -> Option<ApiToken> {
    Some(ApiToken {
        role: Role::parse(&t.role)?.into(),
        name: t.name,
        areas: t.areas,
        owner: t.owner_name,
        created_at: t.created_at,
        expires_at: t.expires_at,
        used_at: t.used_at,
    })
}

/// Tokens that are good.
#[utoipa::path(get, operation_id = "tokens", path = "/tokens", responses((status = 200, body = Vec<ApiToken>)))]
pub async fn list(State(app): State<App>, who: Engineer) -> Result<Json<Vec<ApiToken>>, ApiError> {
    who.may(Role::View)?;
    Ok(Json(app.store.tokens(app.now()).await?.into_iter().filter_map(shown).collect()))
}

/// Makes a token for whoever is signed in. Its value is told once.
#[utoipa::path(post, operation_id = "make_token", path = "/tokens", request_body = TokenRequest,
    responses((status = 200, body = MadeToken), (status = 400, body = Problem), (status = 403, body = Problem), (status = 409, body = Problem)))]
pub async fn make(State(app): State<App>, who: Engineer, Json(ask): Json<TokenRequest>) -> Result<Json<MadeToken>, ApiError> {
    let bad = |words: &str| problem(StatusCode::BAD_REQUEST, "token", "Not made", words);
    let Some(owner) = &who.evidence else {
        let words = "A token belongs to a person: sign in to the console and make it there.";
        return Err(problem(StatusCode::FORBIDDEN, "token", "Whose token?", words));
    };
    // Never wider than its owner.
    who.may(ask.role.into())?;
    who.must_be_fresh(&app)?;
    let name = ask.name.trim();
    let plain = !name.is_empty() && name.len() <= 60 && !name.chars().any(char::is_control);
    if !plain {
        return Err(bad("A token's name is one line of at most 60 bytes."));
    }
    if !(1..=365).contains(&ask.days) {
        return Err(bad("days is a number from 1 to 365."));
    }
    if let Some(wrong) = ask.areas.iter().flatten().find(|a| !AREAS.contains(&a.as_str())) {
        return Err(bad(&format!("\"{wrong}\" is no part of the API; there are {}.", AREAS.join(", "))));
    }
    if ask.areas.as_ref().is_some_and(Vec::is_empty) {
        return Err(bad("areas is empty: leave it out for all parts."));
    }
    let (token, now) = (app.new_token(), app.now());
    let row = NewToken {
        digest: token.digest().to_vec(),
        name: name.to_owned(),
        role: ask.role.word().to_owned(),
        created_at: now,
        expires_at: Some(now + Duration::days(i64::from(ask.days))),
        owner_provider: Some(owner.provider.clone()),
        owner_subject: Some(owner.subject.clone()),
        owner_name: Some(who.name.clone()),
        areas: ask.areas.clone(),
        owner_authority: who.key.as_ref().map(|k| k.authority.clone()),
    };
    let about = json!({"token": name, "role": ask.role.word(), "areas": ask.areas, "days": ask.days});
    match app.store.make_token(row, who.session, who.act(&app, "make token", about)).await {
        Err(StoreError::Conflict) => {
            let words = "A good token of that name is there. Revoke it first, or choose another name.";
            return Err(problem(StatusCode::CONFLICT, "token", "Not made", words));
        }
        Ok(false) => {
            let words = "The session was ended meanwhile. Sign in again.";
            return Err(problem(StatusCode::UNAUTHORIZED, "sign-in", "Sign-in needed", words));
        }
        done => done?,
    };
    let lost = || problem(StatusCode::INTERNAL_SERVER_ERROR, "store", "Not found again", "The token was made and is not there.");
    let made = app.store.token(&token.digest(), now).await?.and_then(shown).ok_or_else(lost)?;
    Ok(Json(MadeToken { value: token.reveal().to_owned(), token: made }))
}

/// Revokes a token. Everybody may revoke their own; others' need the configure role.
#[utoipa::path(delete, operation_id = "revoke_token", path = "/tokens/{name}", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn revoke(State(app): State<App>, who: Engineer, Path(name): Path<String>) -> Result<StatusCode, ApiError> {
    let none = || problem(StatusCode::NOT_FOUND, "no-token", "No such token", &format!("There is no token \"{name}\"."));
    let row = app.store.tokens(app.now()).await?.into_iter().find(|t| t.name == name).ok_or_else(none)?;
    let itself = who.by == KnownBy::Token && who.name == name;
    let own = itself
        || who.evidence.as_ref().map(Evidence::person).is_some_and(|p| {
            (Some(&p.authority), Some(&p.subject)) == (row.owner_authority.as_ref(), row.owner_subject.as_ref())
        });
    who.may(if own { Role::View } else { Role::Configure })?;
    if !app.store.revoke_token(&name, who.act(&app, "revoke token", json!({"token": name}))).await? {
        return Err(none());
    }
    app.token_roles.forget();
    Ok(StatusCode::NO_CONTENT)
}
