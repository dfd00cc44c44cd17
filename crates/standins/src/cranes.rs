//! The crane logbook: another application that believes its headers. Fitters write down what they found; planners read.

use std::sync::{Arc, Mutex};

use axum::Router;
use axum::extract::{Form, State};
use axum::response::{Html, IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use http::HeaderMap;
use maud::html;
use serde::Deserialize;

use crate::ledger::{page, received, said};

/// Crane, by whom, and what was found.
type Log = Arc<Mutex<Vec<(&'static str, String, String)>>>;

/// The application.
pub fn router() -> Router {
    let log = vec![
        ("Crane 1", "Farid Haddad".to_owned(), "Limit switch of the slewing gear replaced.".to_owned()),
        ("Crane 3", "Farid Haddad".to_owned(), "Hoist rope measured: good until spring.".to_owned()),
    ];
    Router::new()
        .route("/", get(front))
        .route("/note", post(note))
        .route("/received", axum::routing::any(received))
        .with_state(Arc::new(Mutex::new(log)) as Log)
}

fn writes(headers: &HeaderMap) -> bool {
    said(headers, "x-harbour-roles").split(',').any(|r| r == "fitter")
}

async fn front(State(log): State<Log>, headers: HeaderMap) -> Html<String> {
    let name = said(&headers, "x-harbour-name");
    let log = log.lock().unwrap_or_else(|e| e.into_inner());
    page(
        "Crane logbook",
        html! {
            h1 { "Crane logbook" }
            p id="greeting" { "Good day, " strong { (if name.is_empty() { "whoever you are" } else { name }) } "." }
            table {
                tr { th { "Crane" } th { "By" } th { "Found" } }
                @for (crane, by, found) in log.iter() { tr { td { (crane) } td { (by) } td { (found) } } }
            }
            @if writes(&headers) {
                h2 { "Write down" }
                form method="post" action="/note" {
                    input name="found" aria-label="found" required maxlength="200"; " " button { "Write" }
                }
            }
            p { a href="/received" { "The request as it was received" } }
        },
    )
}

#[derive(Deserialize)]
struct Note {
    found: String,
}

async fn note(State(log): State<Log>, headers: HeaderMap, Form(n): Form<Note>) -> Response {
    if !writes(&headers) {
        return (http::StatusCode::FORBIDDEN, "Only fitters write here.\n").into_response();
    }
    let by = said(&headers, "x-harbour-name").to_owned();
    log.lock().unwrap_or_else(|e| e.into_inner()).push(("Crane 2", by, n.found.chars().take(200).collect()));
    Redirect::to("/").into_response()
}
