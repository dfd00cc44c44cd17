//! Proving a factor of our own because a rule asks for it, or before factors are changed.

use axum::extract::{Form, State};
use axum::response::{IntoResponse, Response};
use chrono::Duration;
use http::StatusCode;
use passeur_core::crossing::Outcome;
use passeur_core::site::{PASSKEY_PROVES, RECOVERY_PROVES, TOTP_PROVES};
use passeur_core::step::{Param, Step, StepCode};
use passeur_engine::attempt::Attempt;
use passeur_engine::tries;
use passeur_engine::tries::slow;
use passeur_live::edition::Edition;
use passeur_store::{FactorRow, StoreError};
use serde::Deserialize;

use super::{Kind, ceremony, check_code, check_recovery, note};
use crate::ask::{Flow, Manner, Purposed, SEALED_MAX};
use crate::local::{self, after_form, limits};
use crate::pages::{self, FactorForm, Said};
use crate::session;
use crate::{LiveEdition, Visit, browser_binding, choose, flow};
use passeur_engine::Engine;
use passeur_engine::sessions::Session;

/// How long the form may stay open, and how often a code may be tried within the window of [`passeur_engine::tries`].
const OPEN_MINUTES: i64 = 15;
const TRIES: i32 = 5;

/// What the form sends.
#[derive(Deserialize)]
pub struct Entered {
    flow: String,
    #[serde(default)]
    code: String,
    #[serde(default)]
    ceremony: String,
    #[serde(default)]
    credential: String,
}

/// Which kinds would do, of those that somebody has.
fn kinds(rows: &[FactorRow], wanted: &[String], recovery: i64) -> Vec<Kind> {
    let does = |proves: &[&str]| wanted.is_empty() || proves.iter().any(|p| wanted.iter().any(|w| w == p));
    let has = |k: Kind| rows.iter().any(|r| r.kind == k.code());
    let mut out = vec![];
    if has(Kind::Totp) && does(&TOTP_PROVES) {
        out.push(Kind::Totp);
    }
    if has(Kind::Passkey) && does(&PASSKEY_PROVES) {
        out.push(Kind::Passkey);
    }
    if recovery > 0 && does(&RECOVERY_PROVES) {
        out.push(Kind::Recovery);
    }
    out
}

/// Asks for a factor, on the way to somewhere. `wanted` are methods of which one is needed.
pub async fn ask(
    engine: &Engine,
    edition: &Edition,
    mut attempt: Attempt,
    visit: &Visit,
    s: &Session,
    wanted: &[String],
    to: Purposed,
) -> Response {
    let site = &edition.site;
    let lang = visit.facts.lang;
    let found = async {
        let rows = engine.store.factors(&s.row.person()).await?;
        let guessed = slow::is_guessed(engine, "factor", &account(s)).await?;
        Ok::<_, StoreError>((rows, engine.store.recovery_codes_left(&s.row.person()).await?, guessed))
    };
    let (rows, recovery, guessed) = match found.await {
        Ok(found) => found,
        Err(e) => return pages::store_failed(site, lang, &e).into_response(),
    };
    let kinds = kinds(&rows, wanted, recovery);
    if kinds.is_empty() {
        attempt.step(|| Step::new(StepCode::FactorNone).with("wanted", wanted.to_vec()));
        if let Err(e) = attempt.record(Outcome::Refused).await {
            return pages::store_failed(site, lang, &e).into_response();
        }
        let mut refused = pages::Refused::of_step(&attempt, attempt.id, None);
        refused.enrol = true;
        return pages::refused(site, lang, StatusCode::FORBIDDEN, &refused).into_response();
    }
    let (browser, set) = browser_binding(engine, &visit.headers, &site.address, "flow");
    let manner = Manner { factors: Some(wanted.to_vec()), ..Manner::default() };
    let mut flow = Flow::begin(engine, &attempt, &s.row.provider, &browser, to, manner);
    let sealed = flow.seal(engine, SEALED_MAX);
    let said = if guessed { Said::TwoCodes { wrong: None } } else { Said::Nothing };
    let mut response = form(edition, visit, &flow, &sealed, &kinds, said).into_response();
    if let Some(cookie) = set {
        pages::set_cookie(&mut response, &cookie);
    }
    response
}

/// The account for which tries are counted.
fn account(s: &Session) -> String {
    format!("{}\0{}", s.row.authority, s.row.subject)
}

fn form(edition: &Edition, visit: &Visit, flow: &Flow, sealed: &str, kinds: &[Kind], said: Said<'_>) -> Response {
    let site = &edition.site;
    let form = FactorForm { site, lang: visit.facts.lang, place: local::place(site, &flow.to), flow: sealed, kinds, said };
    form.page()
}

