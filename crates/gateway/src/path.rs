//! The path of a request, one way with no back and forth.

use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use http::{HeaderMap, Request, Response, StatusCode};
use http_body_util::BodyExt;
use hyper::body::Incoming;
use passeur_core::decide::opened;
use passeur_core::forwarded::{self, Way};
use passeur_core::id::Token;
use passeur_core::path;
use passeur_core::session::State;
use passeur_core::site::{Gate, Standing, standing};
use passeur_core::step::{Param, Step, StepCode};
use passeur_links::clock::Clock;

use crate::admission::Admission;
use crate::bearer::Bearer;
use crate::body::{Body, BoxError, full};
use crate::control::{Interrupted, NoSession, Presented, RequestFacts};
use crate::cookies::{self, Found};
use crate::remote::Remote;
use crate::shared::{Edition, Live, Place};
use crate::stream::{Download, Reply, Upload};
use crate::table::Table;
use crate::upstream::Upstreams;
use crate::upstream::pool::Lease;
use crate::{edits, head, outgoing, websocket};

/// After this long without seeing the revocation counter, each request asks the store.
const STALE_MS: i64 = 1_000;
/// After this long without an answer of the store, requests are refused.
const BLIND_MS: i64 = 10_000;

/// The data path of one core.
pub(crate) struct Gateway {
    control: Remote,
    live: Live,
    table: Arc<Table>,
    clock: Clock,
    upstreams: Upstreams,
}

fn page(response: Response<Body>) -> Response<Reply> {
    response.map(Reply::Page)
}

impl Gateway {
    /// Wires the data path of a core.
    pub(crate) fn new(control: Remote, live: Live, table: Arc<Table>, clock: Clock) -> Gateway {
        Gateway { control, live, table, clock, upstreams: Upstreams::new() }
    }

    /// Drops connections to upstreams that were idle for too long.
    pub(crate) fn sweep(&self) {
        self.upstreams.sweep();
    }

    /// Answers one request.
    pub(crate) async fn handle(&self, request: Request<Incoming>, peer: IpAddr) -> Response<Reply> {
        let Some(host) = head::host(request.uri(), request.headers()) else {
            return page(bare(StatusCode::BAD_REQUEST, "This request names no host, or more than one.\n"));
        };
        if head::is_too_large(request.uri(), request.headers()) {
            return page(bare(StatusCode::REQUEST_HEADER_FIELDS_TOO_LARGE, "This request's head is too large.\n"));
        }
        let edition = self.live.get();
        if let Some(edition) = &edition
            && let Some(place) = edition.gate_by_host(&host)
        {
            return self.at_gate(edition, place, request, peer).await;
        }
        let address = edition.as_ref().map_or(peer, |e| way(e, peer, request.headers()).client());
        let request = request.map(|b| b.map_err(BoxError::from).boxed_unsync());
        page(match edition {
            Some(e) if !e.site.address.is_host(&host) => self.control.unknown_host(request).await,
            _ => self.control.pages(request, address).await,
        })
    }

