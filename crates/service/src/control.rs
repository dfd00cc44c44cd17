//! The service as the data path sees it.

use std::net::IpAddr;
use std::sync::Arc;

use async_trait::async_trait;
use axum::response::IntoResponse;
use http::{HeaderMap, HeaderValue, Request, Response, StatusCode, header};
use http_body_util::BodyExt;
use passeur_core::address::ReturnPath;
use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::Outcome;
use passeur_core::decide::{RequestView, tell_section};
use passeur_core::evidence::Evidence;
use passeur_core::id::{CrossingId, Token};
use passeur_core::session::State;
use passeur_core::site::Gate;
use passeur_core::step::{Param, Phrase, Step, StepCode};
use passeur_engine::attempt::{Attempt, Who};
use passeur_engine::grants::{self, Asking, Carriage, Decided, Held};
use passeur_engine::look_up::Again;
use passeur_engine::{ending, look_up, watch};
use passeur_gateway::admission::Admission;
use passeur_gateway::bodies::Bound;
use passeur_gateway::body::{Body, BoxError};
use passeur_gateway::control::{
    Control, FailureKind, Interrupted, NoSession, Presented, Proof, Ticket, TicketFailed, UpstreamFailure,
};
use passeur_gateway::edition::WebEdition;
use passeur_live::edition::Edition;
use passeur_live::session::LiveSession;
use passeur_store::{GateTokenRow, SessionRow, StoreError};
use tower::ServiceExt;

use crate::api::problem;
use crate::app::App;
use crate::callers::{self, NotTaken};
use crate::emergency;
use crate::pages::{self, redirect};
use crate::signin::ask::{Ask, cookie_digest};
use crate::signin::{ClientAddress, Visit, arrive, browser_binding, forget, forms, local, session, step_up};
use crate::{rights, standings};

/// How often a session is read again while its evidence grows, before the request is told to come back.
const LOADS_MAX: usize = 5;

/// What the store and the directory say of a gate's token.
struct Loaded {
    held: GateTokenRow,
    row: SessionRow,
    live: Arc<LiveSession>,
    known: Evidence,
    /// What asking the directory again brought, where it was asked.
    again: Option<Again>,
    /// How often this node had learnt of rights that were read again, before any of this was read.
    seen: u64,
}

/// Implements [`Control`] over the shared state and the sign-in host's router.
pub struct Service {
    app: App,
    router: axum::Router,
}

impl Service {
    pub fn new(app: App, router: axum::Router) -> Service {
        Service { app, router }
    }
}