/// `POST /.passeur/factor`. The guard has checked where it comes from.
pub async fn post(
    State(engine): State<Engine>,
    edition: Option<LiveEdition>,
    visit: Visit,
    Form(entered): Form<Entered>,
) -> Response {
    let Some(LiveEdition(edition)) = edition else {
        return pages::not_set_up(visit.facts.lang).into_response();
    };
    match proved(&engine, &edition, &visit, &entered).await {
        Ok(response) => response,
        Err(e) => pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    }
}

async fn proved(engine: &Engine, edition: &Edition, visit: &Visit, entered: &Entered) -> Result<Response, StoreError> {
    let site = &edition.site;
    let opened = Flow::open(engine, &entered.flow).and_then(|f| Some((f.manner.factors.clone()?, f)));
    let found = session::of_browser(engine, edition, &visit.headers).await?;
    let (Some((wanted, flow)), Some(mut s)) = (opened, found) else {
        let mut attempt = Attempt::begin(engine, "sign-in", &visit.facts);
        attempt.step(|| Step::new(StepCode::StateUnreadable));
        return Ok(flow::refuse(edition, attempt, flow::failed_check()).await);
    };
    let Some(mut attempt) = flow::resume(engine, edition, visit, &flow, None).await else {
        return Ok(pages::not_set_up(visit.facts.lang).into_response());
    };
    attempt.is_of(&s.row);
    attempt.set_evidence(&s.evidence);
    let limit = Duration::minutes(OPEN_MINUTES);
    if let Err(e) = flow::check_open(engine, edition, &mut attempt, visit, &flow, limit) {
        return Ok(flow::refuse(edition, attempt, e).await);
    }
    let rows = engine.store.factors(&s.row.person()).await?;
    let recovery = engine.store.recovery_codes_left(&s.row.person()).await?;
    let kinds = kinds(&rows, &wanted, recovery);
    let account = account(&s);
    if !tries::count_plain(engine, &mut attempt, "factor", &account, TRIES).await? {
        attempt.apart();
        attempt.record(Outcome::CheckFailed).await?;
        let said = Said::Wait { minutes: passeur_core::site::TRIES_MINUTES };
        return Ok(limits::wait(form(edition, visit, &flow, &entered.flow, &kinds, said).into_response()));
    }
    let (kind, done) = if !entered.credential.is_empty() {
        let row = ceremony::proven(engine, site, visit, &s, &entered.ceremony, &entered.credential).await?;
        (Kind::Passkey, row.map(|r| r.name).ok_or("passkey-verification"))
    } else {
        let two = slow::is_guessed(engine, "factor", &account).await?;
        match check_code(engine, site, &rows, &entered.code, two).await? {
            Ok(row) => (Kind::Totp, Ok(row.name)),
            Err(why) if check_recovery(engine, &s.row.provider, &s.row.person(), &entered.code).await? => {
                let _ = why;
                (Kind::Recovery, Ok(String::new()))
            }
            Err(why) => (Kind::Totp, Err(why)),
        }
    };
    let done = done.and_then(|name| if kinds.contains(&kind) { Ok(name) } else { Err("code-wrong") });
    match done {
        Ok(name) => {
            if !flow::use_up(engine, &mut attempt, &flow, limit).await? {
                return Ok(flow::refuse(edition, attempt, flow::failed_check()).await);
            }
            tries::uncount_plain(engine, "factor", &account).await?;
            slow::forget(engine, "factor", &account).await?;
            attempt.step(|| Step::new(StepCode::FactorRight).with("kind", Param::reason(kind.code())).with("name", name));
            note(engine, &mut s, kind).await?;
            attempt.set_evidence(&s.evidence);
            let outcome = if flow.to == Purposed::Factors { Outcome::Admitted } else { Outcome::Waiting };
            attempt.record(outcome).await?;
            let to = match &flow.to {
                Purposed::Factors => "/.passeur/factors".to_owned(),
                to => choose::onward(engine, to),
            };
            Ok(after_form(site, visit, pages::redirect(&to, None)))
        }
        Err(why) => {
            attempt.step(|| {
                Step::new(StepCode::FactorWrong).with("kind", Param::reason(kind.code())).with("why", Param::reason(why))
            });
            attempt.apart();
            attempt.record(Outcome::CheckFailed).await?;
            slow::count(engine, "factor", &account).await?;
            let said = match slow::is_guessed(engine, "factor", &account).await? {
                true => Said::TwoCodes { wrong: Some(attempt.id) },
                false => Said::Wrong { id: attempt.id },
            };
            Ok(form(edition, visit, &flow, &entered.flow, &kinds, said).into_response())
        }
    }
}
