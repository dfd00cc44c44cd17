//! The data cores: one single-thread runtime each, with its own connections to upstreams. A connection stays on the core
//! it was dealt to; nothing on the path of an admitted request is shared but what is read.

use std::cell::RefCell;
use std::convert::Infallible;
use std::future::Future;
use std::rc::{Rc, Weak};
use std::sync::Arc;
use std::task::Poll;
use std::thread::JoinHandle;
use std::time::Duration;

use http::{Request, Response};
use http_body::Body as HttpBody;
use hyper::body::Incoming;
use hyper::server::conn::{http1, http2};
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use passeur_live::clock::Clock;
use tokio::runtime::Handle;
use tokio::sync::{Semaphore, mpsc, watch};
use tokio::task::LocalSet;
use tokio_rustls::LazyConfigAcceptor;

use crate::bodies::Bodies;
use crate::conn::{Conn, Order};
use crate::control::Control;
use crate::edition::WebLive;
use crate::floods::{CONNECTIONS_MAX, Counters, Floods, count};
use crate::head::HEAD_MAX;
use crate::health;
use crate::listener::{Accepted, Listener, accept};
use crate::path::Gateway;
use crate::remote::Remote;
use crate::stream::UnderWay;
use crate::table::Table;
use crate::tls::Asks;
use crate::unread::{Meant, Worded};

/// How long the first request's head may take.
const HEAD_LIMIT: Duration = Duration::from_secs(15);
/// How long a connection may be idle between requests; the head of the next one must come within it.
const IDLE_LIMIT: Duration = Duration::from_secs(75);
/// How long a TLS handshake may take.
const HANDSHAKE_LIMIT: Duration = Duration::from_secs(10);
/// How long running requests may take to end when the service stops.
const STOP_LIMIT: Duration = Duration::from_secs(20);
/// The most streams one HTTP/2 connection may have open, and reset streams it may leave behind (RFC 9113 10.5).
const STREAMS_MAX: u32 = 128;
const RESETS_MAX: usize = 32;
/// How often a core drops what it no longer needs.
const SWEEP_EVERY: Duration = Duration::from_secs(5);

/// How often a core looks whether readers are overdue.
const LOOK_EVERY: Duration = Duration::from_secs(1);

/// What the data path is made of.
#[derive(Clone)]
pub struct Parts {
    pub control: Arc<dyn Control>,
    pub web: WebLive,
    pub table: Arc<Table>,
    pub clock: Clock,
}

/// The running data cores.
pub struct Cores {
    threads: Vec<JoinHandle<()>>,
    acceptors: Vec<tokio::task::JoinHandle<()>>,
    floods: Arc<Floods>,
}

impl Cores {
    /// Starts as many cores as the machine has and serves until `stop` changes. Must be called on the runtime that is to
    /// run everything that is not data path.
    ///
    /// # Errors
    /// When a thread or its runtime cannot be made.
    pub fn start(listeners: Vec<Listener>, parts: &Parts, stop: &watch::Receiver<bool>) -> std::io::Result<Cores> {
        let floods = Arc::new(Floods::default());
        let bodies = Arc::new(Bodies::default());
        let count = std::thread::available_parallelism().map_or(1, usize::from);
        let (mut senders, mut threads) = (vec![], vec![]);
        for n in 0..count {
            let (sender, receiver) = mpsc::channel(256);
            let (parts, floods, stop, control) = (parts.clone(), floods.clone(), stop.clone(), Handle::current());
            let bodies = bodies.clone();
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
            let run = move || {
                let remote = Remote::new(parts.control, control);
                let gateway = Rc::new(Gateway::new(remote, parts.web, parts.table, parts.clock, bodies));
                // The core's own loop is a task among the others: what the set is driven by is asked each time that any of them moves.
                LocalSet::new().block_on(&runtime, async {
                    if let Err(e) = tokio::task::spawn_local(core(gateway, receiver, floods, stop)).await {
                        std::panic::resume_unwind(e.into_panic());
                    }
                });
            };
            threads.push(std::thread::Builder::new().name(format!("core-{n}")).spawn(run)?);
            senders.push(sender);
        }
        let places = Arc::new(Semaphore::new(CONNECTIONS_MAX));
        let mut acceptors: Vec<_> = listeners
            .into_iter()
            .map(|l| tokio::spawn(accept(l, senders.clone(), floods.clone(), places.clone(), parts.web.clone(), stop.clone())))
            .collect();
        acceptors.push(tokio::spawn(health::watch(parts.web.clone(), stop.clone())));
        Ok(Cores { threads, acceptors, floods })
    }