/// An Axum answer for the data path.
fn plain(response: axum::response::Response) -> Response<Body> {
    response.map(|b| b.map_err(BoxError::from).boxed_unsync())
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
impl Control for Service {
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
        let (Some(visit), Some(gate)) = (Visit::of(&parts), edition.site.gate(gate)) else {
            return plain(StatusCode::INTERNAL_SERVER_ERROR.into_response());
        };
        let reads = matches!(parts.method, http::Method::GET | http::Method::HEAD);
        plain(match (parts.uri.path(), reads) {
            ("/.passeur/arrive", true) => arrive::arrive(&self.app, &edition, gate, &visit).await,
            ("/.passeur/sign-out", true) => redirect(&edition.site.address.at("/.passeur/sign-out"), None),
            ("/.passeur/form", true) => forms::offer(&self.app, &edition, gate, &visit).await,
            ("/.passeur/forget", true) => forget::forget(&self.app, gate, &visit),
            ("/.passeur/page.css", true) => crate::router::style().await.into_response(),
            _ => problem(StatusCode::NOT_FOUND, "not-found", "Nothing is here", "Passeur has no such page on a gate.")
                .into_response(),
        })
    }

    async fn unknown_host(&self, mut request: Request<Body>, address: IpAddr) -> Response<Body> {
        let offered = emergency::offered(&self.app, request.headers(), address).is_some();
        if offered && emergency::serves(request.uri().path()) {
            request.extensions_mut().insert(emergency::AnyHost);
            return self.pages(request, address).await;
        }
        let words = "No gate has this host name. See the addresses in the site file.";
        plain(problem(StatusCode::MISDIRECTED_REQUEST, "unknown-host", "Unknown host", words).into_response())
    }

    fn not_ready(&self) -> Option<&'static str> {
        watch::not_ready(&self.app)
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
        let digest = passeur_gateway::caller::digest(gate, token);
        let begin = async |gate: &Gate| callers::begin(&self.app, &edition, gate, token, facts).await;
        self.present_caller(&edition, gate, digest, facts, begin).await
    }

    async fn present_certificate(
        &self,
        edition: Arc<WebEdition>,
        gate: &str,
        chain: Arc<[Vec<u8>]>,
        facts: &RequestFacts,
    ) -> Presented {
        let digest = passeur_gateway::caller::certificate_digest(gate, &chain);
        let begin = async |gate: &Gate| callers::begin_by_certificate(&self.app, &edition.live, gate, &chain, facts).await;
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
        let mut attempt = Attempt::begin(&self.app, &gate.name, facts);
        if !facts.navigates && form.is_none() {
            attempt.step(|| Step::new(StepCode::NoSession).with("why", Param::reason(why.code())));
            attempt.step(|| {
                Step::new(StepCode::NotNavigation).with("method", facts.method.as_str()).with("why", Param::reason(why.code()))
            });
            let id = attempt.record_anonymous(Outcome::Unauthenticated);
            return plain(unauthorized(why, id));
        }
        let (binding, set) = browser_binding(&self.app, headers, &gate.address, "binding");
        let target = ReturnPath::parse(&facts.target);
        let mut ask = Ask {
            gate: gate.name.clone(),
            cut: target.is_none(),
            target: target.unwrap_or_else(ReturnPath::root).as_str().to_owned(),
            binding: cookie_digest(&binding),
            crossing: attempt.id,
            began: attempt.began().timestamp_millis(),
            why: why.code().to_owned(),
            form: None,
            request: None,
            asked: vec![],
        };
        let Some(form) = form else {
            let to = edition.site.address.at(&format!("/.passeur/sign-in?ask={}", ask.seal(&self.app)));
            return plain(redirect(&to, set.as_deref()));
        };
        let kept = match &form {
            Interrupted::Whole(body) => match forms::keep(&self.app, gate, &ask.target, body, &binding, facts.address).await {
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
        let to = edition.site.address.at(&format!("/.passeur/sign-in?ask={}", ask.seal(&self.app)));
        let mut answer = pages::form_interrupted(&edition.site, facts.lang, gate, &to, is_kept).into_response();
        if let Some(cookie) = set {
            pages::set_cookie(&mut answer, &cookie);
        }
        plain(answer)
    }

    async fn reject(
        &self,
        edition: Arc<Edition>,
        gate: &str,
        status: StatusCode,
        step: Step,
        facts: &RequestFacts,
    ) -> Response<Body> {
        let mut attempt = Attempt::begin(&self.app, gate, facts);
        let words = passeur_core::step::sentence(&step, facts.lang);
        attempt.step(|| step);
        let id = attempt.record_anonymous(Outcome::BadRequest);
        if facts.wants_html {
            let refused = pages::Refused::of_step(&attempt, id, Some(words));
            return plain(pages::refused(&edition.site, facts.lang, status, &refused).into_response());
        }
        plain(problem(status, "bad-request", "Not let through", &words).with_crossing(id).into_response())
    }

    fn forged(&self, admission: &Admission, names: Vec<String>, facts: &RequestFacts) {
        let mut attempt = self.attempt_of(admission.entry.gate(), Some(admission), facts);
        attempt.step(|| Step::new(StepCode::HeadersStripped).with("names", names));
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
        let evidence = match self.app.store.session(admission.session.id).await {
            Ok(row) => row.and_then(|r| session::read_evidence(&r)),
            Err(e) => return plain(pages::store_failed(&edition.site, facts.lang, &e).into_response()),
        };
        let words = evidence.as_ref().and_then(|e| {
            attempt.set_evidence(e);
            tell_section(&edition.site, gate, section, e, &facts.circumstances(self.app.now()), attempt.witness())
        });
        // Kept once for each session and section; a page loaded again names the same crossing.
        let id = match admission.told(section) {
            Some(id) => id,
            None => {
                if let Err(e) = attempt.record(Outcome::Refused).await {
                    return plain(pages::store_failed(&edition.site, facts.lang, &e).into_response());
                }
                admission.tell(section, attempt.id);
                attempt.id
            }
        };
        if facts.wants_html {
            let refused = pages::Refused::of_step(&attempt, id, words);
            return plain(pages::refused(&edition.site, facts.lang, StatusCode::FORBIDDEN, &refused).into_response());
        }
        let words = words.unwrap_or_else(|| "This part of the application asks for more than entry.".to_owned());
        plain(problem(StatusCode::FORBIDDEN, "section", "Refused", &words).with_crossing(id).into_response())
    }

    async fn upstream_failed(
        &self,
        gate: &str,
        admission: Option<&Admission>,
        how: UpstreamFailure,
        facts: &RequestFacts,
    ) -> Response<Body> {
        let Some(edition) = self.app.live.get() else {
            return plain(StatusCode::BAD_GATEWAY.into_response());
        };
        let name = gate;
        let status = match how.kind {
            FailureKind::TimeOut => StatusCode::GATEWAY_TIMEOUT,
            FailureKind::Connect | FailureKind::Certificate | FailureKind::Protocol => StatusCode::BAD_GATEWAY,
        };
        let mut attempt = self.attempt_of(name, admission, facts);
        let why = Param::Reason { code: how.kind.code().to_owned(), detail: how.detail };
        attempt.step(|| Step::new(StepCode::UpstreamFailed).with("upstream", how.upstream).with("how", why));
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
            Some(gate) => standings::ticket(&self.app, &edition, gate, &admission, anew).await,
            None => {
                let step = Step::new(StepCode::UpstreamTicketFailed).with("service", gate).with("how", "there is no such gate");
                Err(Box::new(TicketFailed::of(step)))
            }
        }
    }

    async fn proves(&self, proof: Proof, token: Vec<u8>) -> Result<(), String> {
        standings::proves(&self.app, proof, token).await
    }

    async fn ticket_failed(
        &self,
        gate: &str,
        admission: Arc<Admission>,
        failed: TicketFailed,
        facts: &RequestFacts,
    ) -> Response<Body> {
        let attempt = self.attempt_of(gate, Some(&admission), facts);
        plain(standings::answer(&self.app, attempt, gate, &admission, failed, facts).await)
    }

    async fn still_live(&self, session: uuid::Uuid) -> Option<bool> {
        self.app.store.session(session).await.ok().map(|row| row.is_some_and(|r| r.ended_at.is_none()))
    }

    async fn blind(&self, _: &RequestFacts) -> Response<Body> {
        let words = "Whether this session was ended cannot be seen just now, so nobody is let through. Try again in a moment.";
        let mut response = problem(StatusCode::SERVICE_UNAVAILABLE, "store", "Not possible just now", words).into_response();
        response.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from_static("5"));
        plain(response)
    }
}