    async fn at_gate(
        &self,
        edition: &Arc<Edition>,
        place: Place<'_>,
        request: Request<Incoming>,
        peer: IpAddr,
    ) -> Response<Reply> {
        let gate = place.gate;
        let way = way(edition, peer, request.headers());
        let facts = RequestFacts::of(request.method(), request.uri(), request.headers(), way.client());
        if let Err((status, step)) = head::check(request.method(), request.headers(), &gate.address.origin()) {
            let mut refusal = self.control.reject(edition.clone(), &gate.name, status, step, &facts).await;
            // Where framing is in doubt, nothing more is read from this connection.
            refusal.headers_mut().insert(http::header::CONNECTION, http::HeaderValue::from_static("close"));
            return page(refusal);
        }
        let raw = request.uri().path();
        if is_own_path(raw) {
            let request = request.map(|b| b.map_err(BoxError::from).boxed_unsync());
            return page(self.control.gate_pages(edition.clone(), &gate.name, request, way.client()).await);
        }
        if let Some(proof) = opened(gate, raw) {
            return self.forward(place, request, Bearer::Open(proof, place.open.clone()), &way, facts).await;
        }
        match self.admission(edition, gate, &request, &facts).await {
            Err(Away::Answer(response)) => page(*response),
            Err(Away::Without(why)) => {
                let (parts, body) = request.into_parts();
                let form = interrupted(&parts, body, &gate.address.origin()).await;
                page(self.control.turn_away(edition.clone(), &gate.name, why, &parts.headers, form, &facts).await)
            }
            Ok(admission) => {
                if let Standing::More(sections) = standing(&gate.sections, request.uri().path())
                    && let Some(closed) = sections.into_iter().find(|i| !admission.admitted.section(*i))
                {
                    return page(self.control.section_refused(edition.clone(), &gate.name, admission, closed, &facts).await);
                }
                admission.session.touch(self.clock.now());
                self.forward(place, request, Bearer::Admitted(admission), &way, facts).await
            }
        }
    }

