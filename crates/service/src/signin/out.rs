//! Signing out here, with a way to sign out at the provider too.

use axum::extract::State;
use axum::response::{IntoResponse, Response};
use passeur_core::crossing::Outcome;
use passeur_core::seal::Purpose;
use passeur_core::site::Gate;
use passeur_core::step::{Param, Step, StepCode};
use passeur_gateway::cookies;
use passeur_protocols::oidc::end_session_url;
use passeur_protocols::saml::response::NameId;

use super::{LiveEdition, Visit, enter, forget, saml, session};
use crate::app::App;
use crate::attempt::Attempt;
use crate::pages::{self, WayOut};

/// `GET /.passeur/sign-out`: asks, so that no page elsewhere can sign somebody out by a link.
pub async fn ask(State(app): State<App>, edition: Option<LiveEdition>, visit: Visit) -> Response {
    let Some(LiveEdition(edition)) = edition else {
        return pages::not_set_up(visit.facts.lang).into_response();
    };
    match session::of_browser(&app, &edition, &visit.headers).await {
        Ok(Some(s)) => pages::ask_sign_out(&edition.site, visit.facts.lang, &s.row.name).into_response(),
        Ok(None) => pages::signed_out(&edition.site, visit.facts.lang, None, &[]).into_response(),
        Err(e) => pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    }
}

/// `POST /.passeur/sign-out`. The guard has checked where it comes from.
pub async fn sign_out(State(app): State<App>, edition: Option<LiveEdition>, visit: Visit) -> Response {
    let Some(LiveEdition(edition)) = edition else {
        return pages::not_set_up(visit.facts.lang).into_response();
    };
    let site = &edition.site;
    let found = match session::of_browser(&app, &edition, &visit.headers).await {
        Ok(f) => f,
        Err(e) => return pages::store_failed(site, visit.facts.lang, &e).into_response(),
    };
    let (mut at_provider, mut asked, mut opened) = (None, "1".to_owned(), vec![]);
    if let Some(s) = found {
        let mut attempt = Attempt::begin(&app, "sign-in", &visit.facts);
        let name = s.row.name.clone();
        attempt.is_of(&s.row);
        attempt.step(|| Step::new(StepCode::SignedOut).with("by", Param::reason("person")).with("who", name));
        // Ended first and recorded second: a store that fails in between leaves nobody signed in.
        let done = async {
            opened = app.store.gates_of_session(s.row.id).await?;
            enter::end(&app, &[s.row.id], "person", None).await?;
            attempt.record(Outcome::SignedOut).await
        };
        if let Err(e) = done.await {
            return pages::store_failed(site, visit.facts.lang, &e).into_response();
        }
        if let Some((title, way, id)) = provider_way_out(&app, &s, &site.address.at("/.passeur/signed-out")).await {
            at_provider = Some((title, way));
            asked = id.unwrap_or(asked);
        }
    }
    let (name, secure) = site.address.cookie("session");
    let gates: Vec<&Gate> = opened.iter().filter_map(|name| site.gate(name)).collect();
    let orders: Vec<String> = gates.iter().map(|g| forget::address(&app, g)).collect();
    let mut response = pages::signed_out(site, visit.facts.lang, at_provider.as_ref(), &orders).into_response();
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
async fn provider_way_out(app: &App, s: &session::Session, back: &str) -> Option<(String, WayOut, Option<String>)> {
    let opened = s.row.hint.as_ref().and_then(|h| app.ring.open(Purpose::SessionHint, s.row.id.as_bytes(), h).ok());
    let hint = opened.and_then(|b| String::from_utf8(b).ok());
    let link = app.provider(&s.row.provider)?;
    if let Some(link) = link.saml() {
        let name: NameId = serde_json::from_str(&hint?).ok()?;
        let (way, id) = saml::out::way_out(app, &link, &name, s.row.provider_session.as_deref()).await?;
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
        Some(LiveEdition(e)) => pages::signed_out(&e.site, visit.facts.lang, None, &[]).into_response(),
        None => pages::not_set_up(visit.facts.lang).into_response(),
    }
}
