//! The path of a request, one way with no back and forth.

use std::sync::Arc;
use std::time::Duration;

use http::{Request, Response, StatusCode};
use http_body::Body as _;
use http_body_util::BodyExt;
use hyper::body::Incoming;
use passeur_core::Moment;
use passeur_core::circumstances::{Circumstances, RequestFacts};
use passeur_core::decide::opened;
use passeur_core::id::Token;
use passeur_core::path;
use passeur_core::session::State;
use passeur_core::site::{PathAccess, path_access};
use passeur_core::step;
use passeur_core::step::Param;
use passeur_http::cookies::{self, Found};
use passeur_http::{ClientChain, ServedCertificate, is_navigation};
use passeur_live::clock::Clock;
use passeur_live::programs;

use crate::admission::Admission;
use crate::bearer::{Bearer, Written};
use crate::bodies::{Bodies, Room, paced};
use crate::body::{Body, BoxError, full};
use crate::caller;
use crate::conn::Conn;
use crate::control::{Interrupted, NoSession, Presented};
use crate::edition::{Place, WebEdition, WebLive};
use crate::edits::Reader;
use crate::fields::{Field, Fields};
use crate::flat::Flat;
use crate::hold::Hold;
use crate::listener::Places;
use crate::outgoing::Ours;
use crate::remote::Remote;
use crate::stream::{Download, Reply, Upload};
use crate::table::Table;
use crate::ticketed::{Failed, Ticketed};
use crate::tls::Asks;
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
    web: WebLive,
    table: Arc<Table>,
    clock: Clock,
    upstreams: Upstreams,
    bodies: Arc<Bodies>,
}

fn page(response: Response<Body>) -> Response<Reply> {
    response.map(Reply::Page)
}

/// A request for the rest of the service.
fn inward(request: Request<Incoming>) -> Request<Body> {
    request.map(|b| b.map_err(BoxError::from).boxed_unsync())
}

impl Gateway {
    /// Wires the data path of a core.
    pub(crate) fn new(control: Remote, web: WebLive, table: Arc<Table>, clock: Clock, bodies: Arc<Bodies>) -> Gateway {
        Gateway { control, web, table, clock, upstreams: Upstreams::new(), bodies }
    }

    /// Which client certificate is asked for at this host name: a gate may take those of programs, and the sign-in host those of devices.
    pub(crate) fn asks_certificate(&self, name: &str) -> Asks {
        let takes = |g: &passeur_core::site::Gate| g.access.callers.as_ref().is_some_and(|c| c.certificates.is_some());
        let Some(edition) = self.web.get() else { return Asks::Nothing };
        let site = &edition.site;
        if site.gates.iter().any(|g| takes(g) && g.address.name().eq_ignore_ascii_case(name)) {
            return Asks::Anything;
        }
        match site.address.name().eq_ignore_ascii_case(name) {
            true => edition.of_devices.clone(),
            false => Asks::Nothing,
        }
    }

    pub(crate) fn control(&self) -> &Remote {
        &self.control
    }

    pub(crate) fn upstreams(&self) -> &Upstreams {
        &self.upstreams
    }

    /// Drops connections to upstreams that were idle for too long.
    pub(crate) fn sweep(&self) {
        self.upstreams.sweep();
    }