impl Service {
    /// What a program's token or certificate opens: what it opened before, or a session that `begin` begins.
    async fn present_caller(
        &self,
        edition: &WebEdition,
        gate: &str,
        digest: [u8; 32],
        facts: &RequestFacts,
        begin: impl AsyncFnOnce(&Gate) -> Result<(), NotTaken>,
    ) -> Presented {
        let Some(gate) = edition.site.gate(gate) else {
            return Presented::No(NoSession::OtherGate);
        };
        let done = async {
            match self.load(edition, gate, &digest, facts).await? {
                Presented::No(NoSession::Ended) => return Err(callers::ended(self.app.new_crossing())),
                Presented::No(_) => {}
                presented => return Ok(presented),
            }
            begin(gate).await?;
            Ok(self.load(edition, gate, &digest, facts).await?)
        };
        match done.await {
            Ok(presented) => presented,
            Err(NotTaken::Answer(response)) => Presented::Refused(plain(*response)),
            Err(NotTaken::Store(e)) => {
                Presented::Refused(plain(pages::store_failed(&edition.site, facts.lang, &e).into_response()))
            }
        }
    }

    /// A further attempt, of somebody who was admitted where anybody was.
    fn attempt_of(&self, gate: &str, admission: Option<&Admission>, facts: &RequestFacts) -> Attempt {
        let mut attempt = Attempt::begin(&self.app, gate, facts);
        if let Some(a) = admission {
            let person = a.entry.person();
            attempt.who =
                Some(Who { provider: person.provider.clone(), subject: person.subject.clone(), name: person.subject.clone() });
            attempt.session = Some(a.session.id);
        }
        attempt
    }

