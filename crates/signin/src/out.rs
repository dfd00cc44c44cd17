//! Signing out here, with a way to sign out at the provider too.

use std::net::IpAddr;

use axum::extract::rejection::FormRejection;
use axum::extract::{Form, State};
use axum::response::{IntoResponse, Response};
use passeur_core::crossing::Outcome;
use passeur_core::route::Device;
use passeur_core::seal::Purpose;
use passeur_core::session::State as Liveness;
use passeur_core::site::{Gate, Place};
use passeur_core::step;
use passeur_core::step::Param;
use passeur_engine::attempt::Attempt;
use passeur_engine::ending;
use passeur_engine::sessions;
use passeur_http::cookies;
use passeur_live::edition::Edition;
use passeur_protocols::oidc::end_session_url;
use passeur_protocols::saml::response::NameId;

use passeur_store::{HowFar, SessionRow, StoreError};
use serde::Deserialize;

use super::{LiveEdition, Visit, forget, saml, session};
use crate::pages::{self, Elsewhere, WayOut};
use passeur_engine::Engine;
use passeur_engine::people::{self, Named};

/// `GET /.passeur/sign-out`: asks, so that no page elsewhere can sign somebody out by a link.
pub async fn ask(State(engine): State<Engine>, LiveEdition(edition): LiveEdition, visit: Visit) -> Response {
    match session::of_browser(&engine, &edition, &visit.headers).await {
        Ok(Some(s)) => match elsewhere(&engine, &edition, &s).await {
            Ok(rows) => pages::ask_sign_out(&edition.site, visit.facts.lang, &s.row.name, &shown(&rows)).into_response(),
            Err(e) => pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
        },
        Ok(None) => pages::signed_out(&edition.site, visit.facts.lang, None, &[], &[]).into_response(),
        Err(e) => pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    }
}

/// Other live sessions of the same person.
async fn elsewhere(engine: &Engine, edition: &Edition, s: &sessions::Session) -> Result<Vec<SessionRow>, StoreError> {
    let since = engine.now() - edition.site.lifetimes.idle - chrono::Duration::minutes(1);
    let rows = engine.store.sessions_of_person(&s.row.person(), since).await?;
    let live = |r: &SessionRow| r.id != s.row.id && sessions::state_listed(engine, edition, r) == Liveness::Live;
    Ok(rows.into_iter().filter(live).collect())
}

/// Sessions as the person knows them.
fn shown(rows: &[SessionRow]) -> Vec<Elsewhere> {
    let one = |r: &SessionRow| Elsewhere {
        on: Device::of(&r.agent, None, None).platform.title(),
        agent: passeur_core::text::shorten(&r.agent, 60),
        address: r.address.clone(),
        seen: r.last_seen.format("%Y-%m-%d %H:%M UTC").to_string(),
    };
    rows.iter().take(20).map(one).collect()
}

/// What the page that asks sends.
#[derive(Default, Deserialize)]
pub struct Wanted {
    /// `everywhere` ends every session of the person.
    #[serde(default)]
    how_far: String,
}

