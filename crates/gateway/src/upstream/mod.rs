//! The upstreams of a core: which address, over which connection, and what to do when one is lost. Takes an [`Outgoing`]
//! and nothing else.

mod budget;
pub(crate) mod connect;
pub(crate) mod pool;
pub(crate) mod tls;

use std::future::Future;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::task::Poll;
use std::time::Duration;

use http::Response;
use http::header::WWW_AUTHENTICATE;
use hyper::body::Incoming;
use passeur_core::text::innermost;
use uuid::Uuid;

use self::connect::{On, connect, failure};
use self::pool::{Lease, Owner, Pool, Sender};
use crate::control::{FailureKind, UpstreamFailure};
use crate::outgoing::Outgoing;
use crate::stream::{Progress, Upload};
use crate::target::{Route, Target};
use crate::waits::Wait;

/// How long an upstream may take to begin its answer, from the last byte of the request that moved.
const ANSWER_LIMIT: Duration = Duration::from_secs(60);

/// How long a health path may take.
const HEALTH_LIMIT: Duration = Duration::from_secs(3);

/// Connections of one core.
pub(crate) struct Upstreams {
    pool: Arc<Pool>,
}

/// One try over one connection.
enum Tried {
    Answered(Response<Incoming>),
    /// Nothing was written: the request may go elsewhere, whatever it is.
    NotSent(Box<http::Request<Upload>>),
    /// Written in part or whole, and then lost.
    Lost(UpstreamFailure),
    TimedOut(UpstreamFailure),
}

impl Upstreams {
    pub(crate) fn new() -> Upstreams {
        Upstreams { pool: Arc::default() }
    }

    /// Drops connections that were idle for too long, and ends what has waited for too long.
    pub(crate) fn sweep(&self) {
        self.pool.sweep();
    }

    /// Sends a request. `again` writes it anew and is there only where repeating is safe: a safe method (RFC 9110 9.2.1)
    /// without a body. The answer's body streams; its connection is on lease until that ends.
    pub(crate) async fn send(
        &self,
        route: &Route,
        session: Uuid,
        first: Outgoing,
        progress: Option<&Progress>,
        again: Option<&(dyn Fn() -> Option<Outgoing> + Sync)>,
    ) -> Result<(Response<Incoming>, Lease), UpstreamFailure> {
        self.send_of(route, session, None, first, progress, again).await
    }

    /// The same; with an owner over connections that are kept for them alone.
    pub(crate) async fn send_of(
        &self,
        route: &Route,
        session: Uuid,
        owner: Option<Arc<Owner>>,
        first: Outgoing,
        progress: Option<&Progress>,
        again: Option<&(dyn Fn() -> Option<Outgoing> + Sync)>,
    ) -> Result<(Response<Incoming>, Lease), UpstreamFailure> {
        let mut request = Some(first.into_request());
        let mut last = None;
        for target in route.order(session) {
            loop {
                let (mut sender, used) = match self.pool.take(target, owner.as_ref()) {
                    Some(s) => (s, true),
                    // Boxed, since it is rare and large, and the future of every request has its size.
                    None => match Box::pin(connect(target, On::Core)).await {
                        Ok(s) => (s, false),
                        Err(e) => {
                            target.failed(&e.to_string());
                            last = Some(e);
                            break;
                        }
                    },
                };
                let Some(r) = request.take().or_else(|| again.and_then(|make| make()).map(Outgoing::into_request)) else {
                    return Err(last.unwrap_or_else(|| lost(target, "it was lost before the answer".into())));
                };
                target.requests.fetch_add(1, Ordering::Relaxed);
                match attempt(&mut sender, r, target, progress, self.pool.waits().begin(ANSWER_LIMIT)).await {
                    Tried::Answered(answer) => {
                        let mut lease = Lease::new(sender, self.pool.clone(), target.clone(), owner.clone());
                        if owner.is_none() && asks_for_connection_auth(&answer) {
                            target.connection_auth.store(true, Ordering::Relaxed);
                            lease.spend();
                        }
                        return Ok((answer, lease));
                    }
                    Tried::NotSent(r) => {
                        request = Some(r);
                        if !used {
                            last = Some(lost(target, "it closed the connection at once".into()));
                            target.failed("it closed the connection at once");
                            break;
                        }
                    }
                    // The client's own upload broke: that says nothing of the upstream.
                    Tried::Lost(e) if progress.is_some_and(Progress::broken) => return Err(e),
                    Tried::Lost(e) => {
                        self.pool.forget(target);
                        last = Some(e.clone());
                        if again.is_none() {
                            target.failed(&e.to_string());
                            return Err(e);
                        }
                        // A connection that was idle may have been closed as we wrote; a new one that is lost is a failure.
                        if !used {
                            target.failed(&e.to_string());
                            break;
                        }
                    }
                    Tried::TimedOut(e) => {
                        target.failed(&e.to_string());
                        return Err(e);
                    }
                }
            }
        }
        Err(last.unwrap_or_else(|| UpstreamFailure {
            upstream: String::new(),
            kind: FailureKind::Connect,
            detail: "every address is draining".into(),
        }))
    }
}