    /// From cookie to admission: memory first, the rest of the service when that is not enough.
    async fn admission(
        &self,
        edition: &Arc<Edition>,
        gate: &Gate,
        request: &Request<Incoming>,
        facts: &RequestFacts,
    ) -> Result<Arc<Admission>, Away> {
        let (name, _) = gate.address.cookie("gate");
        let token = match cookies::find(request.headers(), &name) {
            Found::None => return Err(Away::Without(NoSession::NoCookie)),
            Found::Several => return Err(Away::Without(NoSession::TwoCookies)),
            Found::One(text) => match Token::parse(&text) {
                Some(t) => t,
                None => return Err(Away::Without(NoSession::Unknown)),
            },
        };
        let kept = self.table.get(&token.digest()).filter(|a| a.edition == edition.number && a.admitted.gate() == gate.name);
        let admission = match kept {
            Some(a) => a,
            None => match self.control.present(edition.clone(), &gate.name, &token, facts).await {
                Presented::Admitted(a) => a,
                Presented::Refused(r) => return Err(Away::Answer(Box::new(r))),
                Presented::No(why) => return Err(Away::Without(why)),
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
            return Err(Away::Without(why));
        }
        let age = self.table.revocations_age_ms();
        if age > STALE_MS {
            match self.control.still_live(admission.session.id).await {
                Some(true) => {}
                Some(false) => {
                    self.table.end(&[admission.session.id]);
                    return Err(Away::Without(NoSession::Ended));
                }
                None if age > BLIND_MS => return Err(Away::Answer(Box::new(self.control.blind(facts).await))),
                None => {}
            }
        }
        Ok(admission)
    }

    async fn forward(
        &self,
        place: Place<'_>,
        mut request: Request<Incoming>,
        bearer: Bearer,
        way: &Way,
        facts: RequestFacts,
    ) -> Response<Reply> {
        let gate = place.gate;
        bearer.counters().request();
        if let Bearer::Admitted(admission) = &bearer {
            let forged = outgoing::forged(&bearer, request.headers());
            if !forged.is_empty() {
                self.control.forged(admission, forged, &facts);
            }
        }
        let upgrade = head::is_websocket(request.headers()).then(|| hyper::upgrade::on(&mut request));
        let (parts, body) = request.into_parts();
        let (body, progress) = Upload::of(body, &bearer);
        let Some(out) = outgoing::build(&parts, body, place, &bearer, way) else {
            let step = Step::new(StepCode::AmbiguousRequest).with("what", Param::reason("unwritable"));
            return page(match self.live.get() {
                Some(e) => self.control.reject(e, &gate.name, StatusCode::BAD_REQUEST, step, &facts).await,
                None => bare(StatusCode::BAD_REQUEST, "Bad request.\n"),
            });
        };
        let repeatable = progress.is_none() && upgrade.is_none() && parts.method.is_safe();
        let again = || outgoing::build(&parts, Upload::None, place, &bearer, way);
        let again: Option<&(dyn Fn() -> Option<outgoing::Outgoing> + Sync)> = if repeatable { Some(&again) } else { None };
        match self.upstreams.send(place.route, bearer.session(), out, progress.as_deref(), again).await {
            Err(how) => page(self.control.upstream_failed(&gate.name, &bearer, how, &facts).await),
            Ok((answer, lease)) => {
                let (mut parts, body) = answer.into_parts();
                edits::clean(parts.status, &mut parts.headers, matches!(bearer, Bearer::Admitted(_)));
                if parts.status == StatusCode::SWITCHING_PROTOCOLS {
                    return page(switched(parts, body, upgrade, lease, bearer));
                }
                let encoding = place.edits.head(parts.status, &mut parts.headers);
                let body = Download::new(body, bearer, lease, progress);
                Response::from_parts(
                    parts,
                    match encoding {
                        Some(encoding) => Reply::turned(place.edits.turn(body, encoding)),
                        None => Reply::stream(body),
                    },
                )
            }
        }
    }
}

/// Why a request is not forwarded.
enum Away {
    /// There is no session to use.
    Without(NoSession),
    /// It is answered already.
    Answer(Box<Response<Body>>),
}

/// The largest form that is kept through a sign-in, in bytes, and how long it may take to arrive.
const FORM_MAX: usize = 64 * 1024;
const FORM_LIMIT: Duration = Duration::from_secs(10);

/// The form that the lack of a session interrupts: one that a person sent from the gate's own page. Anything else is
/// answered as before: another site's form is never kept for anybody.
async fn interrupted(parts: &http::request::Parts, body: Incoming, origin: &str) -> Option<Interrupted> {
    let text = |name: &str| parts.headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or_default();
    let is_form = text("content-type")
        .split(';')
        .next()
        .is_some_and(|t| t.trim().eq_ignore_ascii_case("application/x-www-form-urlencoded"));
    let navigates = match text("sec-fetch-mode") {
        "" => text("accept").to_ascii_lowercase().contains("text/html"),
        mode => mode == "navigate",
    };
    if parts.method != http::Method::POST || !is_form || !navigates || text("origin") != origin {
        return None;
    }
    let whole = tokio::time::timeout(FORM_LIMIT, http_body_util::Limited::new(body, FORM_MAX).collect()).await;
    Some(match whole {
        Ok(Ok(collected)) => Interrupted::Whole(collected.to_bytes()),
        _ => Interrupted::TooLarge,
    })
}

/// The way a request came, as far as it can be believed.
fn way(edition: &Edition, peer: IpAddr, headers: &HeaderMap) -> Way {
    let trusted = &edition.site.trusted_proxies;
    if trusted.is_empty() {
        return forwarded::way(peer, &[], &[], &[]);
    }
    let values = |name: &str| headers.get_all(name).iter().filter_map(|v| v.to_str().ok()).collect::<Vec<_>>();
    forwarded::way(peer, trusted, &values("forwarded"), &values("x-forwarded-for"))
}

/// Joins two connections that changed to WebSocket.
fn switched(
    parts: http::response::Parts,
    body: Incoming,
    person: Option<hyper::upgrade::OnUpgrade>,
    mut lease: Lease,
    bearer: Bearer,
) -> Response<Body> {
    lease.spend();
    let Some(person) = person else {
        return bare(StatusCode::BAD_GATEWAY, "The application switched protocols unasked.\n");
    };
    let mut answer = Response::from_parts(parts, body);
    let upstream = hyper::upgrade::on(&mut answer);
    websocket::join(person, upstream, bearer);
    let (parts, _) = answer.into_parts();
    Response::from_parts(parts, crate::body::empty())
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
