//! Passkeys between two requests: what was asked of the browser, sealed, bound to it and good once.

use axum::Json;
use axum::extract::{Form, State};
use axum::response::{IntoResponse, Response};
use http::StatusCode;
use passeur_core::address::neighbourhood;
use passeur_core::seal::Purpose;
use passeur_core::site::WayKind;
use passeur_engine::random::{new_uuid, random};
use passeur_engine::sessions;
use passeur_live::edition::Edition;
use passeur_store::{FactorRow, StoreError};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use uuid::Uuid;
use webauthn_rs::prelude::{
    CredentialID, DiscoverableAuthentication, DiscoverableKey, PasskeyAuthentication, PasskeyRegistration, PublicKeyCredential,
    RegisterPublicKeyCredential,
};

use super::{Kind, handle, may_change, new_row, open_passkey, seal_passkey, webauthn};
use crate::journey::Desk;
use crate::journey::flow::{self, Flow, cookie_digest};
use crate::pages;
use crate::problem::problem;
use crate::{LiveEdition, Visit, browser_binding, session};
use passeur_engine::Engine;

/// How long the browser may take, in minutes, and the longest sealed ceremony and answer that are looked at.
const ANSWER_MINUTES: i64 = 5;
const CEREMONY_MAX: usize = 24 * 1024;
const ANSWER_MAX: usize = 64 * 1024;

/// What the browser was asked for.
#[derive(Serialize, Deserialize)]
enum Challenge {
    Enrol(PasskeyRegistration),
    Prove(PasskeyAuthentication),
    Come(DiscoverableAuthentication),
}

#[derive(Serialize, Deserialize)]
struct Ceremony {
    asked: Challenge,
    /// Whose session it was; none for a way in.
    session: Option<Uuid>,
    browser: String,
    nonce: String,
    at: i64,
}

/// What the script sends to begin.
#[derive(Deserialize)]
pub struct Begin {
    what: String,
    #[serde(default)]
    flow: String,
}

fn no(detail: &str) -> Response {
    problem(StatusCode::BAD_REQUEST, "passkey", "No passkey", detail).into_response()
}

/// `POST /.passeur/passkey`: what to ask the browser for. The guard has checked where it comes from.
pub async fn begin(
    State(engine): State<Engine>,
    edition: Option<LiveEdition>,
    visit: Visit,
    Form(begin): Form<Begin>,
) -> Response {
    let Some(LiveEdition(edition)) = edition else { return no("Nothing is published yet.") };
    match asked(&engine, &edition, &visit, &begin).await {
        Ok(Ok((asked, session, options))) => {
            let (browser, set) = browser_binding(&engine, &visit.headers, &edition.site.address, "flow");
            let ceremony = Ceremony {
                asked,
                session,
                browser: cookie_digest(&browser),
                nonce: passeur_core::id::hex(&random::<16>()),
                at: engine.now().timestamp(),
            };
            let plain = serde_json::to_vec(&ceremony).unwrap_or_default();
            let sealed = engine.ring.seal_text(Purpose::Ceremony, random(), &plain);
            let mut response = Json(json!({"options": options, "ceremony": sealed})).into_response();
            pages::protect(response.headers_mut());
            pages::with_cookie(response, set.as_deref())
        }
        Ok(Err(why)) => no(why),
        Err(e) => pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    }
}

type Options = (Challenge, Option<Uuid>, Value);

