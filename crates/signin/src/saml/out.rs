//! Single logout (saml-profiles-2.0-os 4.4): the provider is asked to sign somebody out everywhere, or says that it did.

use std::net::IpAddr;
use std::sync::Arc;

use axum::body::Body;
use axum::extract::Path;
use axum::response::{IntoResponse, Response};
use http::StatusCode;
use passeur_core::crossing::Outcome;
use passeur_core::id::{hex, sha256};
use passeur_core::site::Place;
use passeur_core::step;
use passeur_engine::attempt::Attempt;
use passeur_engine::providers::own::OwnSaml;
use passeur_engine::providers::saml::SamlLink;
use passeur_engine::random::random;
use passeur_http::cookies::{self, Found};
use passeur_live::edition::Edition;
use passeur_protocols::saml::binding::{Message, form_value, redirect as by_redirect};
use passeur_protocols::saml::metadata::Endpoint;
use passeur_protocols::saml::response::NameId;
use passeur_protocols::saml::sign_out::{Answered, BadSignOut, Carried, Expected, Head, SignOut, read_answer, read_request};
use passeur_protocols::saml::write::signed_message;
use passeur_store::StoreError;

use super::ask;
use crate::answer::answer;
use crate::ended::end_by_provider;
use crate::journey::Incoming;
use crate::journey::{Desk, Done, Stop, Why, compute};
use crate::pages::{self, WayOut, redirect};
use crate::{Visit, only_value, park};
use passeur_engine::Engine;

/// The largest message to sign out that is read.
const MESSAGE_MAX: usize = 64 * 1024;

fn new_id() -> String {
    format!("_{}", hex(&random::<16>()))
}

/// How a person signs out at the provider as well, and the request's identifier; none where the provider offers no way.
pub async fn way_out(
    engine: &Engine,
    link: &SamlLink,
    name: &NameId,
    session: Option<&str>,
    address: IpAddr,
) -> Option<(WayOut, String)> {
    let party = link.party().await.ok()?.known;
    let endpoint = link.choose(&party.party.sign_out)?;
    let id = new_id();
    let head = Head { id: &id, destination: &endpoint.location, issuer: &link.own.entity_id, now: engine.now() };
    let text = head.request(name, session);
    let letter = Letter { own: link.own.clone(), endpoint: endpoint.clone(), address: endpoint.location.clone(), id: id.clone() };
    let carry = move || letter.carry(Message::Request, &text, None);
    let way = engine.workers.run(address, carry).await.ok().flatten()?;
    Some((way, id))
}

/// A message on its way to the provider.
struct Letter {
    own: Arc<OwnSaml>,
    endpoint: Endpoint,
    address: String,
    /// The message's identifier.
    id: String,
}

impl Letter {
    /// Signed where we have a key.
    fn carry(&self, kind: Message, text: &str, relay_state: Option<&str>) -> Option<WayOut> {
        if self.endpoint.is_redirect() {
            return by_redirect(&self.address, kind, text, relay_state, self.own.signer()).map(WayOut::Link);
        }
        let signed = self.own.signer().map_or_else(|| Some(text.to_owned()), |s| signed_message(text, &self.id, s))?;
        let mut fields = vec![(kind.parameter(), form_value(&signed))];
        fields.extend(relay_state.map(|s| ("RelayState", s.to_owned())));
        Some(WayOut::Form { address: self.address.clone(), fields })
    }
}

/// `GET` and `POST /.passeur/saml/{provider}/sign-out`: the provider's request, or its answer to ours. No cookie is asked: it is
/// the signature that counts.
pub async fn message(incoming: Incoming, Path(provider): Path<String>, body: Body) -> Response {
    let desk = incoming.desk();
    answer(heard(desk, &provider, body).await).await
}