    /// Answers one request.
    ///
    /// The request is boxed: the future of a request is moved as a whole, and would hold it once for each call it passes.
    pub(crate) async fn handle(&self, request: Box<Request<Incoming>>, conn: &Conn) -> Response<Reply> {
        if head::is_too_large(request.uri(), request.headers()) {
            return page(bare(StatusCode::REQUEST_HEADER_FIELDS_TOO_LARGE, "This request's head is too large.\n"));
        }
        let edition = self.web.get();
        if let Some(edition) = &edition
            && let Some(place) = conn.place(edition, request.uri(), request.headers())
        {
            return self.at_gate(edition, place, request, conn).await;
        }
        let Some(host) = head::host(request.uri(), request.headers()) else {
            return page(bare(StatusCode::BAD_REQUEST, "This request names no host, or more than one.\n"));
        };
        if let Some(edition) = &edition
            && let Some(place) = edition.gate_by_host(&host)
        {
            conn.remember_place(edition, &place, request.headers());
            return self.at_gate(edition, place, request, conn).await;
        }
        if let Some(answer) = self.health(&request) {
            return page(answer);
        }
        let address = edition.as_ref().map_or(conn.peer, |e| conn.way(e, request.headers()).client());
        let is_ours = edition.as_ref().is_none_or(|e| e.site.address.is_host(&host));
        let mut request = inward(*request);
        if !request.body().is_end_stream() {
            let bound = self.control.bound(request.uri().path());
            // Whoever is not known yet shares what is held for such people; whoever must be is known before a byte is read.
            let room = match bound.known {
                true => None,
                false => match self.bodies.room(address, request.headers(), bound.max) {
                    None => {
                        return page(bare(
                            StatusCode::SERVICE_UNAVAILABLE,
                            "Too much is being sent from your network just now.\n",
                        ));
                    }
                    room => room,
                },
            };
            request = request.map(|body| paced(body, bound.max, room));
        }
        if let Some(shown) = conn.shown_to(address) {
            // A browser uses one connection for several hosts of one certificate (RFC 9113 9.1.1), and this one was opened for another, or before
            // anybody asked for a certificate of devices. Whoever calls the API shows none.
            let is_page = is_ours && !request.uri().path().starts_with("/api/");
            if is_page && edition.as_ref().is_some_and(|e| conn.misses(&e.of_devices)) {
                return page(bare(StatusCode::MISDIRECTED_REQUEST, "Ask again on a connection of this host's own.\n"));
            }
            request.extensions_mut().insert(ServedCertificate(shown));
            request.extensions_mut().insert(ClientChain(conn.chain()));
        }
        let answer = if is_ours { self.control.pages(request, address) } else { self.control.unknown_host(request, address) };
        page(answer.await)
    }

    /// Whether the process runs, and whether it may serve: answered here, so that nothing else that is busy keeps it waiting.
    fn health(&self, request: &Request<Incoming>) -> Option<Response<Body>> {
        let reads = matches!(*request.method(), http::Method::GET | http::Method::HEAD);
        let (status, words) = match request.uri().path() {
            "/healthz" if reads => (StatusCode::OK, "ok\n"),
            "/readyz" if reads => match self.control.not_ready() {
                None => (StatusCode::OK, "ready\n"),
                Some(why) => (StatusCode::SERVICE_UNAVAILABLE, why),
            },
            _ => return None,
        };
        let mut answer = bare(status, words);
        answer.headers_mut().remove(http::header::CONNECTION);
        Some(answer)
    }

    async fn at_gate(
        &self,
        edition: &Arc<WebEdition>,
        place: Place<'_>,
        mut request: Box<Request<Incoming>>,
        conn: &Conn,
    ) -> Response<Reply> {
        let gate = place.gate;
        let fields = conn.fields(edition, &place, request.headers());
        if let Err((status, step)) = head::check(request.method(), request.headers(), &fields, &place.prepared.origin) {
            let facts = facts(edition, conn, &request);
            let mut refusal = self.control.reject(edition.live.clone(), &gate.name, status, step, &facts).await;
            // Where framing is in doubt, nothing more is read from this connection.
            refusal.headers_mut().insert(http::header::CONNECTION, http::HeaderValue::from_static("close"));
            return page(refusal);
        }
        let raw = request.uri().path();
        if is_own_path(raw) {
            let address = conn.way(edition, request.headers()).client();
            return page(self.control.gate_pages(edition.live.clone(), &gate.name, inward(*request), address).await);
        }
        if let Some(what) = in_doubt(&place, &request) {
            let facts = facts(edition, conn, &request);
            let step = step!(PathInDoubt { path: passeur_core::text::shorten(raw, 200), what: Param::reason(what) });
            return page(self.control.reject(edition.live.clone(), &gate.name, StatusCode::BAD_REQUEST, step, &facts).await);
        }
        let open = opened(gate, raw);
        let (bearer, written) = match open {
            Some(proof) => (Bearer::Open(proof, place.open.clone()), None),
            None => match self.admission(edition, place, &request, conn).await {
                Err(Away::Answer(response)) => return page(*response),
                Err(Away::Without(why)) => return Box::pin(self.turn_away(edition, place, request, why, conn)).await,
                Ok((admission, written, by_token)) => {
                    if by_token {
                        // It was for us; the application gets what is delivered, and no token of anybody's.
                        request.headers_mut().remove(http::header::AUTHORIZATION);
                    }
                    if let Some(paths) = admission.closes(request.uri().path()) {
                        let step = step!(TokenPath { paths: paths.to_vec() });
                        let facts = facts(edition, conn, &request);
                        let refusal = self.control.reject(edition.live.clone(), &gate.name, StatusCode::FORBIDDEN, step, &facts);
                        return page(refusal.await);
                    }
                    if let PathAccess::More(sections) = path_access(gate.sections(), request.uri().path())
                        && let Some(closed) = sections.into_iter().find(|i| !admission.section(*i))
                    {
                        let facts = facts(edition, conn, &request);
                        return page(
                            self.control.section_refused(edition.live.clone(), &gate.name, admission, closed, &facts).await,
                        );
                    }
                    // No application is behind it: what is said there is ours.
                    if gate.network().is_some() {
                        if !matches!(*request.method(), http::Method::GET | http::Method::HEAD) {
                            return page(bare(
                                StatusCode::METHOD_NOT_ALLOWED,
                                "Behind this gate is a network, which takes no requests.\n",
                            ));
                        }
                        let facts = facts(edition, conn, &request);
                        return page(self.control.network_page(edition.live.clone(), &gate.name, admission, &facts).await);
                    }
                    (Bearer::Admitted(admission), Some(written))
                }
            },
        };
        self.forward(edition, place, request, (bearer, written, fields), conn).await
    }

