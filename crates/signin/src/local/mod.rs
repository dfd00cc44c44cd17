//! Ways in of our own: each is a form on the sign-in host. [`limits`] bounds tries, [`password`] and [`mailed`] are the ways.
//!
//! A form carries its flow as a provider would carry our state: sealed, bound to the browser, good for a time and used once.
//! What was typed wrong is a crossing of its own, so that an engineer sees each; the person sees that it did not work.

pub mod limits;
mod mailed;
mod passkey;
mod password;
mod sponsored;
pub mod ticket;

use std::sync::Arc;

use axum::extract::{Form, Path};
use axum::response::{IntoResponse, Response};
use http::{HeaderMap, StatusCode, header};
use passeur_core::Moment;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::{Evidence, Factors, WayIn};
use passeur_core::id::CrossingId;
use passeur_core::site::{Site, Way, WayKind};
use passeur_core::step;
use passeur_core::step::Step;
use passeur_engine::Engine;
use passeur_engine::attempt::Who;
use passeur_links::kerberos::Delegation;
use serde::Deserialize;
use serde_json::{Map, Value};

use crate::answer::answer;
use crate::journey::Incoming;
use crate::journey::destination::offered;
use crate::journey::flow::{self, Flow, SEALED_MAX};
use crate::journey::{Answered, Asked, Desk, Destination, Done, Journey, Manner, Proven, ProviderSession, Why};
use crate::pages::{self, Said};
use crate::{Visit, browser_binding};

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
    #[serde(default)]
    note: String,
    code: Option<String>,
    #[serde(default)]
    ceremony: String,
    #[serde(default)]
    credential: String,
}

/// The page of a way in of ours.
#[derive(Clone, Copy)]
struct FormPage<'a> {
    desk: Desk<'a>,
    way: &'a Way,
    to: &'a Destination,
    /// The flow as the form carries it.
    sealed: &'a str,
}

impl FormPage<'_> {
    /// With something to say.
    fn show<R>(&self, said: Said<'_>, make: impl FnOnce(&pages::Form<'_>) -> R) -> R {
        let site = self.desk.site();
        let another = (offered(site, self.to).len() > 1).then(|| self.to.onward_by(self.desk.engine, None));
        make(&pages::Form {
            site,
            lang: self.desk.lang(),
            way: self.way,
            place: self.to.title(site),
            flow: self.sealed,
            another: another.as_deref(),
            said,
        })
    }
}

/// Somebody who tries a way in of ours.
struct Try<'a> {
    journey: Journey<'a, Answered<flow::Form>>,
    way: &'a Way,
    /// The flow as the form carries it.
    sealed: String,
}

impl<'a> Try<'a> {
    fn engine(&self) -> &'a Engine {
        self.journey.engine()
    }

    fn site(&self) -> &'a Site {
        self.journey.site()
    }

    fn page(&self) -> FormPage<'_> {
        FormPage { desk: self.journey.desk, way: self.way, to: &self.journey.to, sealed: &self.sealed }
    }

    /// The form again, with something to say.
    fn form<R>(&self, said: Said<'_>, make: impl FnOnce(&pages::Form<'_>) -> R) -> R {
        self.page().show(said, make)
    }

    fn step(&mut self, make: impl FnOnce() -> Step) {
        self.journey.step(make);
    }

    /// Records what did not work as a crossing of its own, and gives its id.
    async fn note(&mut self, outcome: Outcome) -> Result<CrossingId, Why> {
        self.journey.attempt.apart();
        Ok(self.journey.attempt.record_ended(outcome).await?)
    }

    /// Ends the attempt, as a step says: nobody is asked again by it.
    fn fell<T>(&mut self, step: Step) -> Result<T, Why> {
        self.step(|| step);
        Err(Why::FAILED_CHECK)
    }

    /// Uses the flow up, and makes evidence of who proved themselves.
    async fn prove(&mut self, person: Person) -> Result<Came, Why> {
        self.journey.use_up(self.way.answer_within).await?;
        let (engine, site, name) = (self.engine(), self.site(), self.way.name.clone());
        let method = person.method.unwrap_or(self.way.method());
        let factors = Factors { amr: vec![method.to_owned()], auth_time: person.at.or(Some(engine.now())), ..Factors::default() };
        let evidence = Evidence {
            claims: person.claims,
            factors,
            ..Evidence::of(person.way_in, name.clone(), person.subject, site.address.origin())
        };
        self.journey.attempt.who = Some(Who { provider: name, subject: evidence.subject.clone(), name: person.name });
        let provider = ProviderSession { kept: person.kept, sent: person.sent, ..ProviderSession::default() };
        let desk = self.journey.desk;
        let shared = site.is_shared(desk.visit.facts.address);
        // A browser is known for passwords, whose tries are counted.
        let known = (!shared && person.at.is_none()).then(|| limits::known_now(desk, self.way, &person.account));
        Ok(Came::In { proven: Box::new(Proven { evidence, provider }), known })
    }
}

/// What a try comes to.
enum Came {
    /// A page that says so, or asks for more.
    Page(Response),
    /// Somebody proved who they are; with the cookie by which their browser is known from now on.
    In { proven: Box<Proven>, known: Option<String> },
}

