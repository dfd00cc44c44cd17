//! Ways in of our own: each is a form on the sign-in host. [`limits`] bounds tries, [`password`] and [`mailed`] are the ways.
//!
//! A form carries its flow as a provider would carry our state: sealed, bound to the browser, good for a time and used once.
//! What was typed wrong is a crossing of its own, so that an engineer sees each; the person sees that it did not work.

pub mod limits;
mod mailed;
mod passkey;
mod password;
mod realm_password;
pub mod ticket;

pub use password::handed;

use std::sync::Arc;

use axum::extract::{Form, Path, State};
use axum::response::{IntoResponse, Response};
use http::{HeaderMap, StatusCode, header};
use passeur_core::Moment;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::{Evidence, Factors, WayIn};
use passeur_core::site::{Site, Way, WayKind};
use passeur_core::step::{Step, StepCode};
use passeur_engine::attempt::{Attempt, Who};
use passeur_links::kerberos::Delegation;
use passeur_live::edition::Edition;
use serde::Deserialize;
use serde_json::{Map, Value};

use super::ask::{Flow, Manner, Purposed, SEALED_MAX};
use super::enter::AtProvider;
use super::flow::{self, failed_check, refuse, resume};
use super::{LiveEdition, Visit, browser_binding, choose, enter};
use crate::pages::{self, Said};
use passeur_engine::Engine;

/// What any form of ours sends.
#[derive(Default, Deserialize)]
pub struct Entered {
    #[serde(default)]
    flow: String,
    #[serde(default)]
    name: String,
    #[serde(default)]
    password: String,
    #[serde(default)]
    mail: String,
    code: Option<String>,
    #[serde(default)]
    ceremony: String,
    #[serde(default)]
    credential: String,
}

/// One request for a form, with all that answering it takes.
struct Asked<'a> {
    engine: &'a Engine,
    edition: &'a Edition,
    visit: &'a Visit,
    way: &'a Way,
    flow: &'a Flow,
    /// The flow as the form carries it.
    sealed: &'a str,
}

impl Asked<'_> {
    fn site(&self) -> &Site {
        &self.edition.site
    }

    /// A form with something to say.
    fn form<R>(&self, said: Said<'_>, make: impl FnOnce(&pages::Form<'_>) -> R) -> R {
        let site = self.site();
        let offered = choose::offered(site, &self.flow.to);
        let another = (offered.len() > 1).then(|| choose::address(self.engine, &self.flow.to, None));
        make(&pages::Form {
            site,
            lang: self.visit.facts.lang,
            way: self.way,
            place: place(site, &self.flow.to),
            flow: self.sealed,
            another: another.as_deref(),
            said,
        })
    }

    /// Records what did not work as a crossing of its own, and gives its id.
    async fn note(&self, attempt: &mut Attempt, outcome: Outcome) -> Result<passeur_core::id::CrossingId, Box<Response>> {
        attempt.apart();
        let lang = self.visit.facts.lang;
        attempt.record_ended(outcome).await.map_err(|e| Box::new(pages::store_failed(self.site(), lang, &e).into_response()))
    }
}

/// What a person calls the place that a sign-in leads to.
pub fn place<'a>(site: &'a Site, to: &'a Purposed) -> &'a str {
    match to {
        Purposed::Gate(ask) => site.gate(&ask.gate).map_or(site.name.as_str(), |g| g.title.as_str()),
        _ => site.name.as_str(),
    }
}

/// The step that tells how somebody is asked.
fn shown(way: &Way) -> Step {
    match &way.kind {
        WayKind::Ticket(t) => ticket::shown(way, t),
        _ => Step::new(StepCode::WayShown).with("way", way.name.as_str()),
    }
}

/// The flow that a person comes back with to a way in of ours that is `wanted`, with the attempt that it goes on with. Nothing is tried
/// where it is not theirs, or lay open too long.
async fn came_back<'s>(
    engine: &Engine,
    edition: &'s Edition,
    visit: &Visit,
    name: &str,
    sealed: &str,
    wanted: fn(&Way) -> bool,
) -> Result<(Flow, &'s Way, Attempt), Response> {
    let flow = Flow::open(engine, sealed).filter(|f| f.provider == name);
    let (Some(flow), Some(way)) = (flow, edition.site.way(name).filter(|w| wanted(w))) else {
        let mut attempt = Attempt::begin(engine, "sign-in", &visit.facts);
        attempt.step(|| Step::new(StepCode::StateUnreadable));
        return Err(refuse(edition, attempt, failed_check()).await);
    };
    let Some(mut attempt) = resume(engine, edition, visit, &flow, Some(shown(way))).await else {
        return Err(pages::not_set_up(visit.facts.lang).into_response());
    };
    match flow::check_open(engine, edition, &mut attempt, visit, &flow, way.answer_within) {
        Ok(()) => Ok((flow, way, attempt)),
        Err(e) => Err(refuse(edition, attempt, e).await),
    }
}

