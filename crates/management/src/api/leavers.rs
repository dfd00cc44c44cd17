//! People as a whole: everything of theirs taken away at once, and kept out until that is lifted.

use axum::extract::State;
use passeur_api::{Block, LiftRequest, Lifted, Problem, TakeAwayRequest, TakenAway};
use passeur_core::evidence::PersonKey;
use passeur_core::identity::Person;
use passeur_core::role::Role;
use passeur_store::{BlockRow, HowFar};
use serde_json::json;

use super::auth::Engineer;
use super::errors::{ApiError, bad};
use super::extract::Json;
use super::finding;
use super::people::key_of;
use crate::app::App;
use passeur_engine::people::{self, Named};
use passeur_signin::Visit;

/// The most people of one call.
const PEOPLE_MAX: usize = 100;
const WHY_MAX: usize = 300;

/// People as they are written: each with who vouches for them.
async fn named(app: &App, people: &[String]) -> Result<Vec<Named>, ApiError> {
    if people.is_empty() || people.len() > PEOPLE_MAX {
        return Err(bad(&format!("Name 1 to {PEOPLE_MAX} people, each as PROVIDER/SUBJECT.")));
    }
    let mut out = vec![];
    for text in people {
        let Person { provider, subject } =
            Person::parse(text).ok_or_else(|| bad(&format!("\"{text}\" is no person: write PROVIDER/SUBJECT.")))?;
        let key = key_of(app, &provider, &subject).await?;
        let name = app.store.name_of(&key).await?.unwrap_or(subject);
        out.push(Named { provider, key, name });
    }
    Ok(out)
}

/// Takes everything away from people, at once and on every node: sessions, tokens, command lines that wait; where it is asked for, their
/// factors too. Keeps them out where a reason is given.
#[utoipa::path(post, operation_id = "take_away", path = "/people/take-away", request_body = TakeAwayRequest,
    responses((status = 200, body = TakenAway), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem)))]
pub async fn take_away(
    State(app): State<App>,
    who: Engineer,
    visit: Visit,
    Json(ask): Json<TakeAwayRequest>,
) -> Result<Json<TakenAway>, ApiError> {
    who.may(Role::Operate)?;
    let why = ask.block.as_deref().map(str::trim);
    if why.is_some_and(|w| w.is_empty() || w.len() > WHY_MAX || w.chars().any(char::is_control)) {
        return Err(bad(&format!("Say in one line of at most {WHY_MAX} bytes why they are kept out.")));
    }
    let named = named(&app, &ask.people).await?;
    if why.is_some() && named.iter().any(|n| Some(&n.key) == who.key.as_ref()) {
        return Err(bad("You would keep yourself out. Another engineer can do that."));
    }
    let how_far = if ask.factors { HowFar::WithFactors } else { HowFar::Everywhere };
    let mut act = who.act(&app, "take away", json!({"factors": ask.factors, "blocked": why.is_some()}));
    act.act.personal.people = named.iter().map(Named::text).collect();
    let outside = finding::outside(&app, &named, who.lang).await?;
    let (taken, behind) = people::take_away(&app, &named, how_far, why, &who.name, Some(act)).await?;
    people::record(&app, &visit.facts, &named, &taken, why, &who.name).await?;
    let mut answer = TakenAway {
        people: named.iter().map(Named::text).collect(),
        sessions: taken.sessions,
        personal_tokens: taken.personal_tokens,
        api_tokens: taken.api_tokens,
        factors: taken.factors,
        recovery_codes: taken.recovery_codes as u64,
        devices: taken.devices as u64,
        profiles: taken.profiles,
        kept: taken.kept as u64,
        blocked: why.iter().flat_map(|_| named.iter().map(Named::text)).collect(),
        behind,
        outside,
        summary: None,
    };
    answer.summary = Some(finding::summary(&app, &answer, why, &who.name));
    Ok(Json(answer))
}

/// Lets people in again who were kept out. What was taken away stays away.
#[utoipa::path(post, path = "/people/lift", request_body = LiftRequest,
    responses((status = 200, body = Lifted), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem)))]
pub async fn lift(State(app): State<App>, who: Engineer, Json(ask): Json<LiftRequest>) -> Result<Json<Lifted>, ApiError> {
    who.may(Role::Operate)?;
    let named = named(&app, &ask.people).await?;
    let keys: Vec<PersonKey> = named.iter().map(|n| n.key.clone()).collect();
    let mut act = who.act(&app, "lift block", json!({}));
    act.act.personal.people = named.iter().map(Named::text).collect();
    let gone = app.store.lift(&keys, act).await?;
    Ok(Json(Lifted { lifted: gone.iter().map(written).collect() }))
}

fn written(row: &BlockRow) -> String {
    format!("{}/{}", row.provider, row.subject)
}

/// Everybody who is kept out, the latest first.
#[utoipa::path(get, path = "/blocks", responses((status = 200, body = Vec<Block>), (status = 403, body = Problem)))]
pub async fn blocks(State(app): State<App>, who: Engineer) -> Result<Json<Vec<Block>>, ApiError> {
    who.may(Role::View)?;
    let rows = app.store.blocks().await?;
    let out = rows.into_iter().map(|r| Block { person: written(&r), name: r.name, at: r.at, by: r.by, why: r.why });
    Ok(Json(out.collect()))
}