/// Asks a path over a connection of its own. Ok when the answer is 2xx, otherwise why not.
pub(crate) async fn ask(target: &Target, path: &str) -> Result<(), String> {
    match answer_to(target, path).await?.status {
        s if s.is_success() => Ok(()),
        s => Err(format!("{path} answers {}", s.as_u16())),
    }
}

/// The head of what is answered to a path, over a connection of its own.
pub(crate) async fn answer_to(target: &Target, path: &str) -> Result<http::response::Parts, String> {
    let asked = async {
        let mut sender = connect(target, On::Runtime).await.map_err(|e| e.to_string())?;
        let host = format!("{}:{}", target.address.host, target.address.port);
        let request = http::Request::get(path).header("host", host).header("user-agent", "passeur-health").body(Upload::None);
        let request = request.map_err(|e| e.to_string())?;
        let answer = sender.requests.send_request(request).await.map_err(|e| explain(target, &e).to_string())?;
        Ok(answer.into_parts().0)
    };
    tokio::time::timeout(HEALTH_LIMIT, asked)
        .await
        .unwrap_or_else(|_| Err(format!("{path} does not answer within {} s", HEALTH_LIMIT.as_secs())))
}

fn lost(target: &Target, detail: String) -> UpstreamFailure {
    failure(target, FailureKind::Protocol, detail)
}

async fn attempt(
    sender: &mut Sender,
    request: Box<http::Request<Upload>>,
    target: &Target,
    progress: Option<&Progress>,
    wait: Wait,
) -> Tried {
    sender.budget.head();
    let mut answer = std::pin::pin!(sender.requests.try_send_request(*request));
    let mut moved = 0;
    let came = std::future::poll_fn(|cx| {
        if let Poll::Ready(answer) = answer.as_mut().poll(cx) {
            return Poll::Ready(Some(answer));
        }
        while wait.is_over(cx) {
            // An upload may take as long as it likes while it moves.
            let now = progress.map_or(0, Progress::moved);
            if now == moved {
                return Poll::Ready(None);
            }
            moved = now;
            wait.again();
        }
        Poll::Pending
    })
    .await;
    match came {
        Some(Ok(answer)) => {
            sender.budget.body();
            Tried::Answered(answer)
        }
        Some(Err(mut e)) => match e.take_message() {
            Some(request) => Tried::NotSent(Box::new(request)),
            None => Tried::Lost(explain(target, e.error())),
        },
        None => {
            let detail = format!("no answer within {} s", ANSWER_LIMIT.as_secs());
            Tried::TimedOut(failure(target, FailureKind::TimeOut, detail))
        }
    }
}

fn explain(target: &Target, e: &hyper::Error) -> UpstreamFailure {
    let detail = if e.is_incomplete_message() {
        "it closed the connection before its answer was whole".to_owned()
    } else if e.is_parse() {
        format!("its answer was not valid HTTP: {e}")
    } else {
        innermost(e)
    };
    failure(target, FailureKind::Protocol, detail)
}

/// NTLM and Negotiate authenticate a connection, not a request: on a connection that others use, one person's proof
/// would stand for the next (RFC 4559 6).
fn asks_for_connection_auth(answer: &Response<Incoming>) -> bool {
    answer.headers().get_all(WWW_AUTHENTICATE).iter().any(|v| {
        let scheme = v.as_bytes().split(|b| *b == b' ').next().unwrap_or_default();
        scheme.eq_ignore_ascii_case(b"ntlm") || scheme.eq_ignore_ascii_case(b"negotiate")
    })
}
