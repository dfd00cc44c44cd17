//! Gates of kind `web`, wired: what the data path asks of the rest ([`Control`]), answered by the engine, by sign-in and by management.
//!
//! [`admit`] makes admissions of what requests show, [`holders`] takes them back, [`programs`] and [`tickets`] turn refusals into answers.

mod admit;
mod holders;
mod network;
mod profile;
mod programs;
mod tickets;
mod tunnel;

use std::net::IpAddr;
use std::sync::Arc;

use async_trait::async_trait;
use axum::response::IntoResponse;
use http::{HeaderMap, HeaderValue, Request, Response, StatusCode, header};
use http_body_util::BodyExt;
use passeur_core::address::ReturnPath;
use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::Outcome;
use passeur_core::decide::note_section;
use passeur_core::id::{CrossingId, Token};
use passeur_core::session::State;
use passeur_core::site::{Gate, Place, Site};
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_engine::attempt::{Attempt, Who};
use passeur_engine::{Engine, sessions, watch};
use passeur_gate_network::NetworkGate;
use passeur_gateway::admission::Admission;
use passeur_gateway::bodies::Bound;
use passeur_gateway::body::{Body, BoxError};
use passeur_gateway::control::{Control, FailureKind, Interrupted, NoSession, Presented, Proof, Ticket, UpstreamFailure};
use passeur_gateway::edition::WebEdition;
use passeur_gateway::table::Table;
use passeur_http::cookies::{self, Found};
use passeur_live::edition::Edition;
use passeur_live::ticket::TicketFailed;
use passeur_management::{App, emergency};
use passeur_signin::journey::flow::cookie_digest;
use passeur_signin::journey::{Ask, Destination};
use passeur_signin::pages::{self, redirect};
use passeur_signin::problem::{ApiError, problem};
use passeur_signin::{ClientAddress, Visit, browser_binding, forms};
use passeur_store::{SessionRow, StoreError};
use tower::ServiceExt;

pub use holders::{Admissions, All};

/// Implements [`Control`] over the shared state and the sign-in host's router.
pub struct WebGate {
    engine: Engine,
    table: Arc<Table>,
    management: App,
    router: axum::Router,
    /// Where this node guards zones.
    networks: Option<NetworkGate>,
}

impl WebGate {
    /// Over the node's engine, what sessions opened at gates, and what answers: the router of the sign-in host, and the network gates.
    pub fn new(
        engine: Engine,
        table: Arc<Table>,
        management: App,
        (router, networks): (axum::Router, Option<NetworkGate>),
    ) -> WebGate {
        WebGate { engine, table, management, router, networks }
    }
}

/// An Axum answer for the data path.
fn plain(response: axum::response::Response) -> Response<Body> {
    response.map(|b| b.map_err(BoxError::from).boxed_unsync())
}

/// A refusal: a page for whoever reads pages, and otherwise a problem document. Both name the crossing.
fn refuse(site: &Site, facts: &RequestFacts, refused: &pages::Refused, otherwise: ApiError) -> Response<Body> {
    plain(match facts.wants_html {
        true => pages::refused(site, facts.lang, otherwise.status(), refused).into_response(),
        false => otherwise.with_crossing(refused.id).into_response(),
    })
}

/// A refusal for a client that is not a navigating person: a problem document.
fn unauthorized(why: NoSession, id: CrossingId) -> axum::response::Response {
    let words = "This address needs a session. Open it in a browser to sign in.";
    let mut response = problem(StatusCode::UNAUTHORIZED, why.code(), "Sign-in needed", words).with_crossing(id).into_response();
    let challenge = HeaderValue::from_static("Cookie realm=\"passeur\", form-action=\"/\"");
    response.headers_mut().insert(header::WWW_AUTHENTICATE, challenge);
    response
}

#[async_trait]
impl Control for WebGate {
    fn bound(&self, path: &str) -> Bound {
        crate::router::bound(path)
    }

    async fn pages(&self, request: Request<Body>, address: IpAddr) -> Response<Body> {
        let mut request = request.map(axum::body::Body::new);
        request.extensions_mut().insert(ClientAddress(address));
        match self.router.clone().oneshot(request).await {
            Ok(response) => plain(response),
            Err(never) => match never {},
        }
    }