async fn asked(
    engine: &Engine,
    edition: &Edition,
    visit: &Visit,
    begin: &Begin,
) -> Result<Result<Options, &'static str>, StoreError> {
    let site = &edition.site;
    let Some(ceremonies) = webauthn(site) else { return Ok(Err("Passkeys are not possible at this address.")) };
    let failed = "The ceremony could not begin.";
    let made = |done: Result<(Value, Challenge), ()>, session| match done {
        Ok((options, asked)) => Ok((asked, session, options)),
        Err(()) => Err(failed),
    };
    if begin.what == "come" {
        let flow = Flow::<flow::Form>::open(engine, &begin.flow);
        let is_way = flow.as_ref().and_then(|f| site.way(&f.leg.by.way)).is_some_and(|w| matches!(w.kind, WayKind::Passkey(_)));
        if !is_way {
            return Ok(Err("This form is not one of ours."));
        }
        let begun = ceremonies.start_discoverable_authentication();
        return Ok(made(begun.map(|(o, s)| (json_of(o), Challenge::Come(s))).map_err(drop), None));
    }
    let Some(s) = session::of_browser(engine, edition, &visit.headers).await? else { return Ok(Err("You are not signed in.")) };
    let Some(own) = site.factors.as_ref().filter(|f| f.passkeys) else { return Ok(Err("This site has no passkeys.")) };
    let rows = engine.store.factors(&s.row.person()).await?;
    let keys: Vec<_> = rows.iter().filter(|r| r.kind == Kind::Passkey.code()).filter_map(|r| open_passkey(engine, r)).collect();
    Ok(match begin.what.as_str() {
        "enrol" => {
            if may_change(own, &s.evidence, !rows.is_empty(), visit.facts.address, engine.now()).is_err() {
                return Ok(Err("Sign in once more first."));
            }
            let known: Vec<CredentialID> = keys.iter().map(|k| k.cred_id().clone()).collect();
            let id = handle(&s.row.provider, &s.row.subject);
            let begun = ceremonies.start_passkey_registration(id, &s.row.name, &s.row.name, Some(known));
            made(begun.map(|(o, s)| (discoverable(json_of(o)), Challenge::Enrol(s))).map_err(drop), Some(s.row.id))
        }
        "prove" if !keys.is_empty() => {
            let begun = ceremonies.start_passkey_authentication(&keys);
            made(begun.map(|(o, s)| (json_of(o), Challenge::Prove(s))).map_err(drop), Some(s.row.id))
        }
        _ => Err("There is no such passkey."),
    })
}

fn json_of(options: impl Serialize) -> Value {
    serde_json::to_value(options).unwrap_or_default()
}

/// Asks for a passkey that the browser finds by itself, so that it serves as a way in as well.
fn discoverable(mut options: Value) -> Value {
    options["publicKey"]["authenticatorSelection"]["residentKey"] = "required".into();
    options["publicKey"]["authenticatorSelection"]["requireResidentKey"] = true.into();
    options
}

/// Opens what was asked, once, in the browser that it was asked of.
async fn open(desk: Desk<'_>, sealed: &str) -> Result<Option<Ceremony>, StoreError> {
    let Desk { engine, visit, .. } = desk;
    let site = desk.site();
    let plain = engine.ring.open_text(Purpose::Ceremony, sealed, CEREMONY_MAX).ok();
    let Some(c) = plain.and_then(|p| serde_json::from_slice::<Ceremony>(&p).ok()) else { return Ok(None) };
    let age = engine.now().timestamp() - c.at;
    if !(-300..ANSWER_MINUTES * 60).contains(&age) || !visit.holds(&site.address, "flow", c.browser.as_bytes()) {
        return Ok(None);
    }
    let until = engine.now() + chrono::Duration::minutes(2 * ANSWER_MINUTES);
    let network = neighbourhood(visit.facts.address).to_string();
    let first = engine.store.use_flow(&passeur_core::id::sha256(c.nonce.as_bytes()), until, (&network, engine.now())).await?;
    Ok((first == Ok(true)).then_some(c))
}

fn read<T: serde::de::DeserializeOwned>(credential: &str) -> Option<T> {
    (credential.len() <= ANSWER_MAX).then(|| serde_json::from_str(credential).ok()).flatten()
}

