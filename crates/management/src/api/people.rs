//! Sessions and directory look-ups.

use axum::extract::State;
use http::StatusCode;
use passeur_api::{
    EndAnswer, EndRequest, LookUpAnswer, LookUpAttribute, LookUpGroup, LookUpRequest, Problem, ReRead, ReReadDirectory, Session,
};
use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::LookUpState;
use passeur_core::evidence::PersonKey;
use passeur_core::identity::of_entry;
use passeur_core::role::Role;
use passeur_core::session::{Life, State as Liveness};
use passeur_core::site::{Directory, Place};
use passeur_core::step;
use passeur_core::step::{Lang, Param, Witness, param_text, reason_text};
use passeur_engine::attempt::Attempt;
use passeur_engine::ending;
use passeur_engine::sessions;
use passeur_store::SessionFilter;
use serde::Deserialize;
use utoipa::IntoParams;

use super::auth::Engineer;
use super::errors::{ApiError, problem};
use super::extract::{Json, Path, Query};
use crate::app::App;
use passeur_engine::rights;
use passeur_signin::Visit;

/// Which sessions.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct SessionQuery {
    /// Part of a name or subject.
    person: Option<String>,
    /// At most so many, 1 to 1000; 200 unless said.
    limit: Option<i64>,
}

/// Live sessions, last seen first.
#[utoipa::path(get, path = "/sessions", params(SessionQuery), responses((status = 200, body = Vec<Session>)))]
pub async fn sessions(
    State(app): State<App>,
    who: Engineer,
    Query(q): Query<SessionQuery>,
) -> Result<Json<Vec<Session>>, ApiError> {
    who.may(Role::View)?;
    let Some(edition) = app.live.get() else {
        return Ok(Json(vec![]));
    };
    let limits = edition.site.lifetimes;
    let filter = SessionFilter {
        person: q.person,
        seen_since: Some(app.now() - limits.idle - chrono::Duration::minutes(1)),
        limit: q.limit.unwrap_or(200).clamp(1, 1_000),
    };
    let rows = app.store.sessions(&filter).await?;
    let live = rows.into_iter().filter(|r| sessions::state_listed(&app, &edition, r) == Liveness::Live);
    let out = live.map(|r| Session {
        good_until: sessions::lifetimes(&edition.site, &r, None).good_until(&Life::new(
            r.began,
            r.last_seen,
            r.ended_at,
            r.until,
        )),
        id: r.id,
        name: r.name,
        provider: r.provider,
        subject: r.subject,
        began: r.began,
        last_seen: r.last_seen,
        address: r.address,
        agent: r.agent,
    });
    Ok(Json(out.collect()))
}

/// Ends sessions, at the next request at the latest and everywhere.
#[utoipa::path(post, path = "/sessions/end", request_body = EndRequest, responses((status = 200, body = EndAnswer), (status = 403, body = Problem)))]
pub async fn end(
    State(app): State<App>,
    who: Engineer,
    visit: Visit,
    Json(ask): Json<EndRequest>,
) -> Result<Json<EndAnswer>, ApiError> {
    who.may(Role::Operate)?;
    if ask.sessions.len() > 1_000 {
        return Err(problem(StatusCode::BAD_REQUEST, "query", "Too many", "At most 1000 sessions at once."));
    }
    let act = who.act(&app, "end sessions", serde_json::Value::Null);
    let ended = ending::end(&app, &ask.sessions, &who.name, Some(act)).await?;
    for id in &ended.sessions {
        let Some(row) = app.store.session(*id).await? else {
            continue;
        };
        let facts = RequestFacts { target: "/api/v1/sessions/end".into(), ..visit.facts.clone() };
        let mut attempt = Attempt::begin(&app, Place::SignIn, &facts);
        attempt.is_of(&row);
        let by = Param::Reason { code: "engineer".into(), detail: who.name.clone() };
        attempt.witness().step(|| step!(SignedOut { by, who: row.name }));
        attempt.record(Outcome::SignedOut).await?;
    }
    Ok(Json(EndAnswer { ended: ended.sessions, behind: ended.behind }))
}

fn shown(read: rights::ReRead) -> ReRead {
    let directories = read.directories.into_iter().map(|d| ReReadDirectory {
        directory: d.directory,
        state: d.state.as_ref().map_or(passeur_api::LookUpState::Dead, Into::into),
        gained: d.gained,
        lost: d.lost,
    });
    ReRead { session: read.session, name: read.name, ended: read.ended, directories: directories.collect() }
}

/// Reads the rights of sessions again, now and for every node.
#[utoipa::path(post, operation_id = "re_read", path = "/sessions/re-read", request_body = EndRequest,
    responses((status = 200, body = Vec<ReRead>), (status = 403, body = Problem)))]
pub async fn re_read(State(app): State<App>, who: Engineer, Json(ask): Json<EndRequest>) -> Result<Json<Vec<ReRead>>, ApiError> {
    who.may(Role::Operate)?;
    if ask.sessions.len() > 100 {
        return Err(problem(StatusCode::BAD_REQUEST, "query", "Too many", "At most 100 sessions at once."));
    }
    let Some(edition) = app.live.get() else { return Ok(Json(vec![])) };
    let mut out = vec![];
    for id in &ask.sessions {
        if let Some(row) = app.store.session(*id).await?.filter(|r| r.ended_at.is_none()) {
            out.push(shown(rights::one(&app, &edition, row).await?));
        }
    }
    let ids: Vec<_> = out.iter().map(|r| r.session).collect();
    app.store.record_act(who.act(&app, "re-read rights", serde_json::json!({"sessions": ids}))).await?;
    Ok(Json(out))
}