    async fn gate_pages(&self, edition: Arc<Edition>, gate: &str, request: Request<Body>, address: IpAddr) -> Response<Body> {
        let (mut parts, _) = request.into_parts();
        parts.extensions.insert(ClientAddress(address));
        let Some(gate) = edition.site.gate(gate) else {
            return plain(StatusCode::INTERNAL_SERVER_ERROR.into_response());
        };
        if let Some(answer) = network::own_page(self, &edition, gate, &parts, address).await {
            return answer;
        }
        if let Some(answer) = tunnel::own_page(self, &edition, gate, &parts).await {
            return answer;
        }
        plain(passeur_signin::router::of_gate(&self.engine, &edition, gate, &parts).await)
    }

    async fn unknown_host(&self, mut request: Request<Body>, address: IpAddr) -> Response<Body> {
        let offered = emergency::offered(&self.management, request.headers(), address).is_some();
        if offered && emergency::serves(request.uri().path()) {
            request.extensions_mut().insert(emergency::AnyHost);
            return self.pages(request, address).await;
        }
        let words = "No gate has this host name. See the addresses in the site file.";
        plain(problem(StatusCode::MISDIRECTED_REQUEST, "unknown-host", "Unknown host", words).into_response())
    }

    fn not_ready(&self) -> Option<&'static str> {
        watch::not_ready(&self.engine)
    }

    async fn present(&self, edition: Arc<WebEdition>, gate: &str, token: &Token, facts: &RequestFacts) -> Presented {
        let Some(gate) = edition.site.gate(gate) else {
            return Presented::No(NoSession::OtherGate);
        };
        match self.load(&edition, gate, &token.digest(), facts).await {
            Ok(p) => p,
            Err(e) => Presented::Refused(plain(pages::store_failed(&edition.site, facts.lang, &e).into_response())),
        }
    }

    async fn present_bearer(&self, edition: Arc<WebEdition>, gate: &str, token: &str, facts: &RequestFacts) -> Presented {
        let digest = passeur_live::programs::token_digest(gate, token);
        let begin = async |gate: &Gate| programs::begin(&self.engine, &edition, gate, token, facts).await;
        self.present_caller(&edition, gate, digest, facts, begin).await
    }

    async fn present_certificate(
        &self,
        edition: Arc<WebEdition>,
        gate: &str,
        chain: Arc<[Vec<u8>]>,
        facts: &RequestFacts,
    ) -> Presented {
        let digest = passeur_live::programs::certificate_digest(gate, &chain);
        let begin = async |gate: &Gate| programs::begin_by_certificate(&self.engine, &edition.live, gate, &chain, facts).await;
        self.present_caller(&edition, gate, digest, facts, begin).await
    }

    async fn turn_away(
        &self,
        edition: Arc<Edition>,
        gate: &str,
        why: NoSession,
        headers: &HeaderMap,
        form: Option<Interrupted>,
        facts: &RequestFacts,
    ) -> Response<Body> {
        let Some(gate) = edition.site.gate(gate) else {
            return plain(StatusCode::NOT_FOUND.into_response());
        };
        let mut attempt = Attempt::begin(&self.engine, gate.place(), facts);
        if !facts.navigates && form.is_none() {
            attempt.step(|| step!(NoSession { why: Param::reason(why.code()) }));
            attempt.step(|| step!(NotNavigation { method: facts.method.as_str(), why: Param::reason(why.code()) }));
            let id = attempt.record_anonymous(Outcome::Unauthenticated);
            return plain(unauthorized(why, id));
        }
        if facts.navigates {
            network::before_sign_in(self, &edition, gate, facts).await;
        }
        let (binding, set) = browser_binding(&self.engine, headers, &gate.address, "binding");
        let target = ReturnPath::parse(&facts.target);
        let mut ask = Ask {
            cut: target.is_none(),
            target: target.unwrap_or_else(ReturnPath::root).as_str().to_owned(),
            ..ask_of(gate, &binding, &attempt, why.code())
        };
        let Some(form) = form else {
            let to = edition.site.address.at(&Destination::Gate(ask).onward(&self.engine));
            return plain(redirect(&to, set.as_deref()));
        };
        let kept = match &form {
            Interrupted::Whole(body) => match forms::keep(&self.engine, gate, &ask.target, body, &binding, facts.address).await {
                Ok(kept) => kept,
                Err(e) => return plain(pages::store_failed(&edition.site, facts.lang, &e).into_response()),
            },
            Interrupted::TooLarge => None,
        };
        ask.form = Some(if kept.is_some() { "form-kept" } else { "form-not-kept" }.to_owned());
        let path = facts.target.split('?').next().unwrap_or("/").to_owned();
        ask.request = Some((passeur_core::text::shorten(&path, 1_000), facts.method.clone()));
        let is_kept = kept.is_some();
        ask.target = kept.map_or_else(|| "/".to_owned(), |token| forms::path(&token));
        let to = edition.site.address.at(&Destination::Gate(ask).onward(&self.engine));
        let answer = pages::form_interrupted(&edition.site, facts.lang, gate, &to, is_kept).into_response();
        plain(pages::with_cookie(answer, set.as_deref()))
    }

    async fn reject(
        &self,
        edition: Arc<Edition>,
        gate: &str,
        status: StatusCode,
        step: Step,
        facts: &RequestFacts,
    ) -> Response<Body> {
        let mut attempt = Attempt::begin(&self.engine, Place::gate(gate), facts);
        let words = passeur_core::step::sentence(&step, facts.lang);
        attempt.step(|| step);
        let id = attempt.record_anonymous(Outcome::BadRequest);
        let otherwise = problem(status, "bad-request", "Not let through", &words);
        refuse(&edition.site, facts, &pages::Refused::of_step(&attempt, id, Some(words)), otherwise)
    }

    fn forged(&self, admission: &Admission, names: Vec<String>, facts: &RequestFacts) {
        let mut attempt = self.attempt_of(admission.gate(), Some(admission), facts);
        attempt.step(|| step!(HeadersStripped { names }));
        attempt.record_anonymous(Outcome::Admitted);
    }

    async fn section_refused(
        &self,
        edition: Arc<Edition>,
        gate: &str,
        admission: &Admission,
        section: usize,
        facts: &RequestFacts,
    ) -> Response<Body> {
        let Some(gate) = edition.site.gate(gate) else {
            return plain(StatusCode::NOT_FOUND.into_response());
        };
        let mut attempt = self.attempt_of(gate.name.as_str(), Some(admission), facts);
        let evidence = match self.engine.store.session(admission.session.id).await {
            Ok(row) => row.and_then(|r| sessions::read_evidence(&r)),
            Err(e) => return plain(pages::store_failed(&edition.site, facts.lang, &e).into_response()),
        };
        let words = evidence.as_ref().and_then(|e| {
            attempt.set_evidence(e);
            note_section(&edition.site, gate, section, e, &facts.circumstances(self.engine.now()), attempt.witness())
        });
        // Kept once for each session and section; a page loaded again names the same crossing.
        let id = match admission.refused_by(section) {
            Some(id) => id,
            None => {
                if let Err(e) = attempt.record(Outcome::Refused).await {
                    return plain(pages::store_failed(&edition.site, facts.lang, &e).into_response());
                }
                admission.note_refused_by(section, attempt.id);
                attempt.id
            }
        };
        let detail = words.as_deref().unwrap_or("This part of the application asks for more than entry.");
        let otherwise = problem(StatusCode::FORBIDDEN, "section", "Refused", detail);
        refuse(&edition.site, facts, &pages::Refused::of_step(&attempt, id, words), otherwise)
    }

    async fn network_page(
        &self,
        edition: Arc<Edition>,
        gate: &str,
        admission: &Admission,
        facts: &RequestFacts,
    ) -> Response<Body> {
        let Some(gate) = edition.site.gate(gate) else {
            return plain(StatusCode::NOT_FOUND.into_response());
        };
        if let Some(page) = tunnel::page(self, &edition, gate, admission.session.id, facts).await {
            return page;
        }
        network::page(self, &edition, gate, admission.session.id, facts).await
    }

    async fn upstream_failed(
        &self,
        gate: &str,
        admission: Option<&Admission>,
        how: UpstreamFailure,
        facts: &RequestFacts,
    ) -> Response<Body> {
        let Some(edition) = self.engine.live.get() else {
            return plain(StatusCode::BAD_GATEWAY.into_response());
        };
        let name = gate;
        let status = match how.kind {
            FailureKind::TimeOut => StatusCode::GATEWAY_TIMEOUT,
            FailureKind::Connect | FailureKind::Certificate | FailureKind::Protocol => StatusCode::BAD_GATEWAY,
        };
        let mut attempt = self.attempt_of(name, admission, facts);
        let why = Param::Reason { code: how.kind.code().to_owned(), detail: how.detail };
        attempt.step(|| step!(UpstreamFailed { upstream: how.upstream, how: why }));
        let id = attempt.record_anonymous(Outcome::Failed);
        if facts.wants_html {
            return plain(pages::upstream_failed(&edition.site, facts.lang, name, status, id).into_response());
        }
        let words = "The application behind this gate does not answer.";
        plain(problem(status, "upstream", "No answer from the application", words).with_crossing(id).into_response())
    }

    async fn ticket(
        &self,
        edition: Arc<Edition>,
        gate: &str,
        admission: Arc<Admission>,
        anew: bool,
    ) -> Result<Ticket, Box<TicketFailed>> {
        match edition.site.gate(gate) {
            Some(gate) => tickets::ticket(&self.engine, &edition, gate, &admission, anew).await,
            None => {
                let step = step!(UpstreamTicketFailed { service: gate, how: "there is no such gate" });
                Err(Box::new(TicketFailed::of(step)))
            }
        }
    }

    async fn proves(&self, proof: Proof, token: Vec<u8>) -> Result<(), String> {
        tickets::proves(&self.engine, proof, token).await
    }

    async fn ticket_failed(
        &self,
        gate: &str,
        admission: Arc<Admission>,
        failed: TicketFailed,
        facts: &RequestFacts,
    ) -> Response<Body> {
        let attempt = self.attempt_of(gate, Some(&admission), facts);
        tickets::answer(&self.engine, attempt, gate, failed, facts).await
    }

    async fn still_live(&self, session: uuid::Uuid) -> Option<bool> {
        self.engine.store.session(session).await.ok().map(|row| row.is_some_and(|r| r.ended_at.is_none()))
    }

    async fn blind(&self, _: &RequestFacts) -> Response<Body> {
        let words = "Whether this session was ended cannot be seen just now, so nobody is let through. Try again in a moment.";
        let mut response = problem(StatusCode::SERVICE_UNAVAILABLE, "store", "Not possible just now", words).into_response();
        response.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from_static("5"));
        plain(response)
    }
}

