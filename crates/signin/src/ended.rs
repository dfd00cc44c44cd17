//! An OpenID Connect provider says that it ended a session: by its own message (Back-Channel Logout 1.0), or through the browser
//! (Front-Channel Logout 1.0). No cookie is asked: what counts is the signature, or the provider's session that nobody else knows.

use std::net::IpAddr;
use std::sync::Arc;

use axum::extract::{Form, Path, State};
use axum::response::{IntoResponse, Response};
use http::{HeaderValue, StatusCode, header};
use passeur_core::address::neighbourhood;
use passeur_core::crossing::Outcome;
use passeur_core::id::sha256;
use passeur_core::site::Place;
use passeur_core::step;
use passeur_engine::attempt::Attempt;
use passeur_engine::providers::oidc::OidcLink;
use passeur_engine::{ending, tries};
use passeur_live::edition::Edition;
use passeur_protocols::oidc::{ExpectedLogout, LogoutToken, validate_logout};
use passeur_store::StoreError;
use serde::Deserialize;
use url::Url;
use uuid::Uuid;

use super::{LiveEdition, Visit};
use crate::pages;
use passeur_engine::Engine;

/// The longest logout token that is looked at.
const TOKEN_MAX: usize = 16 * 1024;

/// What is counted of a network that names sessions of a provider which nobody has here, and how often it may within the window of
/// [`passeur_engine::tries`]: people sign out who have no session here any more, and many of them may share a network.
const GUESSES: &str = "front-channel";
const GUESSES_MAX: i32 = 200;

/// What a provider posts.
#[derive(Default, Deserialize)]
pub struct LogoutForm {
    #[serde(default)]
    logout_token: String,
}

fn answered(status: StatusCode, body: Option<serde_json::Value>) -> Response {
    let mut response = match body {
        Some(body) => (status, axum::Json(body)).into_response(),
        None => status.into_response(),
    };
    response.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    response
}

/// `POST /.passeur/oidc/{provider}/back-channel`. Answers once every live node has acknowledged.
pub async fn back_channel(
    State(engine): State<Engine>,
    edition: Option<LiveEdition>,
    Path(provider): Path<String>,
    visit: Visit,
    Form(told): Form<LogoutForm>,
) -> Response {
    let link = engine.provider(&provider).and_then(|l| l.oidc());
    let (Some(_), Some(link)) = (edition, link) else { return StatusCode::NOT_FOUND.into_response() };
    let mut attempt = Attempt::begin(&engine, Place::SignIn, &visit.facts);
    attempt.provider = Some(provider.clone());
    let refused = |mut attempt: Attempt, how: String| async move {
        attempt.step(|| step!(SignOutRefused { provider: provider.as_str(), how: how.as_str() }));
        // In the store as every message of a provider, up to a number a minute.
        match attempt.record_ended(Outcome::CheckFailed).await {
            Ok(_) => {
                answered(StatusCode::BAD_REQUEST, Some(serde_json::json!({"error": "invalid_request", "error_description": how})))
            }
            Err(_) => answered(StatusCode::SERVICE_UNAVAILABLE, None),
        }
    };
    let token = match check(&engine, &link, &told.logout_token, visit.facts.address).await {
        Ok(token) => token,
        Err(how) => return refused(attempt, how).await,
    };
    let id = sha256(format!("logout {} {}", link.provider.issuer, token.id).as_bytes());
    match engine.store.use_once(&id, token.remember_until).await {
        Ok(true) => {}
        Ok(false) => return refused(attempt, "it was used before".to_owned()).await,
        Err(_) => return answered(StatusCode::SERVICE_UNAVAILABLE, None),
    }
    match end(&engine, &mut attempt, &link, token.subject.as_deref(), token.session.as_deref()).await {
        Ok(true) => answered(StatusCode::OK, None),
        // 2.8: it did not end everywhere, so that the provider may say so.
        Ok(false) => answered(StatusCode::GATEWAY_TIMEOUT, None),
        Err(_) => answered(StatusCode::SERVICE_UNAVAILABLE, None),
    }
}

async fn check(engine: &Engine, link: &OidcLink, token: &str, address: IpAddr) -> Result<LogoutToken, String> {
    if token.is_empty() || token.len() > TOKEN_MAX {
        return Err("no logout_token, or one that is too long".to_owned());
    }
    let metadata = link.metadata().await.map_err(|e| e.to_string())?;
    let wanted = Arc::new((metadata.issuer.clone(), link.client.id.clone(), engine.now(), link.provider.skew));
    let mut keys = link.keys(&metadata).await.map_err(|e| e.to_string())?;
    let checked = loop {
        let (token, wanted, set) = (token.to_owned(), wanted.clone(), keys.set.clone());
        // Anybody can send one: the signature is checked elsewhere.
        let check = move || {
            let (issuer, client_id, now, skew) = &*wanted;
            validate_logout(&token, &set, &ExpectedLogout { issuer, client_id, now: *now, skew: *skew })
        };
        let checked = engine.workers.run(address, check).await.map_err(|e| e.to_string())?;
        if !link.once_more(&metadata, &mut keys, &checked).await {
            break checked;
        }
    };
    checked.map_err(|e| format!("{}: {}, wanted {}", e.check, e.seen, e.wanted))
}

