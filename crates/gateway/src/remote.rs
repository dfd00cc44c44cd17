//! The rest of the service, reached from a data core: its work runs on a runtime of its own, which the core awaits and
//! never blocks on.

use std::future::Future;
use std::net::IpAddr;
use std::pin::Pin;
use std::sync::Arc;

use http::{HeaderMap, Request, Response, StatusCode};
use passeur_core::circumstances::RequestFacts;
use passeur_core::id::Token;
use passeur_core::step;
use passeur_core::step::Step;
use passeur_live::edition::Edition;
use passeur_live::ticket::TicketFailed;
use tokio::runtime::Handle;

use crate::admission::Admission;
use crate::bearer::Bearer;
use crate::bodies::Bound;
use crate::body::{Body, full};
use crate::control::{Control, Interrupted, NoSession, Presented, Proof, Ticket, UpstreamFailure};
use crate::edition::WebEdition;

/// [`Control`] on another runtime. Cheap to clone.
#[derive(Clone)]
pub(crate) struct Remote {
    control: Arc<dyn Control>,
    runtime: Handle,
}

/// Work that is done elsewhere. Boxed: the future of a request has the size of its largest branch and is moved as a whole,
/// so what an admitted request never meets must not lie in it.
pub(crate) type Away<T> = Pin<Box<dyn Future<Output = T> + Send>>;

fn broken() -> Response<Body> {
    let mut r = Response::new(full("Something went wrong inside. Try again.\n"));
    *r.status_mut() = StatusCode::INTERNAL_SERVER_ERROR;
    r
}

impl Remote {
    pub(crate) fn new(control: Arc<dyn Control>, runtime: Handle) -> Remote {
        Remote { control, runtime }
    }