    /// What was accepted and what was turned away.
    pub fn counters(&self) -> Arc<Counters> {
        self.floods.counters.clone()
    }

    /// Returns when every core has ended, after `stop` changed.
    pub async fn ended(self) {
        for a in self.acceptors {
            let _ = a.await;
        }
        let _ = tokio::task::spawn_blocking(move || {
            for t in self.threads {
                let _ = t.join();
            }
        })
        .await;
    }
}

/// Runs futures of HTTP/2 streams on the core's own thread.
#[derive(Clone, Copy)]
struct OnCore;

impl<F> hyper::rt::Executor<F> for OnCore
where
    F: Future + 'static,
{
    fn execute(&self, future: F) {
        tokio::task::spawn_local(future);
    }
}

/// The connections of a core, for what the core asks of them.
type Conns = RefCell<Vec<Weak<Conn>>>;

async fn core(gateway: Rc<Gateway>, mut dealt: mpsc::Receiver<Accepted>, floods: Arc<Floods>, mut stop: watch::Receiver<bool>) {
    let mut sweep = tokio::time::interval(SWEEP_EVERY);
    let mut look = tokio::time::interval(LOOK_EVERY);
    look.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut running = tokio::task::JoinSet::new();
    let conns = Rc::new(Conns::default());
    loop {
        tokio::select! {
            accepted = dealt.recv() => {
                let Some(accepted) = accepted else { break };
                let conn = Rc::new(Conn::new(accepted.peer));
                conns.borrow_mut().push(Rc::downgrade(&conn));
                running.spawn_local(connection(gateway.clone(), accepted, conn, floods.clone()));
            }
            Some(_) = running.join_next() => {}
            _ = sweep.tick() => {
                gateway.sweep();
                close_idle(&conns);
            }
            _ = look.tick() => close_overdue(&conns),
            _ = stop.changed() => break,
        }
    }
    // What is in the queue was accepted before the stop and has asked nothing yet.
    dealt.close();
    conns.borrow().iter().filter_map(Weak::upgrade).for_each(|c| c.ask(Order::Finish));
    let all_ended = async { while running.join_next().await.is_some() {} };
    if tokio::time::timeout(STOP_LIMIT, all_ended).await.is_err() {
        tracing::warn!("some requests did not end in time");
    }
}

/// Closes connections on which no request came in time. One sweep for all costs less than a timer for each request.
fn close_idle(conns: &Conns) {
    conns.borrow_mut().retain(|c| match c.upgrade() {
        None => false,
        Some(c) => {
            if c.is_idle(HEAD_LIMIT.as_millis() as i64, IDLE_LIMIT.as_millis() as i64) {
                c.ask(Order::Close);
            }
            true
        }
    });
}

/// Closes connections whose reader does not read what is over, or reads too slowly: their bodies are not asked, so that nothing in
/// them can tell.
fn close_overdue(conns: &Conns) {
    conns.borrow().iter().filter_map(Weak::upgrade).filter(|c| c.is_overdue()).for_each(|c| c.ask(Order::Close));
}