/// A passkey that was enrolled, as a row to keep.
pub async fn enrolled(
    desk: Desk<'_>,
    s: &sessions::Session,
    sealed: &str,
    credential: &str,
    name: &str,
) -> Result<Option<FactorRow>, StoreError> {
    let (engine, site, visit) = (desk.engine, desk.site(), desk.visit);
    let Some(Ceremony { asked: Challenge::Enrol(state), session: Some(of), .. }) = open(desk, sealed).await? else {
        return Ok(None);
    };
    let Some(answer) = read::<RegisterPublicKeyCredential>(credential).filter(|_| of == s.row.id) else { return Ok(None) };
    let Some(ceremonies) = webauthn(site) else { return Ok(None) };
    let finish = move || ceremonies.finish_passkey_registration(&answer, &state).ok();
    let done = engine.workers.run(visit.facts.address, finish).await.ok().flatten();
    Ok(done.map(|key| {
        let id = new_uuid();
        let sealed = (id, seal_passkey(engine, id, &key));
        let credential = Some(key.cred_id().as_slice().to_vec());
        FactorRow { credential, ..new_row(engine, s, Kind::Passkey, name.to_owned(), sealed) }
    }))
}

/// The passkey of a session's person that was proven.
pub async fn proven(
    desk: Desk<'_>,
    s: &sessions::Session,
    sealed: &str,
    credential: &str,
) -> Result<Option<FactorRow>, StoreError> {
    let (engine, site, visit) = (desk.engine, desk.site(), desk.visit);
    let Some(Ceremony { asked: Challenge::Prove(state), session: Some(of), .. }) = open(desk, sealed).await? else {
        return Ok(None);
    };
    let Some(answer) = read::<PublicKeyCredential>(credential).filter(|_| of == s.row.id) else { return Ok(None) };
    let Some(ceremonies) = webauthn(site) else { return Ok(None) };
    let finish = move || ceremonies.finish_passkey_authentication(&answer, &state).ok();
    let Some(done) = engine.workers.run(visit.facts.address, finish).await.ok().flatten() else { return Ok(None) };
    let row = engine.store.passkey(done.cred_id().as_slice()).await?;
    let Some(row) = row.filter(|r| r.person() == s.row.person()) else { return Ok(None) };
    used(engine, row, &done).await
}

/// The passkey by which somebody comes in.
pub async fn came(desk: Desk<'_>, sealed: &str, credential: &str) -> Result<Result<FactorRow, &'static str>, StoreError> {
    let (engine, site, visit) = (desk.engine, desk.site(), desk.visit);
    let Some(Ceremony { asked: Challenge::Come(state), .. }) = open(desk, sealed).await? else {
        return Ok(Err("passkey-verification"));
    };
    let Some(answer) = read::<PublicKeyCredential>(credential) else { return Ok(Err("passkey-verification")) };
    let Some(ceremonies) = webauthn(site) else { return Ok(Err("passkey-verification")) };
    let Ok((user, id)) = ceremonies.identify_discoverable_authentication(&answer) else { return Ok(Err("passkey-verification")) };
    let Some(row) = engine.store.passkey(id).await?.filter(|r| handle(&r.provider, &r.subject) == user) else {
        return Ok(Err("passkey-unknown"));
    };
    let Some(key) = open_passkey(engine, &row) else { return Ok(Err("passkey-unknown")) };
    let finish = move || ceremonies.finish_discoverable_authentication_v2(&answer, state, DiscoverableKey::from(key)).ok();
    let Some(done) = engine.workers.run(visit.facts.address, finish).await.ok().flatten() else {
        return Ok(Err("passkey-verification"));
    };
    Ok(used(engine, row, &done).await?.ok_or("passkey-unknown"))
}

/// Notes the use, and what changed of the passkey by it. None where it was removed meanwhile.
async fn used(
    engine: &Engine,
    row: FactorRow,
    done: &webauthn_rs::prelude::AuthenticationResult,
) -> Result<Option<FactorRow>, StoreError> {
    let Some(mut key) = open_passkey(engine, &row) else { return Ok(None) };
    let changed = key.update_credential(done) == Some(true);
    let sealed = changed.then(|| seal_passkey(engine, row.id, &key));
    Ok(engine.store.use_passkey(row.id, sealed, engine.now()).await?.then_some(row))
}
