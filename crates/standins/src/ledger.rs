//! The berth ledger: a small server-rendered application of the kind that was written before federated sign-in. It
//! believes whatever stands in its request headers, as such applications do.

use std::sync::{Arc, Mutex};

use axum::Router;
use axum::body::Body;
use axum::extract::{Form, Request, State};
use axum::response::{Html, IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use http::HeaderMap;
use http_body_util::BodyExt;
use maud::{DOCTYPE, Markup, html};
use serde::Deserialize;

struct Berth {
    name: &'static str,
    depth: &'static str,
    vessel: Option<String>,
}

type Ledger = Arc<Mutex<Vec<Berth>>>;

/// The application.
pub fn router() -> Router {
    let berth = |name, depth, vessel: &str| Berth { name, depth, vessel: (!vessel.is_empty()).then(|| vessel.to_owned()) };
    let berths = vec![
        berth("Quai des Brumes 1", "9.5 m", "Belle Aurore"),
        berth("Quai des Brumes 2", "9.5 m", ""),
        berth("Darse Nord", "12.0 m", "Grand Cormoran"),
        berth("Appontement 4", "7.2 m", "Marie-Jeanne"),
        berth("Bassin à flot", "5.8 m", ""),
    ];
    Router::new()
        .route("/", get(front))
        .route("/assign", post(assign))
        .route("/received", axum::routing::any(received))
        .with_state(Arc::new(Mutex::new(berths)))
}

/// What a header says, believed as it is.
pub(crate) fn said<'a>(headers: &'a HeaderMap, name: &str) -> &'a str {
    headers.get(name).and_then(|v| std::str::from_utf8(v.as_bytes()).ok()).unwrap_or_default()
}

/// A page in the style of its time.
pub(crate) fn page(title: &str, content: Markup) -> Html<String> {
    let style = "body{font:16px/1.5 serif;margin:2rem auto;max-width:52rem;padding:0 1rem;color:#223;background:#fffdf5}table{border-collapse:collapse;width:100%}td,th{border:1px solid #cc9;padding:.3rem .6rem;text-align:left;overflow-wrap:anywhere}";
    Html(html! { (DOCTYPE) html lang="en" { head { meta charset="utf-8"; title { (title) } style { (maud::PreEscaped(style)) } } body { (content) } } }.into_string())
}

async fn front(State(ledger): State<Ledger>, headers: HeaderMap) -> Html<String> {
    let user = said(&headers, "x-harbour-user");
    let name = said(&headers, "x-harbour-name");
    let planner = said(&headers, "x-harbour-roles").split(',').any(|r| r == "planner");
    let berths = ledger.lock().unwrap_or_else(|e| e.into_inner());
    page(
        "Berth ledger",
        html! {
            h1 { "Berth ledger" }
            @if user.is_empty() { p { "Good day, whoever you are." } }
            @else { p id="greeting" { "Good day, " strong { (if name.is_empty() { user } else { name }) } " (" (user) ")." } }
            table {
                tr { th { "Berth" } th { "Depth" } th { "Vessel" } }
                @for b in berths.iter() { tr { td { (b.name) } td { (b.depth) } td { (b.vessel.as_deref().unwrap_or("free")) } } }
            }
            @if planner {
                h2 { "Assign berth" }
                form method="post" action="/assign" {
                    select name="berth" aria-label="berth" { @for b in berths.iter().filter(|b| b.vessel.is_none()) { option { (b.name) } } }
                    " " input name="vessel" aria-label="vessel" required maxlength="40"; " " button { "Assign" }
                }
            }
            p { a href="/received" { "The request as it was received" } }
        },
    )
}

#[derive(Deserialize)]
struct Assignment {
    berth: String,
    vessel: String,
}

async fn assign(State(ledger): State<Ledger>, headers: HeaderMap, Form(a): Form<Assignment>) -> Response {
    if !said(&headers, "x-harbour-roles").split(',').any(|r| r == "planner") {
        return (http::StatusCode::FORBIDDEN, "Only planners assign berths.\n").into_response();
    }
    let mut berths = ledger.lock().unwrap_or_else(|e| e.into_inner());
    if let Some(b) = berths.iter_mut().find(|b| b.name == a.berth && b.vessel.is_none()) {
        b.vessel = Some(a.vessel.chars().take(40).collect());
    }
    Redirect::to("/").into_response()
}

/// The request as it arrived, as a page or as JSON.
pub(crate) async fn received(request: Request<Body>) -> Response {
    let (parts, body) = request.into_parts();
    let text = |v: &http::HeaderValue| String::from_utf8_lossy(v.as_bytes()).into_owned();
    let headers: Vec<(String, String)> = parts.headers.iter().map(|(n, v)| (n.as_str().to_owned(), text(v))).collect();
    let collected = body.collect().await.ok();
    let trailers: Vec<(String, String)> = collected
        .as_ref()
        .and_then(|c| c.trailers())
        .map(|t| t.iter().map(|(n, v)| (n.as_str().to_owned(), text(v))).collect())
        .unwrap_or_default();
    let length = collected.map_or(0, |c| c.to_bytes().len());
    let target = parts.uri.path_and_query().map_or("/", |p| p.as_str()).to_owned();
    if said(&parts.headers, "accept").contains("application/json") {
        let json = serde_json::json!({
            "method": parts.method.as_str(), "target": target, "headers": headers, "trailers": trailers, "body_length": length,
        });
        return axum::Json(json).into_response();
    }
    page(
        "As received",
        html! {
            h1 { "The request as it was received" }
            p { (parts.method.as_str()) " " (target) ", " (length) " bytes" }
            table { @for (n, v) in headers.iter().chain(&trailers) { tr { th { (n) } td { (v) } } } }
            p { a href="/" { "Back to the ledger" } }
        },
    )
    .into_response()
}
