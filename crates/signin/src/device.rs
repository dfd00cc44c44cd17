//! Letting a command line in (OAuth 2.0 Device Authorization Grant, RFC 8628): it shows a short code, an engineer types it on a
//! page and says how far it may go, and it fetches an API token of theirs.

use axum::Json;
use axum::extract::{Form, State};
use axum::response::{IntoResponse, Response};
use chrono::Duration;
use http::{StatusCode, header};
use passeur_core::id::Token;
use passeur_core::role::Role;
use passeur_core::site::Place;
use passeur_engine::attempt::Attempt;
use passeur_engine::random::random;
use passeur_engine::{look_up, short_code, tries};
use passeur_live::edition::Edition;
use passeur_store::{DeviceRow, NewToken, StoreError};
use serde::Deserialize;
use serde_json::json;

use super::session;
use super::{LiveEdition, Visit};
use crate::journey::{Destination, fresh};
use crate::pages::{self, DevicePage, DeviceSaid, redirect};
use passeur_engine::Engine;
use passeur_engine::console;
use passeur_engine::sessions::Session;

/// How long a code is good, how often it may be asked about, and how long the token lasts.
const CODE_MINUTES: i64 = 10;
const INTERVAL_S: i64 = 2;
const TOKEN_HOURS: i64 = 12;
/// Short codes that one engineer may try, and devices that one place may begin, within the window of [`passeur_engine::tries`].
const TRIES: i32 = 10;
const BEGUN: i32 = 30;
/// What its codes are digested for.
const DEVICE_CODE: &str = "device code";
/// An error of the token endpoint (RFC 6749 5.2).
fn error(code: &str, words: &str) -> Response {
    (StatusCode::BAD_REQUEST, [(header::CACHE_CONTROL, "no-store")], Json(json!({"error": code, "error_description": words})))
        .into_response()
}

/// `POST /.passeur/device/authorize`: a command line begins to wait. No cookie counts here.
pub async fn begin(State(engine): State<Engine>, edition: Option<LiveEdition>, visit: Visit) -> Response {
    let Some(LiveEdition(edition)) = edition else { return error("temporarily_unavailable", "Nothing is published yet.") };
    let place = passeur_core::address::neighbourhood(visit.facts.address).to_string();
    let mut attempt = Attempt::begin(&engine, Place::Console, &visit.facts);
    let (device, code, now) = (engine.new_token(), short_code::new(8), engine.now());
    let row = DeviceRow {
        digest: device.digest().to_vec(),
        user_code: short_code::macs(&engine, DEVICE_CODE, &code).first().map(|m| m.to_vec()).unwrap_or_default(),
        address: visit.facts.address.to_string(),
        agent: visit.facts.agent.clone(),
        created_at: now,
        expires_at: now + Duration::minutes(CODE_MINUTES),
        polled_at: None,
        state: "pending".into(),
        role: None,
        owner_provider: None,
        owner_subject: None,
        owner_name: None,
        network: place.clone(),
        owner_authority: None,
    };
    let done = async {
        let within = tries::count_plain(&engine, &mut attempt, "device", &place, BEGUN).await?;
        Ok::<_, StoreError>(within && engine.store.add_device(row).await?)
    };
    match done.await {
        Ok(true) => {
            let shown = short_code::shown(&code);
            let page = edition.site.address.at("/.passeur/device");
            let body = json!({
                "device_code": device.reveal(), "user_code": shown, "verification_uri": page,
                "verification_uri_complete": format!("{page}?user_code={shown}"),
                "expires_in": CODE_MINUTES * 60, "interval": INTERVAL_S,
            });
            ([(header::CACHE_CONTROL, "no-store")], Json(body)).into_response()
        }
        Ok(false) => error("slow_down", "Too many wait already. Try again in a quarter of an hour."),
        Err(e) => pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    }
}

/// What a command line asks with.
#[derive(Deserialize)]
pub struct Poll {
    #[serde(default)]
    grant_type: String,
    #[serde(default)]
    device_code: String,
}

/// `POST /.passeur/device/token`: whether it was let in. No cookie counts here.
pub async fn poll(State(engine): State<Engine>, Form(poll): Form<Poll>) -> Response {
    if poll.grant_type != "urn:ietf:params:oauth:grant-type:device_code" {
        return error("unsupported_grant_type", "Only device codes are taken here.");
    }
    let Some(device) = Token::parse(&poll.device_code) else { return error("invalid_grant", "No such code.") };
    match answered(&engine, &device.digest()).await {
        Ok(response) => response,
        Err(e) => {
            tracing::error!(error = %e, "a device could not be answered");
            error("temporarily_unavailable", "The store does not answer.")
        }
    }
}