    /// Runs there; `otherwise` when it panicked, which is logged where it happened.
    fn run<T: Send + 'static>(&self, work: impl Future<Output = T> + Send + 'static, otherwise: fn() -> T) -> Away<T> {
        let task = self.runtime.spawn(work);
        Box::pin(async move { task.await.unwrap_or_else(|_| otherwise()) })
    }

    /// See [`Control::bound`].
    pub(crate) fn bound(&self, path: &str) -> Bound {
        self.control.bound(path)
    }

    /// See [`Control::not_ready`].
    pub(crate) fn not_ready(&self) -> Option<&'static str> {
        self.control.not_ready()
    }

    pub(crate) fn pages(&self, request: Request<Body>, address: IpAddr) -> Away<Response<Body>> {
        let c = self.control.clone();
        self.run(async move { c.pages(request, address).await }, broken)
    }

    pub(crate) fn gate_pages(
        &self,
        e: Arc<Edition>,
        gate: &str,
        request: Request<Body>,
        address: IpAddr,
    ) -> Away<Response<Body>> {
        let (c, gate) = (self.control.clone(), gate.to_owned());
        self.run(async move { c.gate_pages(e, &gate, request, address).await }, broken)
    }

    pub(crate) fn unknown_host(&self, request: Request<Body>, address: IpAddr) -> Away<Response<Body>> {
        let c = self.control.clone();
        self.run(async move { c.unknown_host(request, address).await }, broken)
    }

    pub(crate) fn present(&self, e: Arc<WebEdition>, gate: &str, token: &Token, facts: &RequestFacts) -> Away<Presented> {
        let (c, gate, token, facts) = (self.control.clone(), gate.to_owned(), token.clone(), facts.clone());
        self.run(async move { c.present(e, &gate, &token, &facts).await }, || Presented::Refused(broken()))
    }

    pub(crate) fn present_bearer(&self, e: Arc<WebEdition>, gate: &str, token: &str, facts: &RequestFacts) -> Away<Presented> {
        let (c, gate, token, facts) = (self.control.clone(), gate.to_owned(), token.to_owned(), facts.clone());
        self.run(async move { c.present_bearer(e, &gate, &token, &facts).await }, || Presented::Refused(broken()))
    }

    pub(crate) fn present_certificate(
        &self,
        e: Arc<WebEdition>,
        gate: &str,
        chain: Arc<[Vec<u8>]>,
        facts: &RequestFacts,
    ) -> Away<Presented> {
        let (c, gate, facts) = (self.control.clone(), gate.to_owned(), facts.clone());
        self.run(async move { c.present_certificate(e, &gate, chain, &facts).await }, || Presented::Refused(broken()))
    }

    pub(crate) fn turn_away(
        &self,
        e: Arc<Edition>,
        gate: &str,
        why: NoSession,
        h: &HeaderMap,
        form: Option<Interrupted>,
        facts: &RequestFacts,
    ) -> Away<Response<Body>> {
        let (c, gate, h, facts) = (self.control.clone(), gate.to_owned(), h.clone(), facts.clone());
        self.run(async move { c.turn_away(e, &gate, why, &h, form, &facts).await }, broken)
    }

    pub(crate) fn reject(
        &self,
        e: Arc<Edition>,
        gate: &str,
        status: StatusCode,
        step: Step,
        facts: &RequestFacts,
    ) -> Away<Response<Body>> {
        let (c, gate, facts) = (self.control.clone(), gate.to_owned(), facts.clone());
        self.run(async move { c.reject(e, &gate, status, step, &facts).await }, broken)
    }

    pub(crate) fn section_refused(
        &self,
        e: Arc<Edition>,
        gate: &str,
        a: Arc<Admission>,
        section: usize,
        facts: &RequestFacts,
    ) -> Away<Response<Body>> {
        let (c, gate, facts) = (self.control.clone(), gate.to_owned(), facts.clone());
        self.run(async move { c.section_refused(e, &gate, &a, section, &facts).await }, broken)
    }

    pub(crate) fn network_page(
        &self,
        e: Arc<Edition>,
        gate: &str,
        a: Arc<Admission>,
        facts: &RequestFacts,
    ) -> Away<Response<Body>> {
        let (c, gate, facts) = (self.control.clone(), gate.to_owned(), facts.clone());
        self.run(async move { c.network_page(e, &gate, &a, &facts).await }, broken)
    }

    pub(crate) fn upstream_failed(
        &self,
        gate: &str,
        bearer: &Bearer,
        how: UpstreamFailure,
        facts: &RequestFacts,
    ) -> Away<Response<Body>> {
        let (c, gate, facts, bearer) = (self.control.clone(), gate.to_owned(), facts.clone(), bearer.clone());
        let answer = async move {
            let admission = match &bearer {
                Bearer::Admitted(a) => Some(a.as_ref()),
                Bearer::Open(..) => None,
            };
            c.upstream_failed(&gate, admission, how, &facts).await
        };
        self.run(answer, broken)
    }

    pub(crate) fn ticket(
        &self,
        e: Arc<Edition>,
        gate: &str,
        admission: Arc<Admission>,
        anew: bool,
    ) -> Away<Result<Ticket, Box<TicketFailed>>> {
        let (c, gate) = (self.control.clone(), gate.to_owned());
        let failed = || {
            let step = step!(UpstreamTicketFailed { service: "?", how: "the call broke down" });
            Err(Box::new(TicketFailed::of(step)))
        };
        self.run(async move { c.ticket(e, &gate, admission, anew).await }, failed)
    }

    pub(crate) fn proves(&self, proof: Proof, token: Vec<u8>) -> Away<Result<(), String>> {
        let c = self.control.clone();
        self.run(async move { c.proves(proof, token).await }, || Err("the call broke down".to_owned()))
    }

    pub(crate) fn ticket_failed(
        &self,
        gate: &str,
        admission: Arc<Admission>,
        failed: TicketFailed,
        facts: &RequestFacts,
    ) -> Away<Response<Body>> {
        let (c, gate, facts) = (self.control.clone(), gate.to_owned(), facts.clone());
        self.run(async move { c.ticket_failed(&gate, admission, failed, &facts).await }, broken)
    }

    pub(crate) fn still_live(&self, session: uuid::Uuid) -> Away<Option<bool>> {
        let c = self.control.clone();
        self.run(async move { c.still_live(session).await }, || None)
    }

    pub(crate) fn blind(&self, facts: &RequestFacts) -> Away<Response<Body>> {
        let (c, facts) = (self.control.clone(), facts.clone());
        self.run(async move { c.blind(&facts).await }, broken)
    }

    pub(crate) fn forged(&self, admission: &Admission, names: Vec<String>, facts: &RequestFacts) {
        // What it writes through is bound to that runtime.
        let _inside = self.runtime.enter();
        self.control.forged(admission, names, facts);
    }
}
