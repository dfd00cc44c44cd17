//! A form that a sign-in interrupts: kept sealed, and offered again by a button after the sign-in. It is never sent again
//! alone: what a person entered before they were known is theirs to send.

use std::net::IpAddr;

use axum::response::{IntoResponse, Response};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD_NO_PAD;
use bytes::Bytes;
use chrono::Duration;
use http::StatusCode;
use passeur_core::address::neighbourhood;
use passeur_core::id::Token;
use passeur_core::seal::Purpose;
use passeur_core::site::Gate;
use passeur_engine::random::random;
use passeur_live::edition::Edition;
use passeur_store::{KeptForm, StoreError};
use serde::{Deserialize, Serialize};

use super::Visit;
use crate::journey::flow::cookie_digest;
use crate::pages;
use passeur_engine::Engine;

/// How long a form is kept, in minutes: as long as a sign-in may take.
const KEPT_FOR: i64 = 30;
/// The most fields of a form that is kept.
const FIELDS_MAX: usize = 500;

#[derive(Serialize, Deserialize)]
struct Form {
    target: String,
    body: String,
}

/// Keeps a form for the browser with this binding. None when it cannot be offered again as it was: not UTF-8, too many
/// fields, or too many forms kept on this site.
pub async fn keep(
    engine: &Engine,
    gate: &Gate,
    target: &str,
    body: &Bytes,
    binding: &str,
    address: IpAddr,
) -> Result<Option<Token>, StoreError> {
    if fields(body).is_none() {
        return Ok(None);
    }
    let token = engine.new_token();
    let form = Form { target: target.to_owned(), body: STANDARD_NO_PAD.encode(body) };
    let plain = serde_json::to_vec(&form).map_err(|e| StoreError::Query(e.to_string()))?;
    let kept = KeptForm {
        digest: token.digest().to_vec(),
        gate: gate.name.clone(),
        binding: cookie_digest(binding).into_bytes(),
        sealed: engine.ring.seal(Purpose::Form, &token.digest(), random(), &plain),
        expires_at: engine.now() + Duration::minutes(KEPT_FOR),
        network: neighbourhood(address).to_string(),
    };
    Ok(engine.store.keep_form(kept, engine.now()).await?.then_some(token))
}

/// The fields of a form (WHATWG URL 5.1), when every byte of it is text.
fn fields(body: &[u8]) -> Option<Vec<(String, String)>> {
    let out: Vec<(String, String)> = url::form_urlencoded::parse(body).into_owned().collect();
    // The parser puts a mark where bytes are no text: such a form could not be sent again as it was.
    let text = out.iter().all(|(n, v)| !n.contains('\u{fffd}') && !v.contains('\u{fffd}'));
    (text && !out.is_empty() && out.len() <= FIELDS_MAX).then_some(out)
}

/// Where a kept form is offered again, on the gate's own host.
pub fn path(token: &Token) -> String {
    format!("/.passeur/form?id={}", token.reveal())
}

/// `GET /.passeur/form?id=…` on a gate's host: the form, with a button.
pub async fn offer(engine: &Engine, edition: &Edition, gate: &Gate, visit: &Visit) -> Response {
    let lang = visit.facts.lang;
    let taken = match take(engine, gate, visit).await {
        Ok(t) => t,
        Err(e) => return pages::store_failed(&edition.site, lang, &e).into_response(),
    };
    match taken {
        Some((target, fields)) => pages::form_again(&edition.site, lang, gate, &target, &fields).into_response(),
        None => pages::form_gone(&edition.site, lang, gate, StatusCode::GONE).into_response(),
    }
}

async fn take(engine: &Engine, gate: &Gate, visit: &Visit) -> Result<Option<(String, Vec<(String, String)>)>, StoreError> {
    let Some(token) = visit.parameter("id").as_deref().and_then(Token::parse) else { return Ok(None) };
    let Some(kept) = engine.store.take_form(&token.digest()).await? else { return Ok(None) };
    if !visit.holds(&gate.address, "binding", &kept.binding) || kept.gate != gate.name || kept.expires_at <= engine.now() {
        return Ok(None);
    }
    let opened = engine.ring.open(Purpose::Form, &token.digest(), &kept.sealed).ok();
    let form = opened.and_then(|plain| serde_json::from_slice::<Form>(&plain).ok());
    Ok(form.and_then(|f| Some((f.target, fields(&STANDARD_NO_PAD.decode(f.body).ok()?)?))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_form_that_can_be_sent_again_as_it_was_is_kept() {
        let pairs = |b: &[u8]| fields(b).map(|f| f.into_iter().map(|(n, v)| format!("{n}={v}")).collect::<Vec<_>>().join("|"));
        assert_eq!(pairs(b"berth=Quai+%C3%A9&berth=2&empty=").as_deref(), Some("berth=Quai é|berth=2|empty="));
        assert_eq!(pairs(b"a=%E9"), None, "latin-1");
        assert_eq!(pairs(b""), None);
        assert_eq!(pairs("a=1&".repeat(FIELDS_MAX + 1).as_bytes()), None);
    }
}
