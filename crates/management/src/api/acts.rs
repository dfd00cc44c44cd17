//! The record of what engineers do: read, check, erase names.

use axum::extract::State;
use chrono::{DateTime, Utc};
use http::StatusCode;
use passeur_api::{Act, ActList, ActsCheck, EraseAnswer, EraseRequest, Problem};
use passeur_core::acts::{Break, ERASE, Linked, Walk};
use passeur_core::id::{hex, unhex};
use passeur_core::likeness::Likeness;
use passeur_core::role::Role;
use passeur_store::{ActFilter, Names, StoreError};
use serde::Deserialize;
use serde_json::json;
use utoipa::IntoParams;

use super::auth::Engineer;
use super::errors::{ApiError, bad, problem};
use super::extract::{Json, Query};
use crate::app::App;

/// How many acts are walked at a time.
const WALKED: i64 = 2_000;

/// Which acts.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ActQuery {
    /// Only those below this number.
    before: Option<i64>,
    /// What was done, such as `publish`.
    what: Option<String>,
    /// Part of the name of whoever did it, or whom it concerned.
    person: Option<String>,
    /// Not before this moment.
    since: Option<DateTime<Utc>>,
    /// Before this moment.
    until: Option<DateTime<Utc>>,
    /// At most so many, 1 to 500; 50 unless said.
    limit: Option<i64>,
}

fn shown(l: Linked) -> Act {
    let (who, by, people) = l.personal.map(|p| (Some(p.who), Some(p.by), p.people)).unwrap_or_default();
    Act { number: l.number, at: l.at, who, by, what: l.what, about: l.about, people }
}

/// Acts, latest first.
#[utoipa::path(get, operation_id = "acts", path = "/acts", params(ActQuery), responses((status = 200, body = ActList)))]
pub async fn list(State(app): State<App>, who: Engineer, Query(q): Query<ActQuery>) -> Result<Json<ActList>, ApiError> {
    who.may(Role::View)?;
    let limit = q.limit.unwrap_or(50).clamp(1, 500);
    let wanted = ActFilter { before: q.before, what: q.what, person: q.person, since: q.since, until: q.until, limit };
    let acts: Vec<Act> = app.store.acts(&wanted).await?.into_iter().map(shown).collect();
    let next = acts.last().map(|a| a.number).filter(|n| *n > 1 && acts.len() as i64 == limit);
    Ok(Json(ActList { acts, next }))
}

/// A count and a head that were noted elsewhere, such as in a log.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct CheckQuery {
    /// The count.
    number: Option<i64>,
    /// The head, in hexadecimal.
    head: Option<String>,
}

/// Where a walk over the whole chain ended: how many acts and how many of them erased, with the head; or what is broken.
type End = Result<((i64, i64), [u8; 32]), Break>;

/// Walks the whole chain.
async fn walk(app: &App, noted: Option<(i64, [u8; 32])>) -> Result<End, StoreError> {
    let mut walk = Walk::new(noted);
    let mut after = 0;
    let broken = loop {
        let page = app.store.acts_after(after, WALKED).await?;
        if let Some(broken) = page.iter().find_map(|a| walk.step(&app.ring, a).err()) {
            break Some(broken);
        }
        match page.last() {
            Some(last) if page.len() as i64 == WALKED => after = last.number,
            _ => break None,
        }
    };
    Ok(match broken {
        Some(b) => Err(b),
        None => {
            // Acts that were appended while the chain was walked lie between its end and the head.
            let (number, head) = app.store.acts_head().await?;
            let more = app.store.acts_after(walk.number(), WALKED).await?;
            match more.iter().filter(|a| a.number <= number).find_map(|a| walk.step(&app.ring, a).err()) {
                Some(b) => Err(b),
                None => walk.end(number, &head).map(|found| (found, head)),
            }
        }
    })
}

/// The first act that does not hold, for the survey.
pub async fn first_break(app: &App) -> Result<Option<i64>, StoreError> {
    Ok(walk(app, None).await?.err().map(|b| b.number))
}

/// Walks the whole chain and names the first act that does not hold.
#[utoipa::path(get, operation_id = "check_acts", path = "/acts/check", params(CheckQuery), responses((status = 200, body = ActsCheck), (status = 400, body = Problem)))]
pub async fn check(State(app): State<App>, who: Engineer, Query(q): Query<CheckQuery>) -> Result<Json<ActsCheck>, ApiError> {
    who.may(Role::View)?;
    let wrong = || {
        let words = "Give number and head together, as the log shows them; the head has 64 hexadecimal digits.";
        bad(words)
    };
    let noted = match (q.number, q.head) {
        (None, None) => None,
        (Some(n), Some(head)) if n > 0 => Some((n, unhex(&head).and_then(|h| h.try_into().ok()).ok_or_else(wrong)?)),
        _ => return Err(wrong()),
    };
    let end = walk(&app, noted).await?;
    Ok(Json(match end {
        Ok(((acts, erased), head)) => ActsCheck { holds: true, acts, erased, head: hex(&head), broken_at: None, why: None },
        Err(b) => ActsCheck {
            holds: false,
            acts: b.number - 1,
            erased: 0,
            head: String::new(),
            broken_at: Some(b.number),
            why: Some(b.why.words().to_owned()),
        },
    }))
}

/// Whether a name is the asking engineer's own, or that of somebody who may be them: who did something is for others to erase.
async fn is_own(app: &App, who: &Engineer, name: &str) -> Result<bool, StoreError> {
    let me = who.likeness(app).await?;
    if name.eq_ignore_ascii_case(&who.name) || me.is_known_by(name) {
        return Ok(true);
    }
    // A token of theirs did what it did under its own name.
    if let Some(key) = &who.key
        && app.store.owned_token(key, name).await?
    {
        return Ok(true);
    }
    // The same human being by another way in.
    let known = app.store.find_people(name, Names::Within).await?;
    let named = known.iter().filter(|p| p.name == name);
    let mut alike = named.map(|p| Likeness::of(&p.key, &p.name, p.evidence.as_ref()));
    Ok(alike.any(|other| me.shares(&other).is_some()))
}

/// Erases somebody's name from every act; the chain still holds. Nobody erases their own.
#[utoipa::path(post, operation_id = "erase_names", path = "/acts/erase", request_body = EraseRequest,
    responses((status = 200, body = EraseAnswer), (status = 403, body = Problem), (status = 409, body = Problem)))]
pub async fn erase(State(app): State<App>, who: Engineer, Json(ask): Json<EraseRequest>) -> Result<Json<EraseAnswer>, ApiError> {
    who.may(Role::Configure)?;
    let person = ask.person.trim();
    if is_own(&app, &who, person).await? {
        let words = format!(
            "{} would erase what says who did it. Have another engineer erase the name \"{}\". Nothing was changed.",
            passeur_core::text::visible(&who.name),
            passeur_core::text::visible(person)
        );
        return Err(problem(StatusCode::CONFLICT, "own-name", "Not one's own name", &words));
    }
    let acts = app.store.erase_from_acts(person, who.act(&app, ERASE, json!({}))).await?;
    Ok(Json(EraseAnswer { acts }))
}
