//! The page on which people make tokens for programs of theirs, and revoke them.

use axum::body::Bytes;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use chrono::Duration;
use http::StatusCode;
use passeur_core::circumstances::Circumstances;
use passeur_core::crossing::Outcome;
use passeur_core::site::{Gate, Place};
use passeur_core::step;
use passeur_core::step::Step;
use passeur_engine::attempt::Attempt;
use passeur_engine::grants::glance;
use passeur_engine::random::new_uuid;
use passeur_engine::{ending, look_up};
use passeur_live::edition::Edition;
use passeur_store::{PersonalToken, StoreError};
use uuid::Uuid;

use super::session;
use super::{LiveEdition, Visit, only_value};
use crate::journey::fresh;
use crate::pages::{self, TokensPage, redirect};
use passeur_engine::Engine;
use passeur_engine::programs::PREFIX;
use passeur_engine::sessions::Session;

/// The longest that a token is good, in days, and the most paths of one.
const DAYS_MAX: i64 = 365;
const PATHS_MAX: usize = 20;

/// Gates that take tokens of somebody, and would let them in now.
async fn gates<'a>(engine: &Engine, edition: &'a Edition, s: &mut Session, visit: &Visit) -> Vec<&'a Gate> {
    let site = &edition.site;
    let mut out = vec![];
    for gate in &site.gates {
        let takes = gate.access.callers.as_ref().is_some_and(|c| c.personal) && gate.access.is_of(site, &s.evidence.provider);
        if !takes {
            continue;
        }
        look_up::fill(engine, site, &gate.access, &mut s.evidence).await;
        let at = Circumstances::at(engine.now()).from(visit.facts.address);
        if glance(site, gate, &s.evidence, &at).admits {
            out.push(gate);
        }
    }
    out
}

/// `GET /.passeur/tokens`.
pub async fn show(State(engine): State<Engine>, edition: LiveEdition, visit: Visit) -> Response {
    answer(&engine, edition, &visit, None).await
}

/// `POST /.passeur/tokens`. The guard has checked where it comes from.
pub async fn change(State(engine): State<Engine>, edition: LiveEdition, visit: Visit, body: Bytes) -> Response {
    let form = String::from_utf8(body.to_vec()).unwrap_or_default();
    answer(&engine, edition, &visit, Some(form)).await
}

async fn answer(engine: &Engine, LiveEdition(edition): LiveEdition, visit: &Visit, form: Option<String>) -> Response {
    let done = async {
        let Some(mut s) = session::of_browser(engine, &edition, &visit.headers).await? else {
            return Ok(redirect("/.passeur/sign-in?for=tokens", None));
        };
        let gates = gates(engine, &edition, &mut s, visit).await;
        let fresh = fresh::is_fresh(&s.evidence, engine.now());
        let (mut made, mut status) = (None, StatusCode::OK);
        if let Some(form) = &form {
            match only_value(form, "revoke").and_then(|id| id.parse::<Uuid>().ok()) {
                Some(id) => {
                    revoke(engine, &s, visit, id).await?;
                    return Ok(redirect("/.passeur/tokens", None));
                }
                None if !fresh => status = StatusCode::FORBIDDEN,
                None => match make(engine, &s, visit, &gates, form).await? {
                    Ok(value) => made = Some(value),
                    Err(code) => status = code,
                },
            }
        }
        let rows = engine.store.personal_tokens(&s.row.person(), engine.now()).await?;
        let (site, lang) = (&edition.site, visit.facts.lang);
        let page = TokensPage { site, lang, gates: &gates, rows: &rows, fresh, made: made.as_deref() };
        Ok(page.page(status).into_response())
    };
    done.await.unwrap_or_else(|e: StoreError| pages::store_failed(&edition.site, visit.facts.lang, &e).into_response())
}

/// Paths as they are typed, one a line; none for all. `Err` where one is no plain path.
fn paths(text: &str) -> Result<Option<Vec<String>>, ()> {
    let all: Vec<String> = text.lines().map(str::trim).filter(|l| !l.is_empty()).map(str::to_owned).collect();
    let plain = |p: &String| {
        p.starts_with('/') && p.len() <= 200 && passeur_core::path::canonical(p).is_some_and(|c| c == p.to_lowercase())
    };
    match all.is_empty() {
        true => Ok(None),
        false if all.len() <= PATHS_MAX && all.iter().all(plain) => Ok(Some(all)),
        false => Err(()),
    }
}

async fn make(
    engine: &Engine,
    s: &Session,
    visit: &Visit,
    gates: &[&Gate],
    form: &str,
) -> Result<Result<String, StatusCode>, StoreError> {
    let name = passeur_core::text::shorten(only_value(form, "name").unwrap_or_default().trim(), 60);
    let wanted: Vec<String> = url::form_urlencoded::parse(form.as_bytes())
        .filter(|(n, _)| n == "gate")
        .map(|(_, v)| v.into_owned())
        .filter(|v| gates.iter().any(|g| g.name == *v))
        .collect();
    let days = only_value(form, "days").and_then(|d| d.parse::<i64>().ok()).filter(|d| (1..=DAYS_MAX).contains(d));
    let paths = paths(&only_value(form, "paths").unwrap_or_default());
    let (false, false, Some(days), Ok(paths)) = (name.is_empty(), wanted.is_empty(), days, paths) else {
        return Ok(Err(StatusCode::BAD_REQUEST));
    };
    let (token, now) = (engine.new_token(), engine.now());
    let row = PersonalToken {
        digest: token.digest().to_vec(),
        id: new_uuid(),
        provider: s.row.provider.clone(),
        subject: s.row.subject.clone(),
        owner_name: s.row.name.clone(),
        name: name.clone(),
        gates: wanted.clone(),
        paths,
        created_at: now,
        expires_at: now + Duration::days(days),
        used_at: None,
        authority: s.row.authority.clone(),
        unasked: s.evidence.unasked,
    };
    if !engine.store.add_personal_token(row, s.row.id).await? {
        return Ok(Err(StatusCode::CONFLICT));
    }
    let step = step!(PersonalTokenMade { name, gates: wanted, days });
    record(engine, s, visit, step).await?;
    Ok(Ok(format!("{PREFIX}{}", token.reveal())))
}

async fn revoke(engine: &Engine, s: &Session, visit: &Visit, id: Uuid) -> Result<(), StoreError> {
    let gone = engine.store.revoke_personal_tokens(&s.row.person(), Some(id), None).await?;
    for row in gone {
        let opened = engine.store.sessions_of_token(row.id).await?;
        ending::end(engine, &opened, "its token was revoked", None).await?;
        record(engine, s, visit, step!(PersonalTokenRevoked { name: row.name })).await?;
    }
    Ok(())
}

async fn record(engine: &Engine, s: &Session, visit: &Visit, step: Step) -> Result<(), StoreError> {
    let mut attempt = Attempt::begin(engine, Place::Quay, &visit.facts);
    attempt.is_of(&s.row);
    attempt.set_evidence(&s.evidence);
    attempt.step(|| step);
    attempt.record(Outcome::Admitted).await
}

#[cfg(test)]
mod tests {
    #[test]
    fn only_plain_paths_bound_a_token() {
        assert_eq!(super::paths(" \n"), Ok(None));
        assert_eq!(super::paths("/a\r\n /b/c "), Ok(Some(vec!["/a".into(), "/b/c".into()])));
        for bad in ["a", "/a/../b", "/a/", "/%61", "/a//b", "/a;b"] {
            assert_eq!(super::paths(bad), Err(()), "{bad}");
        }
    }
}
