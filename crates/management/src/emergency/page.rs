//! The page on which the emergency account signs in and out.

use axum::extract::{Extension, Form, State};
use axum::response::{IntoResponse, Response};
use http::{StatusCode, header};
use passeur_http::cookies;
use passeur_store::StoreError;
use serde::Deserialize;

use super::{AnyHost, Try, cookie, offered, session, try_password};
use crate::app::App;
use passeur_signin::Visit;
use passeur_signin::pages::{self, redirect};
use passeur_signin::problem::problem;

/// What the form sends.
#[derive(Deserialize)]
pub struct Entered {
    #[serde(default)]
    name: String,
    #[serde(default)]
    password: String,
    /// Ends the session instead.
    #[serde(default)]
    end: Option<String>,
}

/// To anybody else it is not there.
fn not_here() -> Response {
    problem(StatusCode::NOT_FOUND, "not-found", "Nothing is here", "There is no such page.").into_response()
}

fn failed(app: &App, visit: &Visit, e: &StoreError) -> Response {
    match app.live.get() {
        Some(edition) => pages::store_failed(&edition.site, visit.facts.lang, e).into_response(),
        None => problem(StatusCode::SERVICE_UNAVAILABLE, "store", "The store does not answer", "See the service's log.")
            .into_response(),
    }
}

/// `GET /.passeur/emergency`.
pub async fn show(State(app): State<App>, any_host: Option<Extension<AnyHost>>, visit: Visit) -> Response {
    if offered(&app, &visit.headers, visit.facts.address).is_none() {
        return not_here();
    }
    match session(&app, &visit.headers, visit.facts.address, any_host.is_some()).await {
        Ok(found) => {
            pages::emergency(app.live.get().as_deref().map(|e| &e.site), visit.facts.lang, found.is_some(), None).into_response()
        }
        Err(e) => failed(&app, &visit, &e),
    }
}

/// `POST /.passeur/emergency`. The guard has checked where it comes from.
pub async fn sign_in(
    State(app): State<App>,
    any_host: Option<Extension<AnyHost>>,
    visit: Visit,
    Form(entered): Form<Entered>,
) -> Response {
    let Some(account) = offered(&app, &visit.headers, visit.facts.address).cloned() else { return not_here() };
    let (name, secure) = cookie(&app, any_host.is_some());
    if entered.end.is_some() {
        return match session(&app, &visit.headers, visit.facts.address, any_host.is_some()).await {
            Ok(found) => {
                if let Some(s) = found
                    && let Err(e) = app.store.end_emergency(&s.digest).await
                {
                    return failed(&app, &visit, &e);
                }
                redirect("/.passeur/emergency", Some(&cookies::set(&name, "", secure, Some(0))))
            }
            Err(e) => failed(&app, &visit, &e),
        };
    }
    let site = app.live.get();
    let again = |status, word| {
        let mut page = pages::emergency(site.as_deref().map(|e| &e.site), visit.facts.lang, false, Some(word)).into_response();
        *page.status_mut() = status;
        page
    };
    match try_password(&app, &account, visit.facts.address, entered.name.trim(), entered.password).await {
        Ok(Try::In(token)) => redirect("/console/", Some(&cookies::set(&name, token.reveal(), secure, None))),
        Ok(Try::Wrong) => again(StatusCode::FORBIDDEN, pages::EmergencyTrouble::Wrong),
        Ok(Try::Wait) => {
            let mut page = again(StatusCode::TOO_MANY_REQUESTS, pages::EmergencyTrouble::Wait);
            page.headers_mut().insert(header::RETRY_AFTER, http::HeaderValue::from_static("300"));
            page
        }
        Err(e) => failed(&app, &visit, &e),
    }
}
