//! What the data path asks of the rest of the service. The data path awaits it and never blocks on it.

use std::net::IpAddr;
use std::sync::Arc;

use async_trait::async_trait;
use bytes::Bytes;
use http::{HeaderMap, Request, Response};
use passeur_core::circumstances::RequestFacts;
use passeur_core::id::Token;
use passeur_core::step::Step;
use passeur_live::edition::Edition;
use passeur_live::ticket::TicketFailed;

use crate::admission::Admission;
use crate::bodies::Bound;
use crate::body::Body;
use crate::edition::WebEdition;

/// Why a request came without a usable session.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NoSession {
    NoCookie,
    TwoCookies,
    Unknown,
    OtherGate,
    Ended,
    IdleTooLong,
    TooOld,
    /// There is one, and it was begun by a sign-in that is not enough for this request.
    StepUp,
}

impl NoSession {
    /// The reason code of the step.
    pub fn code(self) -> &'static str {
        match self {
            NoSession::NoCookie => "none",
            NoSession::TwoCookies => "duplicate",
            NoSession::Unknown => "unknown",
            NoSession::OtherGate => "other-gate",
            NoSession::Ended => "ended",
            NoSession::IdleTooLong => "idle-too-long",
            NoSession::TooOld => "too-old",
            NoSession::StepUp => "step-up",
        }
    }
}

/// A form that came without a session.
#[derive(Clone, Debug)]
pub enum Interrupted {
    /// Its body.
    Whole(Bytes),
    /// It is larger than what is kept, or did not arrive in time.
    TooLarge,
}

/// What became of a presented token.
pub enum Presented {
    Admitted(Arc<Admission>),
    /// The session is live and this gate says no; the page says so.
    Refused(Response<Body>),
    No(NoSession),
}

/// Why an upstream did not take a request, for engineers. The person is only told that it did not.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{detail}")]
pub struct UpstreamFailure {
    /// The address that was tried last.
    pub upstream: String,
    pub kind: FailureKind,
    pub detail: String,
}

/// The kinds of failure that are mended in different places.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FailureKind {
    /// Nothing accepts connections there.
    Connect,
    TimeOut,
    /// The certificate is not accepted, or ours cannot be used.
    Certificate,
    /// What came back was no answer.
    Protocol,
}

impl FailureKind {
    /// The reason code of the step.
    pub fn code(self) -> &'static str {
        match self {
            FailureKind::Connect => "connect",
            FailureKind::TimeOut => "time-out",
            FailureKind::Certificate => "certificate",
            FailureKind::Protocol => "protocol",
        }
    }
}

/// A ticket that an application is shown, with what judges its answer.
pub struct Ticket {
    /// The Authorization field (RFC 4559 4.2).
    pub value: http::HeaderValue,
    pub proof: Proof,
}

/// Judges what an application answers to a ticket.
pub struct Proof(pub Box<dyn Proves>);

/// See [`Proof`].
pub trait Proves: Send {
    /// Whom the application was shown.
    fn person(&self) -> &str;
    /// Whether its token proves that it is the one that was asked for, and was shown that person. May reckon for a moment.
    ///
    /// # Errors
    /// Why it does not.
    fn proves(self: Box<Self>, token: &[u8]) -> Result<(), String>;
}

impl Proof {
    /// Whom the application was shown.
    pub fn person(&self) -> &str {
        self.0.person()
    }
}

/// The rest of the service, as the data path sees it.
#[async_trait]
pub trait Control: Send + Sync + 'static {
    /// What is read of a body at a path of the sign-in host.
    fn bound(&self, path: &str) -> Bound;
    /// Answers a request to the sign-in host.
    async fn pages(&self, request: Request<Body>, address: IpAddr) -> Response<Body>;
    /// Answers a request under `/.passeur/` on a gate's own host.
    async fn gate_pages(&self, edition: Arc<Edition>, gate: &str, request: Request<Body>, address: IpAddr) -> Response<Body>;
    /// Answers a request to a host that is no gate's.
    async fn unknown_host(&self, request: Request<Body>, address: IpAddr) -> Response<Body>;
    /// Why this node may not serve just now, in a line; none where it may. Does not wait.
    fn not_ready(&self) -> Option<&'static str>;
    /// Turns a token that is not in memory into an admission, or decides anew under a new edition.
    async fn present(&self, edition: Arc<WebEdition>, gate: &str, token: &Token, facts: &RequestFacts) -> Presented;
    /// The same for a token that a program sent (RFC 6750), which has opened nothing here yet or must be looked at anew.
    async fn present_bearer(&self, edition: Arc<WebEdition>, gate: &str, token: &str, facts: &RequestFacts) -> Presented;
    /// The same for a client certificate, whoever issued it.
    async fn present_certificate(
        &self,
        edition: Arc<WebEdition>,
        gate: &str,
        chain: Arc<[Vec<u8>]>,
        facts: &RequestFacts,
    ) -> Presented;
    /// A ticket of the person's for the application of a gate; `anew` when the one before was not taken.
    async fn ticket(
        &self,
        edition: Arc<Edition>,
        gate: &str,
        admission: Arc<Admission>,
        anew: bool,
    ) -> Result<Ticket, Box<TicketFailed>>;
    /// Whether an application proved itself.
    async fn proves(&self, proof: Proof, token: Vec<u8>) -> Result<(), String>;
    /// Answers a request for which there is no ticket, or none that its application takes.
    async fn ticket_failed(
        &self,
        gate: &str,
        admission: Arc<Admission>,
        failed: TicketFailed,
        facts: &RequestFacts,
    ) -> Response<Body>;
    /// Answers a request without a usable session: to sign-in, or 401.
    async fn turn_away(
        &self,
        edition: Arc<Edition>,
        gate: &str,
        why: NoSession,
        headers: &HeaderMap,
        form: Option<Interrupted>,
        facts: &RequestFacts,
    ) -> Response<Body>;
    /// Answers a request that is never let through, for the reason in the step.
    async fn reject(
        &self,
        edition: Arc<Edition>,
        gate: &str,
        status: http::StatusCode,
        step: Step,
        facts: &RequestFacts,
    ) -> Response<Body>;
    /// Notes headers that only the gate may set and that a client sent; they are removed already. Does not wait.
    fn forged(&self, admission: &Admission, names: Vec<String>, facts: &RequestFacts);
    /// Answers somebody who may enter the gate and not this section of it.
    async fn section_refused(
        &self,
        edition: Arc<Edition>,
        gate: &str,
        admission: &Admission,
        section: usize,
        facts: &RequestFacts,
    ) -> Response<Body>;
    /// Answers at a gate of kind `network` to somebody who is signed in: what is open to them there.
    async fn network_page(
        &self,
        edition: Arc<Edition>,
        gate: &str,
        admission: &Admission,
        facts: &RequestFacts,
    ) -> Response<Body>;
    /// Answers for an upstream that did not; without an admission where the section is open.
    async fn upstream_failed(
        &self,
        gate: &str,
        admission: Option<&Admission>,
        how: UpstreamFailure,
        facts: &RequestFacts,
    ) -> Response<Body>;
    /// Whether the store still knows the session as not ended; none when it does not answer.
    async fn still_live(&self, session: uuid::Uuid) -> Option<bool>;
    /// Answers while revocations cannot be seen.
    async fn blind(&self, facts: &RequestFacts) -> Response<Body>;
}
