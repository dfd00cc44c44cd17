//! Requests to an application that knows nothing but Kerberos (RFC 4559): each goes with a ticket of the person's, over connections
//! of their session alone, and nothing of the answer is handed on before the application has proven itself.
//!
//! Such applications often take a ticket for its whole connection: on one that others use, one person's ticket would stand for the
//! next. So connections are kept by session, gate and edition ([`crate::upstream`]). An application that asks for a ticket again is
//! shown a new one once; its 401 never reaches the person, whose browser has nothing to answer it with.

use std::sync::Arc;

use http::header::{AUTHORIZATION, WWW_AUTHENTICATE};
use http::{HeaderValue, Response, StatusCode};
use hyper::body::Incoming;
use passeur_core::circumstances::RequestFacts;
use passeur_core::step;
use passeur_core::step::Param;
use passeur_live::ticket::TicketFailed;

use crate::admission::Admission;
use crate::body::Body;
use crate::control::{Proof, UpstreamFailure};
use crate::edition::{Place, WebEdition};
use crate::outgoing::Outgoing;
use crate::path::Gateway;
use crate::stream::Progress;
use crate::upstream::pool::{Lease, Owner};

/// Why a request with a ticket came to nothing.
pub(crate) enum Failed {
    /// The application does not answer.
    Upstream(UpstreamFailure),
    /// It is answered already.
    Answered(Box<Response<Body>>),
}

/// One request with all that sending it takes.
pub(crate) struct Ticketed<'a> {
    pub(crate) edition: &'a Arc<WebEdition>,
    pub(crate) place: Place<'a>,
    pub(crate) admission: &'a Arc<Admission>,
    pub(crate) progress: Option<&'a Progress>,
    /// Writes the request anew, where it may be repeated.
    pub(crate) again: Option<&'a (dyn Fn() -> Option<Outgoing> + Sync)>,
    pub(crate) facts: &'a dyn Fn() -> RequestFacts,
}

impl Gateway {
    /// Sends a request with a ticket, and hands the answer on once the application has proven itself.
    pub(crate) async fn send_ticketed(&self, t: &Ticketed<'_>, first: Outgoing) -> Result<(Response<Incoming>, Lease), Failed> {
        let session = t.admission.session.id;
        let owner = Arc::new(Owner { session, gate: t.place.gate.name.clone(), edition: t.edition.number });
        let mut out = Some(first);
        for anew in [false, true] {
            let Some(request) = out.take() else { break };
            let (value, proof) = self.ticket(t, anew).await?;
            let written = t.again;
            let again = || written.and_then(|make| make()).map(|o| o.authorized(value.clone()));
            let again: Option<&(dyn Fn() -> Option<Outgoing> + Sync)> = if written.is_some() { Some(&again) } else { None };
            let request = request.authorized(value.clone());
            let sent = self.upstreams().send_of(t.place.route, session, Some(owner.clone()), request, t.progress, again).await;
            let (mut answer, mut lease) = sent.map_err(Failed::Upstream)?;
            let answered = negotiated(&answer);
            answer.headers_mut().remove(WWW_AUTHENTICATE);
            if answer.status() != StatusCode::UNAUTHORIZED {
                self.proven(t, proof, answered, &mut lease).await?;
                return Ok((answer, lease));
            }
            lease.spend();
            if !anew && let Some(make) = t.again {
                out = make();
                continue;
            }
            // What has a body was sent once and cannot be sent again; the next request goes with a new ticket.
            let step =
                step!(UpstreamTicketRefused { service: service(t.place), person: proof.person(), upstream: lease.address() });
            return Err(self.failed(t, TicketFailed::of(step)).await);
        }
        // Only where the request could not be written a second time, which it was at first.
        let step = step!(AmbiguousRequest { what: Param::reason("unwritable") });
        Err(self.failed(t, TicketFailed::of(step)).await)
    }

    async fn ticket(&self, t: &Ticketed<'_>, anew: bool) -> Result<(HeaderValue, Proof), Failed> {
        match self.control().ticket(t.edition.live.clone(), &t.place.gate.name, t.admission.clone(), anew).await {
            Ok(shown) => Ok((shown.value, shown.proof)),
            Err(failed) => Err(self.failed(t, *failed).await),
        }
    }

    /// Whether the application proved itself: by this answer, or by an earlier one over the same connection.
    async fn proven(&self, t: &Ticketed<'_>, proof: Proof, answered: Option<Vec<u8>>, lease: &mut Lease) -> Result<(), Failed> {
        let how = match answered {
            None if lease.is_proven() => return Ok(()),
            None => "it answered without a token of its own".to_owned(),
            Some(token) => match self.control().proves(proof, token).await {
                Ok(()) => {
                    lease.prove();
                    return Ok(());
                }
                Err(how) => how,
            },
        };
        let upstream = lease.address();
        lease.spend();
        let step = step!(UpstreamNotProven { service: service(t.place), upstream, how });
        Err(self.failed(t, TicketFailed::of(step)).await)
    }

    async fn failed(&self, t: &Ticketed<'_>, failed: TicketFailed) -> Failed {
        let answer = self.control().ticket_failed(&t.place.gate.name, t.admission.clone(), failed, &(t.facts)()).await;
        Failed::Answered(Box::new(answer))
    }
}

fn service(place: Place<'_>) -> String {
    place.gate.ticket().map(|t| t.service.clone()).unwrap_or_default()
}

/// The token with which an application answers; none where it gives none, or one that cannot be read.
fn negotiated(answer: &Response<Incoming>) -> Option<Vec<u8>> {
    use base64::Engine;
    use base64::engine::general_purpose::STANDARD;
    answer.headers().get_all(WWW_AUTHENTICATE).iter().find_map(|v| {
        let (scheme, token) = v.to_str().ok()?.split_once(' ')?;
        scheme.eq_ignore_ascii_case("negotiate").then(|| STANDARD.decode(token.trim()).ok()).flatten()
    })
}

impl Outgoing {
    /// With what the application is shown of the person: in the place of anything that stood there.
    fn authorized(mut self, mut value: HeaderValue) -> Outgoing {
        value.set_sensitive(true);
        self.headers_mut().insert(AUTHORIZATION, value);
        self
    }
}