/// The live session by whose cookie a form comes.
async fn session_of(web: &WebGate, edition: &Edition, gate: &Gate, visit: &Visit) -> Result<Option<SessionRow>, StoreError> {
    let Found::One(text) = cookies::find(&visit.headers, &gate.address.cookie("gate").0) else { return Ok(None) };
    let Some(token) = Token::parse(&text) else { return Ok(None) };
    let found = sessions::by_gate_token(&web.engine, &token.digest()).await?;
    let is_live = |row: &SessionRow, live: &_| sessions::state(&web.engine, edition, row, live) == State::Live;
    Ok(found.filter(|(held, row, live)| held.gate == gate.name && is_live(row, live)).map(|(_, row, _)| row))
}

/// What a gate asks of the sign-in host, for its first page.
fn ask_of(gate: &Gate, binding: &str, attempt: &Attempt, why: &str) -> Ask {
    Ask {
        gate: gate.name.clone(),
        cut: false,
        target: ReturnPath::root().as_str().to_owned(),
        binding: cookie_digest(binding),
        crossing: attempt.id,
        began: attempt.began().timestamp_millis(),
        why: why.to_owned(),
        form: None,
        request: None,
        asked: vec![],
        anew: false,
    }
}

impl WebGate {
    /// A further attempt, of somebody who was admitted where anybody was.
    fn attempt_of(&self, gate: &str, admission: Option<&Admission>, facts: &RequestFacts) -> Attempt {
        let mut attempt = Attempt::begin(&self.engine, Place::gate(gate), facts);
        if let Some(a) = admission {
            let (provider, subject) = a.person();
            attempt.who = Some(Who { provider, name: subject.clone(), subject });
            attempt.session = Some(a.session.id);
        }
        attempt
    }
}