    /// Nobody is signed in here: what the rest of the service says to that, told of a form that it interrupts.
    async fn turn_away(
        &self,
        edition: &Arc<WebEdition>,
        place: Place<'_>,
        request: Box<Request<Incoming>>,
        why: NoSession,
        conn: &Conn,
    ) -> Response<Reply> {
        conn.forget();
        let facts = facts(edition, conn, &request);
        let (parts, body) = request.into_parts();
        let room = || self.bodies.room(facts.address, &parts.headers, FORM_MAX);
        let form = interrupted(&parts, body, &place.prepared.origin, room).await;
        page(self.control.turn_away(edition.live.clone(), &place.gate.name, why, &parts.headers, form, &facts).await)
    }

    /// What a request shows of a session.
    async fn held<'r>(
        &self,
        edition: &Arc<WebEdition>,
        place: Place<'_>,
        request: &'r Request<Incoming>,
        conn: &Conn,
    ) -> Result<Held<'r>, Away> {
        let gate = place.gate;
        Ok(match cookies::find(request.headers(), &place.prepared.cookie) {
            Found::None if gate.access.callers.is_some() => {
                if caller::in_address(request.uri()) {
                    let facts = facts(edition, conn, request);
                    let step = step!(TokenInUrl);
                    let refusal = self.control.reject(edition.live.clone(), &gate.name, StatusCode::BAD_REQUEST, step, &facts);
                    return Err(Away::Answer(Box::new(refusal.await)));
                }
                let chain = conn.chain();
                let by_certificate = gate.access.callers.as_ref().is_some_and(|c| c.certificates.is_some());
                match caller::token(request.headers()) {
                    Some(token) => Held::Bearer(token),
                    None if by_certificate
                        && !chain.is_empty()
                        && !caller::is_of_another_site(request.headers(), &place.prepared.origin) =>
                    {
                        Held::Certificate(chain)
                    }
                    None => return Err(Away::Without(NoSession::NoCookie)),
                }
            }
            Found::None => return Err(Away::Without(NoSession::NoCookie)),
            Found::Several => return Err(Away::Without(NoSession::TwoCookies)),
            Found::One(text) => Held::Cookie(Token::parse(&text).ok_or(Away::Without(NoSession::Unknown))?),
        })
    }

    /// From cookie to admission: the connection's memory first, then the node's, then the rest of the service.
    async fn admission(
        &self,
        edition: &Arc<WebEdition>,
        place: Place<'_>,
        request: &Request<Incoming>,
        conn: &Conn,
    ) -> Result<(Arc<Admission>, Arc<Written>, bool), Away> {
        let gate = place.gate;
        let now = self.clock.now();
        let mut by_token = false;
        let view = place.view;
        // Most gates ask nothing of single requests.
        let look = if view.is_blind() { 0 } else { view.look(&circumstances(edition, conn, request, now)) };
        let remembered = conn.admission(edition, &place, request.headers()).filter(|(a, _)| a.fits(look, now));
        let (admission, written) = match remembered {
            Some(kept) => kept,
            None => {
                let held = self.held(edition, place, request, conn).await?;
                let digest = match &held {
                    Held::Cookie(token) => token.digest(),
                    Held::Bearer(token) => programs::token_digest(&gate.name, token),
                    Held::Certificate(chain) => programs::certificate_digest(&gate.name, chain),
                };
                let good = |a: &Arc<Admission>| a.edition() == edition.number && a.gate() == gate.name && a.fits(look, now);
                let kept = self.table.get(&digest, look).filter(good);
                let admission = match kept {
                    Some(a) => a,
                    None => {
                        let facts = facts(edition, conn, request);
                        let presented = match &held {
                            Held::Cookie(token) => self.control.present(edition.clone(), &gate.name, token, &facts).await,
                            Held::Bearer(token) => self.control.present_bearer(edition.clone(), &gate.name, token, &facts).await,
                            Held::Certificate(chain) => {
                                let chain = chain.clone();
                                self.control.present_certificate(edition.clone(), &gate.name, chain, &facts).await
                            }
                        };
                        match presented {
                            Presented::Admitted(a) => a,
                            Presented::Refused(r) => return Err(Away::Answer(Box::new(r))),
                            Presented::No(why) => return Err(Away::Without(why)),
                        }
                    }
                };
                let cookie = cookies::without_ours(request.headers());
                let written = Arc::new(Written { headers: admission.headers(), cookie });
                by_token = matches!(held, Held::Bearer(_));
                if matches!(held, Held::Cookie(_)) {
                    conn.remember(edition, &place, request.headers(), &admission, &written);
                }
                (admission, written)
            }
        };
        let why = match admission.session.state(&admission.limits(), now) {
            State::Live => None,
            State::Ended => Some(NoSession::Ended),
            State::IdleTooLong => Some(NoSession::IdleTooLong),
            State::TooOld => Some(NoSession::TooOld),
        };
        if let Some(why) = why {
            self.table.forget_session(admission.session.id);
            return Err(Away::Without(why));
        }
        let age = self.table.sessions().revocations_age_ms();
        if age > STALE_MS {
            match self.control.still_live(admission.session.id).await {
                Some(true) => {}
                Some(false) => {
                    self.table.end(&[admission.session.id]);
                    return Err(Away::Without(NoSession::Ended));
                }
                None if age > BLIND_MS => {
                    let facts = facts(edition, conn, request);
                    return Err(Away::Answer(Box::new(self.control.blind(&facts).await)));
                }
                None => {}
            }
        }
        admission.session.touch(now);
        Ok((admission, written, by_token))
    }

    async fn forward(
        &self,
        edition: &Arc<WebEdition>,
        place: Place<'_>,
        mut request: Box<Request<Incoming>>,
        (bearer, written, fields): (Bearer, Option<Arc<Written>>, Arc<Fields>),
        conn: &Conn,
    ) -> Response<Reply> {
        let gate = place.gate;
        bearer.counters().request();
        if let Bearer::Admitted(admission) = &bearer
            && !fields.forged.is_empty()
        {
            let forged = fields.forged.iter().map(|n| n.as_str().to_owned()).collect();
            self.control.forged(admission, forged, &facts(edition, conn, &request));
        }
        let websocket = fields.has(Field::Upgrade) && head::is_websocket(request.headers());
        let upgrade = websocket.then(|| hyper::upgrade::on(&mut *request));
        let from = conn.from(edition, &place, request.headers());
        let (parts, body) = request.into_parts();
        let (flat, headers) = Flat::take(parts);
        let told = || conn.facts(edition, &flat.parts.method, &flat.parts.uri, &flat.headers());
        let (body, progress) = Upload::of(body, &bearer, if fields.has(Field::Expect) { Hold::of(&headers) } else { None });
        let ours = from.as_ref().map(|from| Ours { place, bearer: &bearer, written: written.as_deref(), fields: &fields, from });
        let out = ours.and_then(|ours| outgoing::build(&flat.parts, headers, body, ours));
        let (Some(out), Some(ours)) = (out, ours) else {
            let step = step!(AmbiguousRequest { what: Param::reason("unwritable") });
            return page(self.control.reject(edition.live.clone(), &gate.name, StatusCode::BAD_REQUEST, step, &told()).await);
        };
        let repeatable = progress.is_none() && upgrade.is_none() && flat.parts.method.is_safe();
        let again = || outgoing::build(&flat.parts, flat.headers(), Upload::None, ours);
        let again: Option<&(dyn Fn() -> Option<outgoing::Outgoing> + Sync)> = if repeatable { Some(&again) } else { None };
        let sent = match (&bearer, gate.ticket()) {
            (Bearer::Admitted(admission), Some(_)) => {
                let progress = progress.as_deref();
                let ticketed = Ticketed { edition, place, admission, progress, again, facts: &told };
                // Boxed, since few gates have it and its future is large.
                match Box::pin(self.send_ticketed(&ticketed, out)).await {
                    Ok(answered) => Ok(answered),
                    Err(Failed::Upstream(how)) => Err(how),
                    Err(Failed::Answered(response)) => return page(*response),
                }
            }
            _ => self.upstreams.send(place.route, bearer.session(), out, progress.as_deref(), again).await,
        };
        match sent {
            Err(how) => page(self.control.upstream_failed(&gate.name, &bearer, how, &told()).await),
            Ok((answer, lease)) => {
                let (mut parts, body) = answer.into_parts();
                if gate.ticket().is_some() {
                    // What the application asks of its clients is between it and us, where a section is open too.
                    parts.headers.remove(http::header::WWW_AUTHENTICATE);
                }
                let reader = if matches!(bearer, Bearer::Admitted(_)) { Reader::Person } else { Reader::Anybody };
                edits::clean(parts.status, &mut parts.headers, reader);
                if parts.status == StatusCode::SWITCHING_PROTOCOLS {
                    return page(switched(parts, body, upgrade, lease, bearer, conn.places()));
                }
                let encoding = place.edits.head(parts.status, &mut parts.headers, reader);
                let body = Download::new(body, bearer, lease, progress);
                Response::from_parts(
                    parts,
                    match encoding {
                        Some(encoding) => Reply::turned(place.edits.turn(body, encoding, reader)),
                        None => Reply::Stream(body),
                    },
                )
            }
        }
    }
}