async fn connection(gateway: Rc<Gateway>, accepted: Accepted, conn: Rc<Conn>, floods: Arc<Floods>) {
    let Accepted { stream, peer, tls, places } = accepted;
    let Ok(stream) = tokio::net::TcpStream::from_std(stream) else { return };
    conn.holds(Arc::new(places));
    let service = Serving { gateway, conn, floods: floods.clone() };
    match tls {
        None => service.http1(TokioIo::new(stream)).await,
        Some(certificates) => {
            let Some(hand) = floods.handshake(peer) else { return };
            let gateway = service.gateway.clone();
            let shaken = tokio::time::timeout(HANDSHAKE_LIMIT, async {
                let hello = LazyConfigAcceptor::new(rustls::server::Acceptor::default(), stream).await?;
                let name = hello.client_hello().server_name().map(str::to_owned);
                let asks = name.as_deref().map_or(Asks::Nothing, |name| gateway.asks_certificate(name));
                service.conn.was_shown(name.as_deref().and_then(|name| certificates.shown(name)));
                let config = certificates.config(&asks);
                service.conn.was_asked(asks);
                hello.into_stream(config).await
            })
            .await;
            drop(hand);
            let Ok(Ok(stream)) = shaken else {
                count(&floods.counters.handshakes_failed);
                return;
            };
            if let Some(chain) = stream.get_ref().1.peer_certificates() {
                service.conn.showed(chain.iter().map(|c| c.to_vec()).collect());
            }
            if stream.get_ref().1.alpn_protocol() == Some(b"h2") {
                service.http2(TokioIo::new(stream)).await;
            } else {
                service.http1(TokioIo::new(stream)).await;
            }
        }
    }
}

/// One connection being served.
struct Serving {
    gateway: Rc<Gateway>,
    conn: Rc<Conn>,
    floods: Arc<Floods>,
}

/// Drives a connection to its end, doing what the core asks of it.
macro_rules! drive {
    ($me:ident, $connection:expr) => {{
        let mut connection = std::pin::pin!($connection);
        let mut finishing = false;
        let ended = std::future::poll_fn(|cx| {
            match $me.conn.asked(cx.waker()) {
                Order::Nothing => {}
                Order::Close => return Poll::Ready(Ok(())),
                Order::Finish => {
                    if !finishing {
                        finishing = true;
                        connection.as_mut().graceful_shutdown();
                    }
                }
            }
            connection.as_mut().poll(cx)
        })
        .await;
        if let Err(e) = ended {
            count(&$me.floods.counters.broken);
            tracing::debug!(error = %e, peer = %$me.conn.peer, "a connection ended early");
        }
    }};
}

/// Answers one request of a connection.
async fn answer(
    gateway: Rc<Gateway>,
    conn: Rc<Conn>,
    meant: Option<Meant>,
    request: Request<Incoming>,
) -> Result<Response<UnderWay>, Infallible> {
    let runs = conn.runs();
    let answer = gateway.handle(Box::new(request), &conn).await;
    if let Some(meant) = meant {
        meant.note(answer.status(), answer.body().is_end_stream());
    }
    runs.of(answer.body().bearer());
    Ok(answer.map(|reply| UnderWay { reply, runs }))
}

impl Serving {
    async fn http1<T>(self, io: T)
    where
        T: hyper::rt::Read + hyper::rt::Write + Unpin + Send + 'static,
    {
        let (gateway, conn, meant) = (self.gateway.clone(), self.conn.clone(), Meant::default());
        let io = Worded::new(io, meant.clone());
        let service = service_fn(move |request| answer(gateway.clone(), conn.clone(), Some(meant.clone()), request));
        let mut builder = http1::Builder::new();
        // The library reads 100 fields at most. Another number, whichever, would cost each request an allocation of 64 octets a field.
        builder.max_buf_size(HEAD_MAX).half_close(true);
        drive!(self, builder.serve_connection(io, service).with_upgrades());
    }

    async fn http2<T>(self, io: T)
    where
        T: hyper::rt::Read + hyper::rt::Write + Unpin + 'static,
    {
        let (gateway, conn) = (self.gateway.clone(), self.conn.clone());
        let service = service_fn(move |request| answer(gateway.clone(), conn.clone(), None, request));
        let mut builder = http2::Builder::new(OnCore);
        builder
            .timer(TokioTimer::new())
            .max_concurrent_streams(STREAMS_MAX)
            .max_pending_accept_reset_streams(RESETS_MAX)
            .max_local_error_reset_streams(RESETS_MAX)
            .max_header_list_size(HEAD_MAX as u32)
            .keep_alive_interval(Duration::from_secs(30))
            .keep_alive_timeout(HEAD_LIMIT);
        drive!(self, builder.serve_connection(io, service));
    }
}