async fn answered(engine: &Engine, digest: &[u8; 32]) -> Result<Response, StoreError> {
    let now = engine.now();
    let Some(row) = engine.store.poll_device(digest, now).await? else { return Ok(error("invalid_grant", "No such code.")) };
    if now >= row.expires_at {
        return Ok(error("expired_token", "Nobody answered in time."));
    }
    match row.state.as_str() {
        "denied" => return Ok(error("access_denied", "The engineer said no.")),
        "approved" => {}
        _ if row.polled_at.is_some_and(|at| now < at + Duration::seconds(INTERVAL_S) - Duration::milliseconds(500)) => {
            return Ok(error("slow_down", "Ask less often."));
        }
        _ => return Ok(error("authorization_pending", "Nobody has answered yet.")),
    }
    let (token, role) = (engine.new_token(), row.role.unwrap_or_default());
    let owner = row.owner_name.clone().unwrap_or_default();
    // A name of its own for each: names of good tokens are unique.
    let name = format!("command line, {} {}", now.format("%Y-%m-%d %H:%M:%S"), passeur_core::id::hex(&random::<2>()));
    let made = NewToken {
        digest: token.digest().to_vec(),
        name: name.clone(),
        role: role.clone(),
        created_at: now,
        expires_at: Some(now + Duration::hours(TOKEN_HOURS)),
        owner_provider: row.owner_provider,
        owner_subject: row.owner_subject,
        owner_name: row.owner_name,
        areas: None,
        owner_authority: row.owner_authority,
    };
    let personal = passeur_core::acts::Personal { who: owner, by: "session".into(), people: vec![] };
    let about = json!({"token": name, "role": role, "device": row.address});
    if !engine.store.let_in(digest, made, engine.act("let a command line in", about, personal)).await? {
        return Ok(error("invalid_grant", "It was fetched already, or what its engineer has was taken away."));
    }
    let body = json!({"access_token": token.reveal(), "token_type": "Bearer", "expires_in": TOKEN_HOURS * 3600});
    Ok(([(header::CACHE_CONTROL, "no-store")], Json(body)).into_response())
}

/// What the page's forms send.
#[derive(Deserialize)]
pub struct Sent {
    #[serde(default)]
    user_code: String,
    #[serde(default)]
    answer: String,
    #[serde(default)]
    role: String,
}

/// `GET /.passeur/device`.
pub async fn show(State(engine): State<Engine>, edition: LiveEdition, visit: Visit) -> Response {
    let code = visit.parameter("user_code").unwrap_or_default();
    let sent = Sent { user_code: code, answer: String::new(), role: String::new() };
    page(&engine, edition, &visit, sent, false).await
}

/// `POST /.passeur/device`. The guard has checked where it comes from.
pub async fn answer(State(engine): State<Engine>, edition: LiveEdition, visit: Visit, Form(sent): Form<Sent>) -> Response {
    page(&engine, edition, &visit, sent, true).await
}

async fn page(engine: &Engine, LiveEdition(edition): LiveEdition, visit: &Visit, sent: Sent, posted: bool) -> Response {
    let done = async {
        let Some(mut s) = session::of_browser(engine, &edition, &visit.headers).await? else {
            let to = Destination::Device { code: sent.user_code.clone() };
            return Ok(redirect(&to.onward(engine), None));
        };
        let role = role(engine, &edition, &mut s, visit).await;
        let (site, lang) = (&edition.site, visit.facts.lang);
        let show = |said: DeviceSaid<'_>| DevicePage { site, lang, who: &s.row.name, role, said }.page().into_response();
        if role.is_none() {
            return Ok(show(DeviceSaid::NoEngineer));
        }
        if !posted {
            return Ok(show(DeviceSaid::Ask { code: &sent.user_code }));
        }
        let mut attempt = Attempt::begin(engine, Place::Console, &visit.facts);
        let account = format!("{}\0{}", s.row.provider, s.row.subject);
        if !tries::count_plain(engine, &mut attempt, "device code", &account, TRIES).await? {
            return Ok(show(DeviceSaid::TooMany));
        }
        let Some(mut row) =
            engine.store.device_waiting(&short_code::macs(engine, DEVICE_CODE, &sent.user_code), engine.now()).await?
        else {
            return Ok(show(DeviceSaid::NoSuch { code: &sent.user_code }));
        };
        tries::uncount_plain(engine, "device code", &account).await?;
        // What is let in outlives the session.
        if sent.answer != "no" && !fresh::is_fresh(&s.evidence, engine.now()) {
            let again = Destination::Device { code: sent.user_code.clone() }.onward(engine);
            return Ok(show(DeviceSaid::SignIn { again: &again }));
        }
        let wanted = Role::parse(&sent.role).filter(|r| Some(*r) <= role);
        match (sent.answer.as_str(), wanted) {
            ("yes", Some(wanted)) => {
                row.state = "approved".into();
                row.role = Some(wanted.word().to_owned());
                row.owner_provider = Some(s.row.provider.clone());
                row.owner_subject = Some(s.row.subject.clone());
                row.owner_name = Some(s.row.name.clone());
                row.owner_authority = Some(s.row.authority.clone());
            }
            ("no", _) => row.state = "denied".into(),
            _ => return Ok(show(DeviceSaid::Confirm { code: &sent.user_code, row: &row })),
        }
        let first = engine.store.answer_device(&row, &s.row.person(), s.row.id).await?;
        Ok(show(if first && row.state == "approved" { DeviceSaid::LetIn } else { DeviceSaid::Denied }))
    };
    done.await.unwrap_or_else(|e: StoreError| pages::store_failed(&edition.site, visit.facts.lang, &e).into_response())
}

/// How far somebody may go in the console.
async fn role(engine: &Engine, edition: &Edition, s: &mut Session, visit: &Visit) -> Option<Role> {
    let access = edition.site.engineers.as_ref()?;
    look_up::fill(engine, &edition.site, access, &mut s.evidence).await;
    console::role(engine, &edition.site, &s.evidence, Some(visit.facts.address))
}