/// Shows the form of a way in of ours, or sends the browser to where it negotiates.
pub fn ask(
    engine: &Engine,
    edition: &Edition,
    mut attempt: Attempt,
    visit: &Visit,
    way: &Way,
    to: Purposed,
    manner: Manner,
) -> Response {
    let site = &edition.site;
    attempt.provider = Some(way.name.clone());
    let (browser, set) = browser_binding(engine, &visit.headers, &site.address, "flow");
    let mut flow = Flow::begin(engine, &attempt, &way.name, &browser, to, manner);
    let sealed = flow.seal(engine, SEALED_MAX);
    attempt.step(|| shown(way));
    let asked = Asked { engine, edition, visit, way, flow: &flow, sealed: &sealed };
    let hint = flow.manner.hint.as_deref().unwrap_or_default();
    let mut response = match &way.kind {
        WayKind::Password(_) => asked.form(Said::Nothing, |f| f.password(hint)).into_response(),
        WayKind::MailedCode(_) => asked.form(Said::Nothing, |f| f.mail(hint)).into_response(),
        WayKind::Passkey(_) => asked.form(Said::Nothing, |f| f.passkey()),
        WayKind::Ticket(t) => ticket::ask(&asked, t, &mut attempt),
        // No gate offers one to people: it is the connection that shows it.
        WayKind::Certificate(_) => pages::not_set_up(visit.facts.lang).into_response(),
    };
    attempt.record_waiting();
    if let Some(cookie) = set {
        pages::set_cookie(&mut response, &cookie);
    }
    response
}

/// `POST /.passeur/way/{name}`. The guard has checked where it comes from.
pub async fn post(
    State(engine): State<Engine>,
    edition: Option<LiveEdition>,
    Path(name): Path<String>,
    visit: Visit,
    Form(entered): Form<Entered>,
) -> Response {
    let Some(LiveEdition(edition)) = edition else {
        return pages::not_set_up(visit.facts.lang).into_response();
    };
    let (flow, way, attempt) = match came_back(&engine, &edition, &visit, &name, &entered.flow, |_| true).await {
        Ok(found) => found,
        Err(response) => return response,
    };
    let asked = Asked { engine: &engine, edition: &edition, visit: &visit, way, flow: &flow, sealed: &entered.flow };
    match &way.kind {
        WayKind::Password(p) => password::tried(&asked, p, attempt, &entered).await,
        WayKind::MailedCode(m) => mailed::tried(&asked, m, attempt, &entered).await,
        WayKind::Passkey(p) => passkey::tried(&asked, p, attempt, &entered).await,
        WayKind::Ticket(t) => ticket::tried(&asked, t, attempt, &entered).await,
        WayKind::Certificate(_) => refuse(&edition, attempt, failed_check()).await,
    }
}

/// Somebody who proved who they are to us.
struct Proven {
    way_in: WayIn,
    subject: String,
    name: String,
    claims: Map<String, Value>,
    /// The account, as tries are counted for it.
    account: String,
    /// User name and password, where a gate hands them over.
    kept: Option<String>,
    /// The method that was proven, where it is not the one of the way in.
    method: Option<&'static str>,
    /// When it was proven, where that was not now.
    at: Option<Moment>,
    /// The ticket that their browser sent along.
    sent: Option<Arc<Delegation>>,
}

/// The same for a form, which is not answered with a redirect.
async fn enter(asked: &Asked<'_>, attempt: Attempt, proven: Proven) -> Response {
    after_form(asked.site(), asked.visit, begin(asked, attempt, proven).await)
}

/// Uses the flow up and begins a session.
async fn begin(asked: &Asked<'_>, mut attempt: Attempt, proven: Proven) -> Response {
    let Asked { engine, edition, visit, way, flow, .. } = asked;
    match flow::use_up(engine, &mut attempt, flow, way.answer_within).await {
        Ok(true) => {}
        Ok(false) => return refuse(edition, attempt, failed_check()).await,
        Err(e) => return pages::store_failed(&edition.site, visit.facts.lang, &e).into_response(),
    }
    let method = proven.method.unwrap_or(way.method());
    let factors = Factors { amr: vec![method.to_owned()], auth_time: proven.at.or(Some(engine.now())), ..Factors::default() };
    let evidence = Evidence {
        claims: proven.claims,
        factors,
        ..Evidence::of(proven.way_in, way.name.clone(), proven.subject, edition.site.address.origin())
    };
    attempt.who = Some(Who { provider: way.name.clone(), subject: evidence.subject.clone(), name: proven.name });
    let nobody = AtProvider { hint: String::new(), name: None, session: None, kept: proven.kept, sent: proven.sent, until: None };
    let shared = edition.site.is_shared(visit.facts.address);
    // A browser is known for passwords, whose tries are counted.
    let known = (!shared && proven.at.is_none()).then(|| limits::known_now(asked, &proven.account));
    let mut response = enter::begin(engine, edition, attempt, visit, evidence, nobody, flow.to.clone()).await;
    if let Some(known) = known {
        pages::set_cookie(&mut response, &known);
    }
    response
}

/// What a form is answered with that signed somebody in: see [`onward`].
pub fn after_form(site: &Site, visit: &Visit, response: Response) -> Response {
    onward(site, visit, pages::Word::SignedInNow, response)
}

/// What a form is answered with: a redirect becomes a page that goes on, since the policy of the form would bind it and all that
/// follow it.
pub fn onward(site: &Site, visit: &Visit, lead: pages::Word, response: Response) -> Response {
    let to = response.headers().get(header::LOCATION).and_then(|l| l.to_str().ok()).map(str::to_owned);
    let Some(to) = to.filter(|_| response.status() == StatusCode::SEE_OTHER) else { return response };
    let cookies: HeaderMap =
        response.headers().get_all(header::SET_COOKIE).iter().map(|c| (header::SET_COOKIE, c.clone())).collect();
    let markup = pages::go_on(site, visit.facts.lang, lead, &to);
    let mut page = pages::Page { status: StatusCode::OK, markup }.into_response();
    page.headers_mut().extend(cookies);
    page
}