/// `POST /.passeur/sign-out`. The guard has checked where it comes from.
pub async fn sign_out(
    State(engine): State<Engine>,
    LiveEdition(edition): LiveEdition,
    visit: Visit,
    body: Result<Form<Wanted>, FormRejection>,
) -> Response {
    // Whatever stands in the form, signing out here is not held up by it.
    let everywhere = body.is_ok_and(|Form(w)| w.how_far == "everywhere");
    let site = &edition.site;
    let found = match session::of_browser(&engine, &edition, &visit.headers).await {
        Ok(f) => f,
        Err(e) => return pages::store_failed(site, visit.facts.lang, &e).into_response(),
    };
    let (mut at_provider, mut asked, mut opened, mut left_open) = (None, "1".to_owned(), vec![], vec![]);
    if let Some(s) = found {
        let others = match elsewhere(&engine, &edition, &s).await {
            Ok(rows) => rows,
            Err(e) => return pages::store_failed(site, visit.facts.lang, &e).into_response(),
        };
        if !everywhere {
            left_open = shown(&others);
        }
        let mut attempt = Attempt::begin(&engine, Place::SignIn, &visit.facts);
        let name = s.row.name.clone();
        attempt.is_of(&s.row);
        attempt.step(|| step!(SignedOut { by: Param::reason("person"), who: name }));
        // Ended first and recorded second: a store that fails in between leaves nobody signed in.
        let done = async {
            opened = engine.store.gates_of_session(s.row.id).await?;
            if everywhere {
                let person = Named { provider: s.row.provider.clone(), key: s.row.person(), name: s.row.name.clone() };
                let (taken, _) = people::take_away(&engine, &[person], HowFar::Everywhere, None, "person", None).await?;
                attempt.step(|| {
                    step!(TakenAway {
                        sessions: taken.sessions.len() as i64,
                        tokens: (taken.personal_tokens.len() + taken.api_tokens.len()) as i64,
                        factors: 0
                    })
                });
                attempt.step(|| step!(SignedOutEverywhere { sessions: others.len() as i64 }));
            } else {
                ending::end(&engine, &[s.row.id], "person", None).await?;
            }
            attempt.record(Outcome::SignedOut).await
        };
        if let Err(e) = done.await {
            return pages::store_failed(site, visit.facts.lang, &e).into_response();
        }
        if let Some((title, way, id)) =
            provider_way_out(&engine, &s, &site.address.at("/.passeur/signed-out"), visit.facts.address).await
        {
            at_provider = Some((title, way));
            asked = id.unwrap_or(asked);
        }
    }
    let (name, secure) = site.address.cookie("session");
    let gates: Vec<&Gate> = opened.iter().filter_map(|name| site.gate(name)).collect();
    let orders: Vec<String> = gates.iter().map(|g| forget::address(&engine, g)).collect();
    let mut response = pages::signed_out(site, visit.facts.lang, at_provider.as_ref(), &orders, &left_open).into_response();
    let form = at_provider.as_ref().is_some_and(|(_, way)| matches!(way, WayOut::Form { .. }));
    pages::allow(response.headers_mut(), gates.iter().map(|g| g.address.origin()), form);
    let left = cookies::set(&site.address.cookie("left").0, &asked, secure, None);
    for cookie in [cookies::set(&name, "", secure, Some(0)), left] {
        pages::set_cookie(&mut response, &cookie);
    }
    response
}

/// The provider's title and how the person signs out there, with the identifier of the request where it has one; none where it
/// offers no way or does not answer.
async fn provider_way_out(
    engine: &Engine,
    s: &sessions::Session,
    back: &str,
    from: IpAddr,
) -> Option<(String, WayOut, Option<String>)> {
    let opened = s.row.hint.as_ref().and_then(|h| engine.ring.open(Purpose::SessionHint, s.row.id.as_bytes(), h).ok());
    let hint = opened.and_then(|b| String::from_utf8(b).ok());
    let link = engine.provider(&s.row.provider)?;
    if let Some(link) = link.saml() {
        let name: NameId = serde_json::from_str(&hint?).ok()?;
        let (way, id) = saml::out::way_out(engine, &link, &name, s.row.provider_session.as_deref(), from).await?;
        return Some((link.provider.title.clone(), way, Some(id)));
    }
    let link = link.oidc()?;
    let metadata = link.metadata().await.ok()?;
    let url = end_session_url(&metadata, hint.as_deref(), &link.client.id, back)?;
    Some((link.provider.title.clone(), WayOut::Link(url.to_string()), None))
}

/// `GET /.passeur/signed-out`: where the provider sends people back to.
pub async fn signed_out(edition: Option<LiveEdition>, visit: Visit) -> Response {
    match edition {
        Some(LiveEdition(e)) => pages::signed_out(&e.site, visit.facts.lang, None, &[], &[]).into_response(),
        None => pages::not_set_up(visit.facts.lang).into_response(),
    }
}
