//! The same people by SAML 2.0: metadata, sign-on by redirect and by form, single logout. What it writes is in canonical form
//! from the start, so that signing needs no library for it; what it reads, it reads with a parser of its own choice. For
//! tests, pieces of what it writes can be exchanged before they are signed.

mod read;
mod write;

use std::collections::HashMap;

use axum::extract::{Form, Query, RawQuery, State};
use axum::response::{IntoResponse, Response};
use http::{HeaderMap, StatusCode, header};
use maud::html;
use serde::Deserialize;

use super::authorize::{self, Purpose, page, see_other};
use super::{Mode, Provider, random};
pub use read::Service;
pub(super) use write::Key;

/// What was asked, until the person proved who they are.
#[derive(Clone, Debug)]
pub(super) struct Asked {
    service: String,
    consumer: String,
    request: Option<String>,
    relay_state: Option<String>,
}

fn refused(words: &str) -> Response {
    page(StatusCode::BAD_REQUEST, "Error", html! { p.bad { (words) } })
}

pub(super) async fn metadata(State(p): State<Provider>) -> Response {
    let text = p.saml_metadata();
    ([(header::CONTENT_TYPE, "application/samlmetadata+xml")], text).into_response()
}

/// `POST /saml/services`: metadata of a service, as its team sends it.
pub(super) async fn add(State(p): State<Provider>, body: String) -> Response {
    match Service::of_metadata(&body) {
        Some(service) => {
            p.add_service(service);
            "known\n".into_response()
        }
        None => refused("That is no metadata of a service."),
    }
}

#[derive(Deserialize)]
pub(super) struct Posted {
    #[serde(rename = "SAMLRequest")]
    request: Option<String>,
    #[serde(rename = "SAMLResponse")]
    response: Option<String>,
    #[serde(rename = "RelayState")]
    relay_state: Option<String>,
}

pub(super) async fn sign_on(
    State(p): State<Provider>,
    headers: HeaderMap,
    RawQuery(query): RawQuery,
    Query(q): Query<Posted>,
) -> Response {
    let Some(text) = q.request.as_deref().and_then(read::inflated) else { return refused("There is no request.") };
    ask(&p, &headers, &text, q.relay_state, Some(&query.unwrap_or_default()))
}

pub(super) async fn sign_on_by_form(State(p): State<Provider>, headers: HeaderMap, Form(f): Form<Posted>) -> Response {
    let Some(text) = f.request.as_deref().and_then(read::plain) else { return refused("There is no request.") };
    ask(&p, &headers, &text, f.relay_state, None)
}

fn ask(p: &Provider, headers: &HeaderMap, text: &str, relay_state: Option<String>, query: Option<&str>) -> Response {
    let Some(request) = read::Request::read(text) else { return refused("The request cannot be read.") };
    let Some(service) = p.service(&request.issuer) else {
        return refused(&format!("The service {} is not known here.", request.issuer));
    };
    // A service whose certificate is known must sign; a form's own signature is left to those who test signatures.
    if let Some(query) = query
        && !service.certificates.is_empty()
        && !service.certificates.iter().any(|c| read::query_is_signed(query, "SAMLRequest", c))
    {
        return refused("The request is not signed by the service.");
    }
    if !service.consumers.contains(&request.consumer) || request.destination != p.saml_address("/saml/sign-on") {
        return refused("The addresses of the request are not those registered here.");
    }
    let asked = Asked { service: request.issuer, consumer: request.consumer, request: Some(request.id), relay_state };
    if p.memory().mode == Mode::Refuses {
        return send(p, &asked, &write::status(p, &asked, "Responder", "AuthnFailed", "The office is closed to this account"));
    }
    match authorize::session_of(p, headers) {
        Some(session) if !request.anew => finish(p, &asked, &session),
        _ if request.passive => send(p, &asked, &write::status(p, &asked, "Responder", "NoPassive", "")),
        _ => {
            let id = random();
            p.memory().pending.insert(id.clone(), (Purpose::Saml(asked), None));
            authorize::password_page(&id, false)
        }
    }
}

/// `GET /saml/start?service=…&target=…`: sends somebody who is signed in here, without having been asked.
pub(super) async fn start(State(p): State<Provider>, headers: HeaderMap, Query(q): Query<HashMap<String, String>>) -> Response {
    let Some(service) = q.get("service").and_then(|s| p.service(s)) else { return refused("That service is not known here.") };
    let consumer = service.consumers.first().cloned().unwrap_or_default();
    let asked = Asked { service: service.entity_id, consumer, request: None, relay_state: q.get("target").cloned() };
    match authorize::session_of(&p, &headers) {
        Some(session) => finish(&p, &asked, &session),
        None => {
            let id = random();
            p.memory().pending.insert(id.clone(), (Purpose::Saml(asked), None));
            authorize::password_page(&id, false)
        }
    }
}

