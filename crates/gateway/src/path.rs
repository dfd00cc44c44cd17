//! The path of a request, one way with no back and forth.

use std::net::IpAddr;
use std::sync::Arc;

use http::{HeaderName, Request, Response, StatusCode};
use http_body_util::BodyExt;
use hyper::body::Incoming;
use passeur_core::id::Token;
use passeur_core::path;
use passeur_core::session::State;
use passeur_core::site::Gate;
use passeur_core::step::{Param, Step, StepCode};
use passeur_links::clock::Clock;

use crate::admission::Admission;
use crate::body::{Body, BoxError, Through, empty, full};
use crate::control::{Control, NoSession, Presented, RequestFacts};
use crate::cookies::{self, Found};
use crate::shared::{Edition, Live};
use crate::table::Table;
use crate::upstream::Upstreams;
use crate::{head, outgoing, response, websocket};

/// After this long without seeing the revocation counter, each request asks the store.
const STALE_MS: i64 = 1_000;
/// After this long without an answer of the store, requests are refused.
const BLIND_MS: i64 = 10_000;

/// The data path with all it needs.
pub struct Gateway {
    control: Arc<dyn Control>,
    live: Live,
    table: Arc<Table>,
    clock: Clock,
    upstreams: Upstreams,
}

impl Gateway {
    /// Wires the data path.
    pub fn new(control: Arc<dyn Control>, live: Live, table: Arc<Table>, clock: Clock) -> Gateway {
        Gateway { control, live, table, clock, upstreams: Upstreams::new() }
    }

    /// Answers one request.
    pub async fn handle(&self, request: Request<Incoming>, address: IpAddr) -> Response<Body> {
        let Some(host) = head::host(request.uri(), request.headers()) else {
            return bare(StatusCode::BAD_REQUEST, "This request names no host, or more than one.\n");
        };
        let edition = self.live.get();
        if let Some(edition) = &edition
            && let Some(gate) = edition.site.gate_by_host(&host)
        {
            return self.at_gate(edition.clone(), gate, request, address).await;
        }
        let request = request.map(|b| b.map_err(BoxError::from).boxed_unsync());
        match edition {
            Some(e) if !e.site.address.is_host(&host) => self.control.unknown_host(request).await,
            _ => self.control.pages(request, address).await,
        }
    }

    async fn at_gate(&self, edition: Arc<Edition>, gate: &Gate, request: Request<Incoming>, address: IpAddr) -> Response<Body> {
        let facts = RequestFacts::of(request.method(), request.uri(), request.headers(), address);
        if let Err((status, step)) = head::check(request.method(), request.headers(), &gate.address.origin()) {
            let mut refusal = self.control.reject(edition.clone(), &gate.name, status, step, &facts).await;
            // Where framing is in doubt, nothing more is read from this connection.
            refusal.headers_mut().insert(http::header::CONNECTION, http::HeaderValue::from_static("close"));
            return refusal;
        }
        if is_own_path(request.uri().path()) {
            let request = request.map(|b| b.map_err(BoxError::from).boxed_unsync());
            return self.control.gate_pages(edition.clone(), &gate.name, request, address).await;
        }
        match self.admission(&edition, gate, &request, &facts).await {
            Ok(admission) => self.forward(gate, request, admission, facts).await,
            Err(response) => *response,
        }
    }

    /// From cookie to admission: memory first, the rest of the service when that is not enough.
    async fn admission(
        &self,
        edition: &Arc<Edition>,
        gate: &Gate,
        request: &Request<Incoming>,
        facts: &RequestFacts,
    ) -> Result<Arc<Admission>, Box<Response<Body>>> {
        let away = async |why| Box::new(self.control.turn_away(edition.clone(), &gate.name, why, request.headers(), facts).await);
        let (name, _) = gate.address.cookie("gate");
        let token = match cookies::find(request.headers(), &name) {
            Found::None => return Err(away(NoSession::NoCookie).await),
            Found::Several => return Err(away(NoSession::TwoCookies).await),
            Found::One(text) => match Token::parse(&text) {
                Some(t) => t,
                None => return Err(away(NoSession::Unknown).await),
            },
        };
        let kept = self.table.get(&token.digest()).filter(|a| a.edition == edition.number && a.admitted.gate() == gate.name);
        let admission = match kept {
            Some(a) => a,
            None => match self.control.present(edition.clone(), &gate.name, &token, facts).await {
                Presented::Admitted(a) => a,
                Presented::Refused(r) => return Err(Box::new(r)),
                Presented::No(why) => return Err(away(why).await),
            },
        };
        let why = match admission.session.state(&edition.site.lifetimes, self.clock.now()) {
            State::Live => None,
            State::Ended => Some(NoSession::Ended),
            State::IdleTooLong => Some(NoSession::IdleTooLong),
            State::TooOld => Some(NoSession::TooOld),
        };
        if let Some(why) = why {
            self.table.forget(&token.digest());
            return Err(away(why).await);
        }
        let age = self.table.revocations_age_ms();
        if age > STALE_MS {
            match self.control.still_live(admission.session.id).await {
                Some(true) => {}
                Some(false) => {
                    self.table.end(&[admission.session.id]);
                    return Err(away(NoSession::Ended).await);
                }
                None if age > BLIND_MS => return Err(Box::new(self.control.blind(facts).await)),
                None => {}
            }
        }
        Ok(admission)
    }

