//! Answers that a provider's page posts. A browser sends no cookie of ours with a form of another site, so nothing is looked at
//! but the size: the answer waits, sealed, under an id that is good once, and the browser fetches it by a request of its own,
//! with which its cookies come.

use axum::body::Body;
use axum::response::{IntoResponse, Response};
use chrono::Duration;
use http::StatusCode;
use passeur_core::address::neighbourhood;
use passeur_core::crossing::Outcome;
use passeur_core::id::Token;
use passeur_core::seal::Purpose;
use passeur_core::step::{Step, StepCode};
use passeur_gateway::shared::Edition;
use passeur_store::NewParked;

use super::Visit;
use super::flow::{failed_check, refuse};
use crate::app::{App, random};
use crate::attempt::Attempt;
use crate::pages::{self, redirect};

/// How long an answer waits, in minutes.
const WAITS: i64 = 2;

/// Keeps what was posted and sends the browser to fetch it at the same address.
pub async fn park(app: &App, edition: &Edition, visit: &Visit, address: &str, body: Body, max: usize) -> Response {
    let turned_away = |status, step: Step| {
        let mut attempt = Attempt::begin(app, "sign-in", &visit.facts);
        attempt.step(|| step);
        let id = attempt.record_anonymous(Outcome::CheckFailed);
        pages::refused(&edition.site, visit.facts.lang, status, &pages::Refused::of_step(&attempt, id, None)).into_response()
    };
    let Ok(bytes) = axum::body::to_bytes(body, max).await else {
        let step = Step::new(StepCode::AnswerTooLarge).with("limit", max as i64);
        return turned_away(StatusCode::PAYLOAD_TOO_LARGE, step);
    };
    let token = app.new_token();
    let plain = [address.as_bytes(), b"\n", &bytes].concat();
    let row = NewParked {
        digest: token.digest().to_vec(),
        network: neighbourhood(visit.facts.address).to_string(),
        sealed: app.ring.seal(Purpose::Parked, &token.digest(), random(), &plain),
        expires_at: app.now() + Duration::minutes(WAITS),
    };
    match app.store.park(row, app.now()).await {
        Ok(Ok(())) => redirect(&format!("{address}?parked={}", token.reveal()), None),
        Ok(Err(limit)) => turned_away(StatusCode::SERVICE_UNAVAILABLE, Step::new(StepCode::AnswersFull).with("limit", limit)),
        Err(e) => pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    }
}

/// What was posted at this address and waits under the id in the address; none where no id stands there. It is used up, whatever
/// else turns out to be wrong with it.
///
/// # Errors
/// The answer to the browser, where there is no such message any more.
pub async fn fetch(app: &App, edition: &Edition, visit: &Visit, address: &str) -> Result<Option<String>, Response> {
    let Some(id) = visit.parameter("parked") else { return Ok(None) };
    let token = Token::parse(&id);
    let taken = match &token {
        Some(t) => app.store.take_parked(&t.digest(), app.now()).await,
        None => Ok(None),
    };
    let sealed = taken.map_err(|e| pages::store_failed(&edition.site, visit.facts.lang, &e).into_response())?;
    let opened = token.zip(sealed).and_then(|(t, sealed)| app.ring.open(Purpose::Parked, &t.digest(), &sealed).ok());
    let text = opened.and_then(|plain| String::from_utf8(plain).ok());
    let form = text.as_deref().and_then(|t| t.split_once('\n')).filter(|(at, _)| *at == address).map(|(_, form)| form.to_owned());
    match form {
        Some(form) => Ok(Some(form)),
        None => {
            let mut attempt = Attempt::begin(app, "sign-in", &visit.facts);
            attempt.step(|| Step::new(StepCode::AnswerGone));
            Err(refuse(edition, attempt, failed_check()).await)
        }
    }
}
