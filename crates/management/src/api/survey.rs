//! The survey of everything the site depends on.

use std::sync::Arc;

use axum::extract::State;
use http::StatusCode;
use passeur_api::{Problem, Survey};
use passeur_core::role::Role;

use super::auth::Engineer;
use super::errors::{ApiError, problem};
use super::extract::Json;
use crate::app::App;
use crate::survey;

/// Surveys now, from the node that answers. It takes as long as the slowest of what it asks, 45 s at most.
#[utoipa::path(post, operation_id = "survey_now", path = "/survey",
    responses((status = 200, body = Survey), (status = 409, body = Problem)))]
pub async fn run(State(app): State<App>, who: Engineer) -> Result<Json<Survey>, ApiError> {
    who.may(Role::Operate)?;
    let Some(edition) = app.web.get() else {
        return Err(problem(StatusCode::CONFLICT, "no-edition", "Nothing published", "There is nothing to survey yet."));
    };
    let _running = alone(&app)?;
    let done = Arc::new(survey::run(&app, &edition, who.lang).await?);
    *app.surveyed.lock().unwrap_or_else(|e| e.into_inner()) = Some(done.clone());
    Ok(Json(done.show(&app.node, who.lang)))
}

/// One survey at a time on a node: what is asked outside is asked once.
pub(super) fn alone(app: &App) -> Result<tokio::sync::MutexGuard<'_, ()>, ApiError> {
    let words = "Another survey is running on this node. Ask for the last one in a moment.";
    app.surveying.try_lock().map_err(|_| problem(StatusCode::CONFLICT, "survey", "A survey is running", words))
}

/// What the last survey on this node found.
#[utoipa::path(get, operation_id = "last_survey", path = "/survey",
    responses((status = 200, body = Survey), (status = 404, body = Problem)))]
pub async fn last(State(app): State<App>, who: Engineer) -> Result<Json<Survey>, ApiError> {
    who.may(Role::View)?;
    let done = app.surveyed.lock().unwrap_or_else(|e| e.into_inner()).clone();
    let none =
        || problem(StatusCode::NOT_FOUND, "no-survey", "No survey yet", "Nobody has surveyed from this node since it started.");
    Ok(Json(done.ok_or_else(none)?.show(&app.node, who.lang)))
}