/// Sends somebody back with an assertion about them.
pub(super) fn finish(p: &Provider, asked: &Asked, session: &authorize::Session) -> Response {
    let Some(person) = p.0.register.person(&session.user).cloned() else { return refused("That person is gone.") };
    let encrypt = p.service(&asked.service).filter(|s| s.encrypt).and_then(|s| s.certificates.first().cloned());
    send(p, asked, &write::response(p, asked, &person, session, encrypt.as_deref()))
}

fn send(p: &Provider, asked: &Asked, response: &str) -> Response {
    p.memory().last_response = Some(response.to_owned());
    form(&asked.consumer, "SAMLResponse", response, asked.relay_state.as_deref())
}

/// A page whose form posts itself; with a button where no script runs.
fn form(to: &str, name: &str, text: &str, relay_state: Option<&str>) -> Response {
    page(
        StatusCode::OK,
        "One moment",
        html! {
            form method="post" action=(to) {
                input type="hidden" name=(name) value=(write::base64(text.as_bytes()));
                @if let Some(state) = relay_state { input type="hidden" name="RelayState" value=(state); }
                button { "Go on" }
            }
            script { (maud::PreEscaped("document.forms[0].submit()")) }
        },
    )
}

pub(super) async fn sign_out(
    State(p): State<Provider>,
    headers: HeaderMap,
    RawQuery(query): RawQuery,
    Query(q): Query<Posted>,
) -> Response {
    if q.response.is_some() {
        return page(StatusCode::OK, "Signed out", html! { p { "You are signed out of the pilotage office and its services." } });
    }
    let text = q.request.as_deref().and_then(read::inflated);
    let Some(request) = text.as_deref().and_then(read::Request::read) else { return refused("There is no request.") };
    let Some(service) = p.service(&request.issuer) else { return refused("That service is not known here.") };
    let query = query.unwrap_or_default();
    if !service.certificates.is_empty() && !service.certificates.iter().any(|c| read::query_is_signed(&query, "SAMLRequest", c)) {
        return refused("The request is not signed by the service.");
    }
    if let Some(id) = authorize::session_cookie(&headers) {
        p.memory().sessions.remove(&id);
    }
    let to = service.sign_out.unwrap_or_default();
    let text = write::logout_response(&p, &to, &request.id);
    see_other(&write::redirect(&p, &to, "SAMLResponse", &text, q.relay_state.as_deref()))
}

/// `GET /saml/leave?service=…`: signs the person out here and at a service.
pub(super) async fn leave(State(p): State<Provider>, headers: HeaderMap, Query(q): Query<HashMap<String, String>>) -> Response {
    let Some(service) = q.get("service").and_then(|s| p.service(s)) else { return refused("That service is not known here.") };
    let Some(session) = authorize::session_of(&p, &headers) else { return refused("You are not signed in here.") };
    let Some(person) = p.0.register.person(&session.user).cloned() else { return refused("That person is gone.") };
    if let Some(id) = authorize::session_cookie(&headers) {
        p.memory().sessions.remove(&id);
    }
    let to = service.sign_out.unwrap_or_default();
    let text = write::logout_request(&p, &to, &person.sub, &session.index());
    see_other(&write::redirect(&p, &to, "SAMLRequest", &text, Some("left")))
}

/// A key that every provider of this process begins with: making one takes a second.
pub(super) fn shared_key() -> std::sync::Arc<Key> {
    static KEY: std::sync::OnceLock<std::sync::Arc<Key>> = std::sync::OnceLock::new();
    KEY.get_or_init(|| std::sync::Arc::new(Key::new())).clone()
}

impl Provider {
    /// Lets a service sign people in here; one of the same entity id is replaced.
    pub fn add_service(&self, service: Service) {
        self.memory().services.insert(service.entity_id.clone(), service);
    }

    fn service(&self, entity_id: &str) -> Option<Service> {
        self.memory().services.get(entity_id).cloned()
    }

    /// Exchanges pieces of what is written from now on, before it is signed; none puts an end to it.
    pub fn edit(&self, edits: &[(&str, &str)]) {
        self.memory().edits = edits.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect();
    }

    /// The last response sent, as XML.
    pub fn last_response(&self) -> Option<String> {
        self.memory().last_response.clone()
    }

    /// How it names itself in SAML.
    pub fn entity_id(&self) -> String {
        format!("{}/saml", self.0.issuer)
    }

    fn saml_address(&self, path: &str) -> String {
        format!("{}{path}", self.0.issuer)
    }

    /// Its metadata.
    pub fn saml_metadata(&self) -> String {
        write::metadata(self)
    }

    /// The certificate it signs with, in base64.
    pub fn certificate(&self) -> String {
        write::base64(&self.saml_key().certificate)
    }

    /// Signs with a new key. Metadata names the old one beside it.
    pub fn rotate_saml(&self) {
        let (mut key, mut former) =
            (self.0.saml_key.lock().unwrap_or_else(|e| e.into_inner()), self.0.former.lock().unwrap_or_else(|e| e.into_inner()));
        *former = Some(std::mem::replace(&mut *key, std::sync::Arc::new(Key::new())));
    }
}