/// What conditions may ask of a request.
fn circumstances<'a>(edition: &WebEdition, conn: &Conn, request: &'a Request<Incoming>, now: Moment) -> Circumstances<'a> {
    let address = Some(conn.way(edition, request.headers()).client());
    Circumstances { now, address, method: request.method().as_str(), path: request.uri().path(), tunnel: None }
}

/// What the rest of the service is told of a request; made only where it is asked.
fn facts(edition: &WebEdition, conn: &Conn, request: &Request<Incoming>) -> RequestFacts {
    conn.facts(edition, request.method(), request.uri(), request.headers())
}

/// What a request holds of a session.
enum Held<'a> {
    Cookie(Token),
    Bearer(&'a str),
    Certificate(Arc<[Vec<u8>]>),
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
async fn interrupted(
    parts: &http::request::Parts,
    body: Incoming,
    origin: &str,
    room: impl FnOnce() -> Option<Room>,
) -> Option<Interrupted> {
    let text = |name: &str| parts.headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or_default();
    let is_form = text("content-type")
        .split(';')
        .next()
        .is_some_and(|t| t.trim().eq_ignore_ascii_case("application/x-www-form-urlencoded"));
    if parts.method != http::Method::POST || !is_form || !is_navigation(&parts.headers) || text("origin") != origin {
        return None;
    }
    let Some(_room) = room() else { return Some(Interrupted::TooLarge) };
    let whole = tokio::time::timeout(FORM_LIMIT, http_body_util::Limited::new(body, FORM_MAX).collect()).await;
    Some(match whole {
        Ok(Ok(collected)) => Interrupted::Whole(collected.to_bytes()),
        _ => Interrupted::TooLarge,
    })
}

/// Joins two connections that changed to WebSocket.
fn switched(
    parts: http::response::Parts,
    body: Incoming,
    person: Option<hyper::upgrade::OnUpgrade>,
    mut lease: Lease,
    bearer: Bearer,
    places: Option<Arc<Places>>,
) -> Response<Body> {
    lease.spend();
    let Some(person) = person else {
        return bare(StatusCode::BAD_GATEWAY, "The application switched protocols unasked.\n");
    };
    let mut answer = Response::from_parts(parts, body);
    let upstream = hyper::upgrade::on(&mut answer);
    websocket::join(person, upstream, bearer, places);
    let (parts, _) = answer.into_parts();
    Response::from_parts(parts, crate::body::empty())
}

/// Whether a path is the service's own on every gate, in any spelling that an upstream might fold onto it: nothing under
/// our name ever reaches an upstream.
fn is_own_path(path: &str) -> bool {
    // Every spelling of our name holds its dot, or an encoding of it.
    if !path.bytes().any(|b| matches!(b, b'.' | b'%')) {
        return false;
    }
    path::canonical(path).is_some_and(|p| path::is_at_or_below(&p, "/.passeur"))
}

/// Why the path of a request cannot be judged, where the gate judges paths: two servers could read it, or a second one it names,
/// differently.
fn in_doubt(place: &Place<'_>, request: &Request<Incoming>) -> Option<&'static str> {
    if !place.view.judges_paths() {
        return None;
    }
    // RFC 4918 10.3: what a method of WebDAV copies or moves goes to another path.
    let second = request.headers().contains_key("destination").then_some("destination");
    path::doubt(request.uri().path()).map(path::Doubt::code).or(second)
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