async fn heard<'a>(desk: Desk<'a>, provider: &str, body: Body) -> Done<'a> {
    let Desk { engine, edition, visit } = desk;
    let Some(link) = engine.provider(provider).and_then(|l| l.saml()) else {
        return Err(desk.stop_plainly(StatusCode::NOT_FOUND.into_response()));
    };
    let body = park::posted(desk, body, MESSAGE_MAX).await?;
    let form = String::from_utf8_lossy(&body).into_owned();
    let by_form = visit.facts.method == "POST";
    let text = if by_form { &form } else { &visit.query };
    let field = |name: &str| only_value(text, name);
    let (request, response, state) = (field("SAMLRequest"), field("SAMLResponse"), field("RelayState"));
    let mut attempt = Attempt::begin(engine, Place::SignIn, &visit.facts);
    attempt.provider = Some(provider.to_owned());
    let stop = |attempt: Attempt, why: Why| Box::new(Stop { desk, attempt, to: None, why, cookies: vec![] });
    let Some(found) = ask::party(&link, &mut attempt).await else { return Err(stop(attempt, Why::NOT_SENT)) };
    let address = edition.site.saml_sign_out_uri(provider);
    let (now, query, known, l) = (engine.now(), visit.query.clone(), found.known.clone(), link.clone());
    let asks = request.is_some();
    let value = request.clone().or(response.clone());
    // Anybody can send one: it is read and checked elsewhere.
    let read = move || {
        let expected = Expected {
            issuer: &l.provider.issuer,
            address: &address,
            now,
            skew: l.provider.skew,
            certificates: &known.party.certificates,
            opener: &l.own.opener,
        };
        let value = value.unwrap_or_default();
        let carried = if by_form { Carried::Form(&value) } else { Carried::Address(&query) };
        match asks {
            true => Read::Request(read_request(carried, &expected)),
            false => Read::Answer(read_answer(carried, &expected)),
        }
    };
    let read = match (&request, &response) {
        (Some(_), None) | (None, Some(_)) => compute(engine, &mut attempt, read).await,
        _ => Ok(Read::Request(Err(BadSignOut::Form))),
    };
    let how = match read {
        Err(why) => return Err(stop(attempt, why)),
        Ok(Read::Request(read)) => match read {
            Ok(out) => {
                let id = sha256(format!("sign-out {} {}", link.provider.issuer, out.id).as_bytes());
                match engine.store.use_once(&id, out.remember_until).await {
                    Ok(true) => {
                        let ended = end_here(desk, &mut attempt, &link, &found.known.party.sign_out, &out, state).await;
                        return ended.map_err(|e| stop(attempt, e.into()));
                    }
                    Ok(false) => "it was used before".to_owned(),
                    Err(e) => return Err(stop(attempt, e.into())),
                }
            }
            Err(e) => e.to_string(),
        },
        Ok(Read::Answer(read)) => match read {
            Ok(done) => return Ok(signed_out_page(edition, visit, &done.request, done.everywhere, by_form)),
            Err(e) => e.to_string(),
        },
    };
    attempt.step(|| step!(SignOutRefused { provider, how }));
    Err(stop(attempt, Why::FAILED_CHECK))
}

/// A message of the provider, read.
enum Read {
    Request(Result<SignOut, BadSignOut>),
    Answer(Result<Answered, BadSignOut>),
}

/// The page after the provider's answer. Only the browser that asked learns more than that it is signed out here.
fn signed_out_page(edition: &Edition, visit: &Visit, request: &str, everywhere: bool, by_form: bool) -> Response {
    let mine = match cookies::find(&visit.headers, &edition.site.address.cookie("left").0) {
        Found::One(id) => id == request,
        // With a form of another site no cookie comes.
        Found::None => by_form,
        Found::Several => false,
    };
    pages::signed_out_there(&edition.site, visit.facts.lang, mine && everywhere).into_response()
}

/// Ends what the provider ended, and answers it.
async fn end_here(
    desk: Desk<'_>,
    attempt: &mut Attempt,
    link: &SamlLink,
    endpoints: &[Endpoint],
    out: &SignOut,
    state: Option<String>,
) -> Result<Response, StoreError> {
    let (engine, site) = (desk.engine, desk.site());
    let (lang, from) = (attempt.lang, attempt.address);
    let provider = link.provider.name.as_str();
    let authority = site.authority(provider).unwrap_or_default();
    // A provider may leave the format out that it named the person in.
    let names: Vec<String> =
        out.name.key().into_iter().chain(out.name.format.is_none().then(|| out.name.value.clone())).collect();
    let ids = engine.store.sessions_at_provider(&authority, &names, &out.sessions).await?;
    let ended = end_by_provider(engine, attempt, provider, &ids).await?;
    attempt.record(Outcome::SignedOut).await?;
    let all = ended.behind.is_empty();
    let Some(endpoint) = link.choose(endpoints) else {
        return Ok(pages::signed_out(site, lang, None, &[], &[]).into_response());
    };
    let id = new_id();
    let address = endpoint.answers_to();
    let head = Head { id: &id, destination: address, issuer: &link.own.entity_id, now: engine.now() };
    let text = head.answer(&out.id, all);
    let state = state.filter(|s| s.len() <= 200);
    let letter = Letter { own: link.own.clone(), endpoint: endpoint.clone(), address: address.to_owned(), id: id.clone() };
    let carry = move || letter.carry(Message::Response, &text, state.as_deref());
    Ok(match engine.workers.run(from, carry).await.ok().flatten() {
        Some(WayOut::Link(to)) => redirect(&to, None),
        Some(WayOut::Form { address, fields }) => {
            pages::post_on(site, lang, &link.provider.title, &address, &fields).into_response()
        }
        None => pages::signed_out(site, lang, None, &[], &[]).into_response(),
    })
}
