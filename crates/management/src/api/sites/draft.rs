//! The draft: each change is made on the version that was read, so that two engineers do not overwrite each other.

use std::sync::Arc;

use axum::extract::State;
use axum::response::{IntoResponse, Response};
use http::{HeaderMap, HeaderValue, StatusCode, header};
use passeur_api::{Draft, DraftRequest, Problem};
use passeur_core::role::Role;
use passeur_store::{DraftRow, StoreError};
use serde_json::json;

use super::super::auth::Engineer;
use super::super::errors::{ApiError, problem};
use super::super::extract::Json;
use super::agree::agreements;
use super::documents::{examine, no_draft};
use crate::app::App;

fn tag(version: i64) -> String {
    format!("\"{version}\"")
}

/// The version that a request was made on (RFC 9110 13.1.1): none where it wants to be the first (13.1.2).
fn read_version(headers: &HeaderMap) -> Result<Option<i64>, ApiError> {
    let text = |name| headers.get(name).and_then(|v| v.to_str().ok());
    if text(header::IF_NONE_MATCH) == Some("*") {
        return Ok(None);
    }
    let version = text(header::IF_MATCH).and_then(|t| t.strip_prefix('"')?.strip_suffix('"')?.parse().ok());
    version.map(Some).ok_or_else(|| {
        let words = "Send If-Match with the ETag of the draft that was read, or If-None-Match: * to begin one.";
        problem(StatusCode::PRECONDITION_REQUIRED, "if-match", "On which version?", words)
    })
}

/// What is there instead of what was expected.
async fn conflict(app: &App, e: StoreError) -> ApiError {
    if e != StoreError::Conflict {
        return e.into();
    }
    let words = match app.store.draft().await {
        Ok(Some(d)) => {
            let at = d.changed_at.format("%Y-%m-%d %H:%M:%S UTC");
            format!(
                "{} wrote the draft at {at}. Read it again, put your change in, write it again; nothing of theirs is lost.",
                d.author
            )
        }
        Ok(None) => "The draft was published or discarded meanwhile. Begin a new one.".to_owned(),
        Err(e) => return e.into(),
    };
    problem(StatusCode::PRECONDITION_FAILED, "conflict", "Changed meanwhile", &words)
}

async fn shown(app: &App, who: &Engineer, row: DraftRow) -> Result<Response, ApiError> {
    let (site, findings) = examine(app, who, &row.document).await?;
    let site = site.map(Arc::new);
    let second = match &site {
        Some(site) => Some(agreements(app, who, &row.document, site).await?),
        None => None,
    };
    let etag = HeaderValue::from_str(&tag(row.version)).ok();
    let draft = Draft {
        document: row.document,
        based_on: row.based_on,
        author: row.author,
        changed_at: row.changed_at,
        version: row.version,
        sound: site.is_some(),
        second,
        findings,
    };
    let mut answer = Json(draft).into_response();
    if let Some(etag) = etag {
        answer.headers_mut().insert(header::ETAG, etag);
    }
    Ok(answer)
}

/// The draft, with its version as ETag.
#[utoipa::path(get, path = "/site/draft", responses((status = 200, body = Draft), (status = 404, body = Problem)))]
pub async fn read_draft(State(app): State<App>, who: Engineer) -> Result<Response, ApiError> {
    who.may(Role::View)?;
    let row = app.store.draft().await?.ok_or_else(no_draft)?;
    shown(&app, &who, row).await
}

/// Writes the draft on the version that was read. It may hold mistakes; they are listed.
#[utoipa::path(put, path = "/site/draft", request_body = DraftRequest,
    params(("If-Match" = Option<String>, Header, description = "The ETag that was read"),
           ("If-None-Match" = Option<String>, Header, description = "`*` to begin a draft")),
    responses((status = 200, body = Draft), (status = 412, body = Problem), (status = 428, body = Problem)))]
pub async fn write_draft(
    State(app): State<App>,
    who: Engineer,
    headers: HeaderMap,
    Json(ask): Json<DraftRequest>,
) -> Result<Response, ApiError> {
    who.may(Role::Configure)?;
    let read = read_version(&headers)?;
    let act = who.act(&app, "write draft", json!({"based_on": ask.based_on}));
    if let Err(e) = app.store.write_draft(read, &ask.document, ask.based_on, act).await {
        return Err(conflict(&app, e).await);
    }
    let row = app.store.draft().await?.ok_or_else(no_draft)?;
    shown(&app, &who, row).await
}

/// Discards the draft of the version that was read.
#[utoipa::path(delete, path = "/site/draft", params(("If-Match" = String, Header, description = "The ETag that was read")),
    responses((status = 204), (status = 404, body = Problem), (status = 412, body = Problem), (status = 428, body = Problem)))]
pub async fn discard_draft(State(app): State<App>, who: Engineer, headers: HeaderMap) -> Result<StatusCode, ApiError> {
    who.may(Role::Configure)?;
    let read = read_version(&headers)?.ok_or_else(no_draft)?;
    if let Err(e) = app.store.discard_draft(read, who.act(&app, "discard draft", json!({}))).await {
        return Err(conflict(&app, e).await);
    }
    Ok(StatusCode::NO_CONTENT)
}