    async fn forward(
        &self,
        gate: &Gate,
        mut request: Request<Incoming>,
        admission: Arc<Admission>,
        facts: RequestFacts,
    ) -> Response<Body> {
        admission.session.touch(self.clock.now());
        admission.counters.request();
        let forged = outgoing::forged(&admission, request.headers());
        if !forged.is_empty() {
            self.control.forged(&admission, forged, &facts);
        }
        let upgrade = head::is_websocket(request.headers()).then(|| hyper::upgrade::on(&mut request));
        let (parts, body) = request.into_parts();
        let (counting, stripping) = (admission.clone(), admission.clone());
        let keep = Arc::new(move |n: &HeaderName| !stripping.strips(n) && !n.as_str().eq_ignore_ascii_case("cookie"));
        let body = match http_body::Body::is_end_stream(&body) {
            true => empty(),
            false => Through::wrap(body, Arc::new(move |n| counting.counters.received(n)), keep),
        };
        let Some(out) = outgoing::build(&parts, body, gate, &admission, facts.address) else {
            let step = Step::new(StepCode::AmbiguousRequest).with("what", Param::reason("unwritable"));
            return match self.live.get() {
                Some(e) => self.control.reject(e, &gate.name, StatusCode::BAD_REQUEST, step, &facts).await,
                None => bare(StatusCode::BAD_REQUEST, "Bad request.\n"),
            };
        };
        match self.upstreams.send(out).await {
            Err(how) => self.control.upstream_failed(&admission, how, &facts).await,
            Ok(answer) => self.answer(answer, upgrade, admission),
        }
    }

    fn answer(
        &self,
        mut answer: Response<Incoming>,
        upgrade: Option<hyper::upgrade::OnUpgrade>,
        admission: Arc<Admission>,
    ) -> Response<Body> {
        response::clean(answer.status(), answer.headers_mut());
        if answer.status() == StatusCode::SWITCHING_PROTOCOLS {
            let Some(person) = upgrade else {
                return bare(StatusCode::BAD_GATEWAY, "The application switched protocols unasked.\n");
            };
            let upstream = hyper::upgrade::on(&mut answer);
            websocket::join(person, upstream, admission);
            let (parts, _) = answer.into_parts();
            return Response::from_parts(parts, empty());
        }
        let (parts, body) = answer.into_parts();
        let body = Through::wrap(body, Arc::new(move |n| admission.counters.sent(n)), Arc::new(|_: &HeaderName| true));
        Response::from_parts(parts, body)
    }
}

/// Whether a path is the service's own on every gate, in any spelling that an upstream might fold onto it: nothing under
/// our name ever reaches an upstream.
fn is_own_path(path: &str) -> bool {
    path::canonical(path).is_some_and(|p| path::is_at_or_below(&p, "/.passeur"))
}

/// A page for those for whom no edition and no language is known.
fn bare(status: StatusCode, words: &'static str) -> Response<Body> {
    let mut r = Response::new(full(words));
    *r.status_mut() = status;
    let headers = r.headers_mut();
    headers.insert("content-type", http::HeaderValue::from_static("text/plain; charset=utf-8"));
    headers.insert("cache-control", http::HeaderValue::from_static("no-store"));
    headers.insert("connection", http::HeaderValue::from_static("close"));
    r
}

#[cfg(test)]
mod tests {
    #[test]
    fn our_own_path_is_ours_in_every_spelling() {
        for ours in [
            "/.passeur",
            "/.passeur/arrive",
            "/.PASSEUR/x",
            "//.passeur/x",
            "/%2Epasseur/x",
            "/\\.passeur/x",
            "/.%70asseur/x",
            "/%252epasseur",
            "/x/../.passeur/x",
            "/.passeur;a/x",
        ] {
            assert!(super::is_own_path(ours), "{ours}");
        }
        for theirs in ["/", "/passeur/", "/x/.passeur/", "/.passeurette"] {
            assert!(!super::is_own_path(theirs), "{theirs}");
        }
    }
}
