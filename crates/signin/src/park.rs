//! Answers that a provider's page posts. A browser sends no cookie of ours with a form of another site: the answer waits, sealed, under
//! an id that is good once, and the browser fetches it by a request of its own, with which its cookies come.
//!
//! Nothing waits but what names a flow that we sealed, or was found to be a provider's own word.

use axum::body::{Body, Bytes};
use axum::response::IntoResponse;
use chrono::Duration;
use http::StatusCode;
use passeur_core::address::neighbourhood;
use passeur_core::crossing::Outcome;
use passeur_core::id::Token;
use passeur_core::seal::Purpose;
use passeur_core::step;
use passeur_core::step::Step;
use passeur_engine::random::random;
use passeur_store::NewParked;

use crate::journey::{Desk, Done, Stop, Why};
use crate::pages::redirect;

/// How long an answer waits, in minutes, and how long its form may take to arrive, in seconds.
const WAITS: i64 = 2;
const ARRIVES: u64 = 15;

fn turned_away<'a>(desk: Desk<'a>, status: StatusCode, step: Step) -> Box<Stop<'a>> {
    desk.stop(Why::Nobody { outcome: Outcome::CheckFailed, status }, step)
}

/// What a form posts, up to `max` bytes.
///
/// # Errors
/// It is larger, or does not arrive.
pub async fn posted(desk: Desk<'_>, body: Body, max: usize) -> Done<'_, Bytes> {
    let arrived = tokio::time::timeout(std::time::Duration::from_secs(ARRIVES), axum::body::to_bytes(body, max)).await;
    match arrived {
        Ok(Ok(bytes)) => Ok(bytes),
        Ok(Err(_)) => {
            let step = step!(AnswerTooLarge { limit: max as i64 });
            Err(turned_away(desk, StatusCode::PAYLOAD_TOO_LARGE, step))
        }
        Err(_) => Err(desk.stop_plainly(StatusCode::REQUEST_TIMEOUT.into_response())),
    }
}

/// Keeps what was posted, the answer to `flow`, and sends the browser to fetch it at the same address.
pub async fn park<'a>(desk: Desk<'a>, address: &str, form: &[u8], flow: [u8; 32]) -> Done<'a> {
    let engine = desk.engine;
    let token = engine.new_token();
    let plain = [address.as_bytes(), b"\n", form].concat();
    let row = NewParked {
        digest: token.digest().to_vec(),
        network: neighbourhood(desk.visit.facts.address).to_string(),
        sealed: engine.ring.seal(Purpose::Parked, &token.digest(), random(), &plain),
        expires_at: engine.now() + Duration::minutes(WAITS),
        flow: flow.to_vec(),
    };
    match engine.store.park(row, engine.now()).await {
        Ok(Ok(())) => Ok(redirect(&format!("{address}?parked={}", token.reveal()), None)),
        Ok(Err(limit)) => {
            let step = step!(AnswersFull { limit });
            Err(turned_away(desk, StatusCode::SERVICE_UNAVAILABLE, step))
        }
        Err(e) => Err(desk.stop_plainly(e)),
    }
}

/// What was posted at this address and waits under the id in the address; none where no id stands there. It is used up, whatever
/// else turns out to be wrong with it.
///
/// # Errors
/// There is no such message any more.
pub async fn fetch<'a>(desk: Desk<'a>, address: &str) -> Done<'a, Option<String>> {
    let engine = desk.engine;
    let Some(id) = desk.visit.parameter("parked") else { return Ok(None) };
    let token = Token::parse(&id);
    let taken = match &token {
        Some(t) => engine.store.take_parked(&t.digest(), engine.now()).await,
        None => Ok(None),
    };
    let sealed = taken.map_err(|e| desk.stop_plainly(e))?;
    let opened = token.zip(sealed).and_then(|(t, sealed)| engine.ring.open(Purpose::Parked, &t.digest(), &sealed).ok());
    let text = opened.and_then(|plain| String::from_utf8(plain).ok());
    let form = text.as_deref().and_then(|t| t.split_once('\n')).filter(|(at, _)| *at == address).map(|(_, form)| form.to_owned());
    match form {
        Some(form) => Ok(Some(form)),
        None => Err(desk.stop(Why::FAILED_CHECK, step!(AnswerGone))),
    }
}