/// Ends sessions because a provider ended them, and tells it. Ended first and recorded second, by the caller: a store that fails in
/// between leaves nobody signed in.
pub async fn end_by_provider(
    engine: &Engine,
    attempt: &mut Attempt,
    provider: &str,
    ids: &[Uuid],
) -> Result<ending::Ended, StoreError> {
    let ended = ending::end(engine, ids, "provider", None).await?;
    attempt.step(|| step!(ProviderSignedOut { provider, sessions: ended.sessions.len() as i64 }));
    Ok(ended)
}

/// Ends what the provider ended. Whether every live node knows.
async fn end(
    engine: &Engine,
    attempt: &mut Attempt,
    link: &OidcLink,
    subject: Option<&str>,
    session: Option<&str>,
) -> Result<bool, StoreError> {
    let provider = link.provider.name.as_str();
    let ids = engine.store.sessions_ended_at(&link.authority(), subject, session).await?;
    let ended = end_by_provider(engine, attempt, provider, &ids).await?;
    if ended.sessions.is_empty() {
        attempt.record_anonymous(Outcome::SignedOut);
    } else {
        attempt.record(Outcome::SignedOut).await?;
    }
    Ok(ended.behind.is_empty())
}

/// `GET /.passeur/oidc/{provider}/front-channel?iss=…&sid=…`, in a frame of the provider's page. Without its session there is
/// nothing to go by: a frame of another site gets no cookie of ours.
pub async fn front_channel(
    State(engine): State<Engine>,
    edition: Option<LiveEdition>,
    Path(provider): Path<String>,
    visit: Visit,
) -> Response {
    let link = engine.provider(&provider).and_then(|l| l.oidc());
    let (Some(LiveEdition(edition)), Some(link)) = (edition, link) else { return StatusCode::NOT_FOUND.into_response() };
    let session = visit.parameter("sid").filter(|s| !s.is_empty() && s.len() <= 255);
    let known = visit.parameter("iss").as_deref() == Some(link.provider.issuer.as_str());
    let mut attempt = Attempt::begin(&engine, Place::SignIn, &visit.facts);
    attempt.provider = Some(provider.clone());
    let (Some(session), true) = (session, known) else {
        let how = "iss and sid must stand in the address, and iss be the provider's";
        attempt.step(|| step!(SignOutRefused { provider: provider.as_str(), how }));
        attempt.record_anonymous(Outcome::CheckFailed);
        return framed(&edition, &link, StatusCode::BAD_REQUEST);
    };
    let done = async {
        // Whoever guesses sessions of the provider may not guess for long. One that was right does not count.
        let place = neighbourhood(visit.facts.address).to_string();
        if !tries::count_plain(&engine, &mut attempt, GUESSES, &place, GUESSES_MAX).await? {
            attempt.record_anonymous(Outcome::CheckFailed);
            return Ok(StatusCode::TOO_MANY_REQUESTS);
        }
        let before = engine.store.sessions_ended_at(&link.authority(), None, Some(&session)).await?.len();
        end(&engine, &mut attempt, &link, None, Some(&session)).await?;
        if before > 0 {
            tries::uncount_plain(&engine, GUESSES, &place).await?;
        }
        Ok::<_, StoreError>(StatusCode::OK)
    };
    match done.await {
        Ok(status) => framed(&edition, &link, status),
        Err(e) => pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    }
}

/// An empty page that the provider alone may frame.
fn framed(edition: &Edition, link: &OidcLink, status: StatusCode) -> Response {
    let origin = Url::parse(&link.provider.issuer).map(|u| u.origin().ascii_serialization()).unwrap_or_default();
    let title = &edition.site.name;
    let markup = maud::html! { (maud::DOCTYPE) html { head { title { (title) } } body {} } };
    let mut response = (status, axum::response::Html(markup.into_string())).into_response();
    pages::protect(response.headers_mut());
    let headers = response.headers_mut();
    headers.remove(header::X_FRAME_OPTIONS);
    if let Ok(value) = HeaderValue::from_str(&format!("default-src 'none'; base-uri 'none'; frame-ancestors {origin}")) {
        headers.insert(header::CONTENT_SECURITY_POLICY, value);
    }
    response
}
