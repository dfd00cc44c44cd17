//! The lock house: an application that knows nothing but Kerberos. It believes no header; who somebody is, it takes from the ticket
//! that comes with each request (RFC 4559).
//!
//! It accepts with the keytab that the process calls its default (`KRB5_KTNAME`), as such applications do. Below `/once` a ticket
//! counts for its connection; below `/unproven` it does not prove itself; below `/stranger` it takes no ticket at all.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};

use axum::Router;
use axum::extract::{ConnectInfo, Request, State};
use axum::response::{Html, IntoResponse, Response};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use http::header::{AUTHORIZATION, WWW_AUTHENTICATE};
use http::{HeaderMap, StatusCode};
use http_body_util::BodyExt;
use libgssapi::context::{SecurityContext, ServerCtx};
use maud::{DOCTYPE, html};

const LOCKS: &[(&str, &str)] = &[
    ("Écluse de la Barre", "closed, low water at 16:40"),
    ("Écluse Vauban", "open, two vessels within"),
    ("Bassin des Pilotes", "open"),
];

/// Who came by which connection, below `/once`.
type Known = Arc<Mutex<HashMap<SocketAddr, String>>>;

/// The application. Serve it with the address of each connection.
pub fn router() -> Router {
    Router::new().fallback(answer).with_state(Known::default())
}

/// Who a request is of, and what it is answered to prove ourselves.
async fn who(headers: &HeaderMap) -> Result<(String, Option<Vec<u8>>), String> {
    let field = headers.get(AUTHORIZATION).and_then(|v| v.to_str().ok()).ok_or("no ticket")?;
    let text = field.strip_prefix("Negotiate ").ok_or("not Negotiate")?;
    let token = STANDARD.decode(text).map_err(|e| e.to_string())?;
    let accepted = tokio::task::spawn_blocking(move || {
        let mut context = ServerCtx::new(None);
        let answer = context.step(&token, None).map_err(|e| e.to_string())?;
        let name = context.source_name().and_then(|n| n.display_name()).map_err(|e| e.to_string())?;
        Ok::<_, String>((String::from_utf8_lossy(&name).into_owned(), answer.map(|a| a.to_vec())))
    });
    accepted.await.map_err(|e| e.to_string())?
}

async fn answer(State(known): State<Known>, ConnectInfo(peer): ConnectInfo<SocketAddr>, request: Request) -> Response {
    let (parts, body) = request.into_parts();
    let path = parts.uri.path().to_owned();
    let under = |what: &str| path.strip_prefix('/').and_then(|p| p.split('/').next()) == Some(what);
    let before = known.lock().unwrap_or_else(|e| e.into_inner()).get(&peer).cloned().filter(|_| under("once"));
    let (name, proof) = match (before, parts.headers.contains_key(AUTHORIZATION)) {
        (Some(name), false) => (name, None),
        _ if under("stranger") => return refusal("no ticket is taken here"),
        _ => match who(&parts.headers).await {
            Ok(found) => found,
            Err(why) => return refusal(&why),
        },
    };
    if under("once") {
        known.lock().unwrap_or_else(|e| e.into_inner()).insert(peer, name.clone());
    }
    let bytes = body.collect().await.map(|b| b.to_bytes().len()).unwrap_or_default();
    let mut response = if path.ends_with("/received") {
        let others: Vec<[String; 2]> = parts
            .headers
            .iter()
            .filter(|(n, _)| **n != AUTHORIZATION)
            .map(|(n, v)| [n.as_str().to_owned(), String::from_utf8_lossy(v.as_bytes()).into_owned()])
            .collect();
        axum::Json(serde_json::json!({ "who": name, "body": bytes, "headers": others, "trailers": [] })).into_response()
    } else {
        page(&name).into_response()
    };
    if let Some(proof) = proof.filter(|_| !under("unproven"))
        && let Ok(value) = http::HeaderValue::try_from(format!("Negotiate {}", STANDARD.encode(proof)))
    {
        response.headers_mut().insert(WWW_AUTHENTICATE, value);
    }
    response
}

fn refusal(why: &str) -> Response {
    (StatusCode::UNAUTHORIZED, [(WWW_AUTHENTICATE, "Negotiate")], format!("The lock house knows tickets only: {why}.\n"))
        .into_response()
}

fn page(name: &str) -> Html<String> {
    let markup = html! {
        (DOCTYPE)
        html lang="en" {
            head { meta charset="utf-8"; title { "Lock house of Havrelune" } style { (maud::PreEscaped("body{font:17px/1.5 Georgia,serif;max-width:42rem;margin:3rem auto;background:#eef1ea;color:#1d2a22}table{border-collapse:collapse;width:100%}td,th{text-align:left;padding:.4rem .6rem;border-bottom:1px solid #b9c4b4}")) } }
            body {
                h1 { "Lock house" }
                p { "Good day, " strong { (name) } "." }
                table { tr { th { "Lock" } th { "State" } } @for (lock, state) in LOCKS { tr { td { (lock) } td { (state) } } } }
            }
        }
    };
    Html(markup.into_string())
}
