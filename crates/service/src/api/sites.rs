//! The site file: check, publish, read.

use axum::extract::State;
use http::StatusCode;
use passeur_api::{CheckAnswer, CheckRequest, Edition, Finding, Problem, PublishRequest, Role};
use passeur_core::site::{self, Severity, Site};
use passeur_store::EditionRow;

use super::auth::Engineer;
use super::extract::Json;
use super::{ApiError, problem};
use crate::app::App;

fn shown(f: &site::Finding) -> Finding {
    let severity = match f.severity {
        Severity::Error => "error",
        Severity::Warning => "warning",
    };
    Finding {
        severity: severity.to_owned(),
        line: f.line,
        place: f.place.clone(),
        what: f.what.clone(),
        remedy: f.remedy.clone(),
    }
}

/// Compiles a document and adds what only the store can say: secrets that are named and not stored.
async fn examine(app: &App, document: &str) -> Result<(Option<Site>, Vec<Finding>), ApiError> {
    let (site, findings) = site::compile(document);
    let mut findings: Vec<Finding> = findings.iter().map(shown).collect();
    if let Some(site) = &site {
        let stored = app.store.secret_list().await?;
        for (name, needed_by) in site.secrets() {
            if !stored.iter().any(|s| s.name == name) {
                findings.push(Finding {
                    severity: "warning".into(),
                    line: 0,
                    place: needed_by,
                    what: format!("the secret \"{name}\" is not stored yet"),
                    remedy: format!("Store it: passeur secret set {name}"),
                });
            }
        }
    }
    Ok((site, findings))
}

/// The live edition.
#[utoipa::path(get, path = "/site", responses((status = 200, body = Edition), (status = 404, body = Problem)))]
pub async fn live(State(app): State<App>, who: Engineer) -> Result<Json<Edition>, ApiError> {
    who.may(Role::View)?;
    let none = || {
        problem(StatusCode::NOT_FOUND, "no-edition", "Nothing published", "Publish a site file first: passeur site publish FILE")
    };
    let row = app.store.live_edition().await?.ok_or_else(none)?;
    let (_, findings) = examine(&app, &row.document).await?;
    Ok(Json(Edition {
        number: row.number,
        note: row.note,
        author: row.author,
        published_at: row.published_at,
        document: row.document,
        findings,
    }))
}

/// Checks a site file as a whole; nothing is changed.
#[utoipa::path(post, path = "/site/check", request_body = CheckRequest, responses((status = 200, body = CheckAnswer)))]
pub async fn check(State(app): State<App>, who: Engineer, Json(ask): Json<CheckRequest>) -> Result<Json<CheckAnswer>, ApiError> {
    who.may(Role::View)?;
    let (site, findings) = examine(&app, &ask.document).await?;
    Ok(Json(CheckAnswer { sound: site.is_some(), findings }))
}

/// Publishes a site file as the next edition.
#[utoipa::path(post, path = "/site/publish", request_body = PublishRequest,
    responses((status = 200, body = Edition), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn publish(State(app): State<App>, who: Engineer, Json(ask): Json<PublishRequest>) -> Result<Json<Edition>, ApiError> {
    who.may(Role::Configure)?;
    let live = app.store.live_edition_number().await?;
    if ask.based_on.is_some_and(|n| n != live) {
        let detail = format!(
            "Edition {live} is live; the change was made on another. Read it (passeur site show), put your change in, publish again."
        );
        return Err(problem(StatusCode::CONFLICT, "conflict", "Another edition is live", &detail));
    }
    let (site, findings) = examine(&app, &ask.document).await?;
    if site.is_none() {
        let n = findings.iter().filter(|f| f.severity == "error").count();
        let detail = format!("The site file has {n} mistakes; nothing was changed.");
        return Err(problem(StatusCode::UNPROCESSABLE_ENTITY, "site-file", "Not published", &detail).with_findings(findings));
    }
    let row = EditionRow {
        number: live + 1,
        document: ask.document,
        note: passeur_core::text::shorten(ask.note.trim(), 500),
        author: who.name,
        published_at: app.now(),
    };
    app.store.publish(row.clone()).await?;
    app.load_edition(false).await?;
    tracing::info!(edition = row.number, author = row.author, note = row.note, "published");
    Ok(Json(Edition {
        number: row.number,
        note: row.note,
        author: row.author,
        published_at: row.published_at,
        document: row.document,
        findings,
    }))
}