/// Looks somebody up, exactly as a gate would.
#[utoipa::path(post, path = "/directories/{name}/look-up", request_body = LookUpRequest, params(("name" = String, Path)),
    responses((status = 200, body = LookUpAnswer), (status = 404, body = Problem)))]
pub async fn look_up(
    State(app): State<App>,
    who: Engineer,
    Path(name): Path<String>,
    Json(ask): Json<LookUpRequest>,
) -> Result<Json<LookUpAnswer>, ApiError> {
    who.may(Role::View)?;
    let none = || {
        problem(
            StatusCode::NOT_FOUND,
            "no-directory",
            "No such directory",
            &format!("The live edition has no directory \"{name}\"."),
        )
    };
    let edition = app.live.get().ok_or_else(none)?;
    let directory = edition.site.directory(&name).ok_or_else(none)?;
    let link = app.directory(&name).ok_or_else(none)?;
    let found = link.look_up(directory.typed(&ask.value)).await;
    let entry = found.state.entry().cloned().unwrap_or_default();
    let attributes = directory.attributes.iter().map(|(id, from)| {
        let seen = of_entry(directory, &entry, *id, from);
        let absent = match (found.state.entry(), seen.values()) {
            (_, Ok(_)) => None,
            (Some(_), Err(absence)) => Some(param_text(&absence.param(), who.lang)),
            (None, Err(_)) => Some(reason_text(found.state.code(), who.lang).unwrap_or(found.state.code()).to_owned()),
        };
        let values = seen.values().map(<[String]>::to_vec).unwrap_or_default();
        LookUpAttribute { name: edition.site.attribute_name(*id).to_owned(), from: from.clone(), values, absent }
    });
    Ok(Json(LookUpAnswer {
        directory: name,
        key: found.key.clone(),
        value: directory.typed(&ask.value).to_owned(),
        state: (&found.state).into(),
        words: words(&found.state, directory, who.lang),
        cached: found.cached,
        millis: found.millis,
        dn: found.state.entry().map(|e| e.dn.clone()),
        attributes: attributes.collect(),
        groups: directory.known_groups(&entry).map(|g| LookUpGroup { name: g.name, dn: g.dn, via: g.via }).collect(),
    }))
}

fn words(state: &LookUpState, directory: &Directory, lang: Lang) -> String {
    let head = reason_text(state.code(), lang).unwrap_or(state.code());
    match state {
        LookUpState::Answered { entry } => format!("{head}: {}", entry.dn),
        LookUpState::Disabled { why, .. } => format!("{head}: {why}"),
        LookUpState::NoEntry => format!("{head}: {} under {}", directory.key, directory.base),
        LookUpState::Several { dns } => format!("{head}: {}", dns.join("; ")),
        LookUpState::BindRefused { detail } | LookUpState::Dead { detail } | LookUpState::Unusable { detail } => {
            format!("{head}: {detail}")
        }
        LookUpState::NoKey { absence } => format!("{head}: {absence}"),
    }
}

/// The same of somebody who is known here: who came by, has something, or is kept out. A slip in an identifier is not "has none".
///
/// # Errors
/// Also where nobody like that is known.
pub async fn known(app: &App, provider: &str, subject: &str) -> Result<PersonKey, ApiError> {
    let key = key_of(app, provider, subject).await?;
    let has = app.store.holdings(&key).await?;
    let is_known = has != Default::default()
        || app.store.name_of(&key).await?.is_some()
        || app.store.block(&key).await?.is_some()
        || app.store.latest_evidence(&key).await?.is_some();
    if is_known {
        return Ok(key);
    }
    let words = format!(
        "Nobody with the identifier \"{}\" came through {provider} while crossings were kept, or has anything here. passeur sessions and passeur crossings \
         --person NAME show identifiers whole.",
        passeur_core::text::visible(&passeur_core::text::shorten(subject, 100))
    );
    Err(problem(StatusCode::NOT_FOUND, "no-person", "Nobody known", &words))
}

/// Whom a provider's name and its identifier of a person stand for.
///
/// # Errors
/// Where the live edition knows no such provider or way in, and nobody came by one of that name.
pub async fn key_of(app: &App, provider: &str, subject: &str) -> Result<PersonKey, ApiError> {
    let live = app.live.get();
    let authority = match live.as_ref().and_then(|e| e.site.authority(provider)) {
        Some(known) => Some(known),
        None => app.store.authority_named(provider).await?,
    };
    let none = || {
        let names: Vec<String> = live.iter().flat_map(|e| e.site.authorities()).map(|(n, _)| n).collect();
        let words = format!(
            "There is no provider or way in \"{provider}\". A person is PROVIDER/SUBJECT, with one of: {}.",
            names.join(", ")
        );
        problem(StatusCode::NOT_FOUND, "no-provider", "No such provider", &words)
    };
    Ok(PersonKey { authority: authority.ok_or_else(none)?, subject: subject.to_owned() })
}