impl Came {
    /// By the word that somebody gave in a flow, and until it is over.
    fn by_word(self, flow: [u8; 32], until: Moment) -> Came {
        match self {
            Came::In { mut proven, known } => {
                proven.provider.word = Some(flow.to_vec());
                proven.provider.until = Some(until);
                Came::In { proven, known }
            }
            page @ Came::Page(_) => page,
        }
    }
}

impl From<Response> for Came {
    fn from(page: Response) -> Came {
        Came::Page(page)
    }
}

impl<'a> Try<'a> {
    /// Answers what it came to.
    async fn end(self, came: Result<Came, Why>) -> Done<'a> {
        let (journey, came) = self.journey.go_on_with(came)?;
        Ok(match came {
            Came::Page(page) => page,
            Came::In { proven, known } => {
                return match journey.with(*proven).enter().await {
                    Ok(mut response) => {
                        known.iter().for_each(|c| pages::set_cookie(&mut response, c));
                        Ok(response)
                    }
                    Err(mut stop) => {
                        stop.cookies.extend(known);
                        Err(stop)
                    }
                };
            }
        })
    }
}

/// The step that tells how somebody is asked.
fn shown(way: &Way) -> Step {
    match &way.kind {
        WayKind::Ticket(t) => ticket::shown(way, t),
        _ => step!(WayShown { way: way.name.as_str() }),
    }
}

/// Somebody who comes back to a way in of ours that is `wanted`. Nothing is tried where the flow is not theirs, or lay open too long.
async fn came_back<'a>(desk: Desk<'a>, name: &str, sealed: String, wanted: fn(&Way) -> bool) -> Done<'a, Try<'a>> {
    let flow = Flow::<flow::Form>::open(desk.engine, &sealed).filter(|f| f.leg.by.way == name);
    let way = desk.site().way(name).filter(|w| wanted(w));
    let (Some(flow), Some(way)) = (flow, way) else { return Err(desk.unreadable()) };
    let mut journey = Journey::resume(desk, flow, Some(shown(way))).await?;
    let open = journey.check_open(way.answer_within);
    let (journey, ()) = journey.go_on_with(open)?;
    Ok(Try { journey, way, sealed })
}

/// Shows the form of a way in of ours, or sends the browser to where it negotiates.
pub fn ask<'a>(mut journey: Journey<'a, Asked>, way: &'a Way, manner: Manner) -> Done<'a> {
    let desk = journey.desk;
    journey.attempt.provider = Some(way.name.clone());
    let (browser, set) = browser_binding(desk.engine, &desk.visit.headers, &desk.site().address, "flow");
    let (mut journey, sealed) = journey.send(flow::Form { way: way.name.clone() }, &browser, manner, SEALED_MAX);
    journey.step(|| shown(way));
    let leg = &journey.state.0;
    let hint = leg.manner.hint.as_deref().unwrap_or_default();
    let page = FormPage { desk, way, to: &journey.to, sealed: &sealed };
    let response = match &way.kind {
        WayKind::Password(_) => page.show(Said::Nothing, |f| f.password(hint)).into_response(),
        WayKind::MailedCode(_) => page.show(Said::Nothing, |f| f.mail(hint)).into_response(),
        WayKind::Sponsor(_) => page.show(Said::Nothing, |f| f.guest("", "")).into_response(),
        WayKind::Passkey(_) => page.show(Said::Nothing, |f| f.passkey()),
        WayKind::Ticket(t) => ticket::ask(page, t, &leg.manner, &mut journey.attempt),
        // No gate offers these to people: it is the connection that shows one, and a RADIUS client that says the other.
        WayKind::Certificate(_) | WayKind::Gateway | WayKind::Machine(_) => return Err(journey.stop(Why::NotSetUp)),
    };
    journey.attempt.record_waiting();
    Ok(pages::with_cookie(response, set.as_deref()))
}

/// `POST /.passeur/way/{name}`. The guard has checked where it comes from.
pub async fn post(incoming: Incoming, Path(name): Path<String>, Form(entered): Form<Entered>) -> Response {
    let desk = incoming.desk();
    let done = async {
        let mut tried = came_back(desk, &name, entered.flow.clone(), |_| true).await?;
        let way = tried.way;
        let came = match (way.password(), &way.kind) {
            (Some(of), _) => password::tried(&mut tried, of, &entered).await,
            (None, WayKind::MailedCode(m)) => mailed::tried(&mut tried, m, &entered).await,
            (None, WayKind::Sponsor(s)) => sponsored::tried(&mut tried, s, &entered).await,
            (None, WayKind::Passkey(p)) => passkey::tried(&mut tried, p, &entered).await,
            (
                None,
                WayKind::Password(_) | WayKind::Ticket(_) | WayKind::Certificate(_) | WayKind::Gateway | WayKind::Machine(_),
            ) => Err(Why::FAILED_CHECK),
        };
        tried.end(came).await
    };
    after_form(desk.site(), desk.visit, answer(done.await).await)
}

/// Somebody who proved who they are to us.
struct Person {
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