    /// From the store to an admission: token, session, decision.
    async fn load(
        &self,
        edition: &WebEdition,
        gate: &Gate,
        token: &[u8; 32],
        facts: &RequestFacts,
    ) -> Result<Presented, StoreError> {
        for _ in 0..LOADS_MAX {
            if let Some(presented) = self.load_once(edition, gate, token, facts).await? {
                return Ok(presented);
            }
        }
        Err(StoreError::Conflict)
    }

    /// None where somebody stored newer evidence of the session meanwhile: it is read again.
    async fn load_once(
        &self,
        edition: &WebEdition,
        gate: &Gate,
        token: &[u8; 32],
        facts: &RequestFacts,
    ) -> Result<Option<Presented>, StoreError> {
        let seen = self.app.rights_seen();
        let no = |why| Ok(Some(Presented::No(why)));
        let Some((held, mut row, live)) = session::by_gate_token(&self.app, token).await? else {
            return no(NoSession::Unknown);
        };
        if held.gate != gate.name {
            return no(NoSession::OtherGate);
        }
        if held.expires_at.is_some_and(|until| self.app.now() >= until) {
            return no(NoSession::TooOld);
        }
        match session::state(&self.app, edition, &row, &live) {
            State::Live => {}
            State::Ended => return no(NoSession::Ended),
            State::IdleTooLong => return no(NoSession::IdleTooLong),
            State::TooOld => return no(NoSession::TooOld),
        }
        let Some(mut known) = session::read_evidence(&row) else {
            return no(NoSession::Unknown);
        };
        if !gate.access.takes(&edition.site, &known) {
            // The edition now wants another way in: the person signs in by that.
            return no(NoSession::Unknown);
        }
        let filled = look_up::fill(&self.app, &edition.site, &gate.access, &mut known).await;
        let before = known.facts();
        let again = look_up::again(&self.app, &edition.site, &gate.access, &mut known, edition.since, false).await;
        if filled || matches!(again, Some(Again::Answered { .. })) {
            if !session::keep_evidence(&self.app, &mut row, &known).await? {
                return Ok(None);
            }
            if known.facts() != before {
                // What other requests opened on what was known before is looked at.
                rights::changed(&self.app, row.id).await?;
            }
        }
        let gone = again.as_ref().is_some_and(|a| a.is_gone(&gate.access));
        let id = row.id;
        let loaded = Loaded { held, row, live, known, again, seen };
        let presented = self.decide(edition, gate, token, facts, loaded).await?;
        if gone {
            // Told and written first: the session is over everywhere, and what is open is cut.
            ending::end(&self.app, &[id], "the directory", None).await?;
        }
        Ok(Some(presented))
    }

