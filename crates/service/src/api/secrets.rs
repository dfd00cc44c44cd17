//! Secrets: set, and told about; never told.

use axum::extract::State;
use http::StatusCode;
use passeur_api::{Problem, Role, Secret, SecretValue};
use passeur_core::seal::Purpose;

use super::auth::Engineer;
use super::extract::{Json, Path};
use super::{ApiError, problem};
use crate::app::{App, random, secret_binding};

/// The longest secret stored, in bytes.
const SECRET_MAX: usize = 16 * 1024;

async fn all(app: &App) -> Result<Vec<Secret>, ApiError> {
    let needed = app.live.get().map(|e| e.site.secrets()).unwrap_or_default();
    let by = |name: &str| needed.iter().filter(|(n, _)| n == name).map(|(_, by)| by.clone()).collect::<Vec<_>>();
    let stored = app.store.secret_list().await?;
    let mut out: Vec<Secret> = stored
        .into_iter()
        .map(|s| Secret {
            needed_by: by(&s.name),
            name: s.name,
            version: s.version,
            changed_at: Some(s.changed_at),
            changed_by: Some(s.changed_by),
        })
        .collect();
    for (name, _) in &needed {
        if !out.iter().any(|s| s.name == *name) {
            out.push(Secret { needed_by: by(name), name: name.clone(), version: 0, changed_at: None, changed_by: None });
        }
    }
    Ok(out)
}

/// Secrets that are stored or needed. Reading this is itself recorded.
#[utoipa::path(get, operation_id = "secrets", path = "/secrets", responses((status = 200, body = Vec<Secret>)))]
pub async fn list(State(app): State<App>, who: Engineer) -> Result<Json<Vec<Secret>>, ApiError> {
    who.may(Role::View)?;
    let all = all(&app).await?;
    let names: Vec<&str> = all.iter().map(|s| s.name.as_str()).collect();
    app.store.record_act(who.act(&app, "list secrets", serde_json::json!({"secrets": names}))).await?;
    Ok(Json(all))
}

/// Stores a secret under its next version; it is in use at once.
#[utoipa::path(put, operation_id = "set_secret", path = "/secrets/{name}", request_body = SecretValue, params(("name" = String, Path)),
    responses((status = 200, body = Secret), (status = 400, body = Problem)))]
pub async fn set(
    State(app): State<App>,
    who: Engineer,
    Path(name): Path<String>,
    Json(ask): Json<SecretValue>,
) -> Result<Json<Secret>, ApiError> {
    who.may(Role::Configure)?;
    let plain =
        !name.is_empty() && name.len() <= 60 && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-');
    if !plain {
        return Err(problem(
            StatusCode::BAD_REQUEST,
            "secret",
            "Not stored",
            "A secret's name is a-z, 0-9 and hyphens, at most 60.",
        ));
    }
    if ask.value.is_empty() || ask.value.len() > SECRET_MAX {
        return Err(problem(StatusCode::BAD_REQUEST, "secret", "Not stored", "A secret holds 1 to 16384 bytes."));
    }
    let seal = |version| app.ring.seal(Purpose::Secret, &secret_binding(&name, version), random(), ask.value.as_bytes());
    app.store.set_secret(&name, seal, who.act(&app, "set secret", serde_json::Value::Null)).await?;
    app.load_edition(true).await?;
    let lost =
        || problem(StatusCode::INTERNAL_SERVER_ERROR, "store", "Not found again", "The secret was stored and is not there.");
    Ok(Json(all(&app).await?.into_iter().find(|s| s.name == name).ok_or_else(lost)?))
}