    /// Decides again for a request, and keeps what is granted.
    async fn decide(
        &self,
        edition: &WebEdition,
        gate: &Gate,
        token: &[u8; 32],
        facts: &RequestFacts,
        loaded: Loaded,
    ) -> Result<Presented, StoreError> {
        let Loaded { held: held_row, row, live, known, again, seen } = loaded;
        let site = &edition.site;
        let at = facts.circumstances(self.app.now());
        // A gate of another edition is none here.
        let Some(view) = edition.view(&gate.name) else { return Ok(Presented::No(NoSession::Unknown)) };
        let mut attempt = Attempt::begin(&self.app, &gate.name, facts);
        attempt.is_of(&row);
        attempt.set_evidence(&known);
        let held = Held {
            token,
            session: &live,
            decision: &held_row.decision,
            crossing: held_row.crossing.parse::<CrossingId>().map_err(|e| StoreError::Query(e.to_string()))?,
            view,
            why: why_again(edition, view, &row, again.as_ref()),
            again: again.as_ref(),
        };
        let asking = Asking { edition, gate, evidence: &known, at };
        let may_ask = |need: &_| facts.navigates && step_up::next(site, known.way(), need, &[]).is_some();
        match grants::decide(&self.app, asking, Carriage::Held(held), &mut attempt, may_ask).await? {
            // What is missing can be asked for at the sign-in host, as if there were no session yet.
            Decided::More(_) | Decided::Afresh(_) => Ok(Presented::No(NoSession::StepUp)),
            Decided::Granted(granted) => {
                let crossing = granted.crossing();
                let look = view.look(&at);
                // What was read before rights changed counts for this request and is not used again.
                let generation = live.generation();
                let generation = (self.app.rights_seen() == seen).then_some(generation);
                let Some(admission) = Admission::new(live, edition, look, generation, granted.into_admitted(), crossing) else {
                    return Ok(Presented::No(NoSession::Unknown));
                };
                let admission = match local::handed(&self.app, gate, &row) {
                    Some(value) => admission.handing("authorization", value.as_bytes()),
                    None => Some(admission),
                };
                let Some(admission) = admission else { return Ok(Presented::No(NoSession::Unknown)) };
                let admission = Arc::new(
                    admission.limited(&session::lifetimes(site, &row, Some(gate))).within(held_row.expires_at, held_row.paths),
                );
                self.app.table.put(*token, admission.clone());
                // Whatever ended the session while this was decided has flagged it.
                if admission.is_over() {
                    return Ok(Presented::No(NoSession::Ended));
                }
                Ok(Presented::Admitted(admission))
            }
            Decided::Refused(refusal, crossing) => {
                let refused = pages::Refused::of_step(&attempt, crossing, refusal.words);
                if facts.wants_html {
                    return Ok(Presented::Refused(plain(
                        pages::refused(site, facts.lang, StatusCode::FORBIDDEN, &refused).into_response(),
                    )));
                }
                let words = "The rules of this gate do not let this person in.";
                let response =
                    problem(StatusCode::FORBIDDEN, "refused", "Refused", words).with_crossing(crossing).into_response();
                Ok(Presented::Refused(plain(response)))
            }
        }
    }
}

/// Why a live session is decided anew: another edition, or else what the gate's conditions ask of requests and of time.
fn why_again(edition: &Edition, view: &RequestView, row: &SessionRow, again: Option<&Again>) -> Phrase {
    if let Some(Again::Answered { before, now }) = again
        && before.at >= edition.since
        && now.state != before.state
    {
        return Phrase::ReRead;
    }
    match (view.is_blind(), view.is_timed()) {
        (true, false) => Phrase::Edition { number: i64::from(edition.number) },
        _ if row.began > edition.since && view.is_timed() && view.is_blind() => Phrase::TimePassed,
        _ if row.began > edition.since => Phrase::OtherRequest,
        _ => Phrase::Edition { number: i64::from(edition.number) },
    }
}
