//! The data path's shape with nothing around it: a single-thread runtime and a pool of connections a core, one look-up by the token, eight
//! headers set, four that say where the request came from. What Passeur costs beyond it is what Passeur does beyond it. It checks nothing
//! and is no gateway.

use std::cell::RefCell;
use std::collections::HashMap;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::pin::Pin;
use std::rc::Rc;
use std::sync::Arc;
use std::task::{Context, Poll};

use bytes::Bytes;
use http::header::{COOKIE, FORWARDED, HeaderName, HeaderValue};
use http::{Request, Response, Uri};
use hyper::body::{Body, Frame, Incoming, SizeHint};
use hyper::client::conn::http1::{self as client, SendRequest};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::TokioIo;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::mpsc;
use tokio_rustls::TlsAcceptor;

use crate::gate::{GATES, SESSIONS, compiled, delivered, site, token};
use crate::process::announce;

/// What a token stands for.
type Sessions = HashMap<[u8; 32], Vec<(HeaderName, HeaderValue)>>;

/// Idle connections to the application, on one core.
type Pool = Rc<RefCell<Vec<SendRequest<Incoming>>>>;

/// An answer's body; its connection goes back once it ended.
struct Answer {
    body: Incoming,
    sender: Option<SendRequest<Incoming>>,
    pool: Pool,
}

impl Answer {
    fn ended(&mut self) {
        if let Some(sender) = self.sender.take() {
            self.pool.borrow_mut().push(sender);
        }
    }
}

impl Body for Answer {
    type Data = Bytes;
    type Error = hyper::Error;

    fn poll_frame(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, hyper::Error>>> {
        let frame = Pin::new(&mut self.body).poll_frame(cx);
        if matches!(frame, Poll::Ready(None)) || matches!(frame, Poll::Ready(Some(Ok(_)))) && self.body.is_end_stream() {
            self.ended();
        }
        frame
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

async fn sender(pool: &Pool, upstream: SocketAddr) -> SendRequest<Incoming> {
    while let Some(kept) = pool.borrow_mut().pop() {
        if kept.is_ready() {
            return kept;
        }
    }
    let tcp = TcpStream::connect(upstream).await.expect("the application");
    let _ = tcp.set_nodelay(true);
    let (sender, connection) = client::handshake(TokioIo::new(tcp)).await.expect("HTTP");
    tokio::task::spawn_local(connection);
    sender
}

async fn answer(
    mut request: Request<Incoming>,
    sessions: Arc<Sessions>,
    pool: Pool,
    upstream: SocketAddr,
) -> Result<Response<Answer>, hyper::Error> {
    let cookie = request.headers_mut().remove(COOKIE).expect("a cookie");
    let text = cookie.to_str().expect("a cookie").split_once('=').expect("a cookie").1;
    let shown = passeur_core::id::Token::parse(text).expect("a token");
    let told = sessions.get(&shown.digest()).expect("a session");
    let headers = request.headers_mut();
    headers.reserve(told.len() + 4);
    for (name, value) in told {
        headers.insert(name.clone(), value.clone());
    }
    headers.insert(FORWARDED, HeaderValue::from_static("for=127.0.0.1;proto=http"));
    headers.insert("x-forwarded-for", HeaderValue::from_static("127.0.0.1"));
    headers.insert("x-forwarded-host", HeaderValue::from_static("g0.bench.localhost"));
    headers.insert("x-forwarded-proto", HeaderValue::from_static("http"));
    let path = request.uri().path_and_query().cloned().expect("a path");
    *request.uri_mut() = Uri::from(path);
    let mut sender = sender(&pool, upstream).await;
    let answer = sender.send_request(request).await?;
    Ok(answer.map(|body| Answer { body, sender: Some(sender), pool }))
}

async fn serve<T: hyper::rt::Read + hyper::rt::Write + Unpin>(io: T, sessions: Arc<Sessions>, pool: Pool, upstream: SocketAddr) {
    let service = service_fn(move |request| answer(request, sessions.clone(), pool.clone(), upstream));
    let _ = http1::Builder::new().serve_connection(io, service).await;
}

type Dealt = (std::net::TcpStream, Option<TlsAcceptor>);

fn core(mut dealt: mpsc::UnboundedReceiver<Dealt>, sessions: Arc<Sessions>, upstream: SocketAddr) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    let pool = Pool::default();
    tokio::task::LocalSet::new().block_on(&runtime, async {
        while let Some((stream, tls)) = dealt.recv().await {
            let stream = TcpStream::from_std(stream).expect("a connection");
            let (sessions, pool) = (sessions.clone(), pool.clone());
            tokio::task::spawn_local(async move {
                match tls {
                    None => serve(TokioIo::new(stream), sessions, pool, upstream).await,
                    Some(tls) => {
                        if let Ok(stream) = tls.accept(stream).await {
                            serve(TokioIo::new(stream), sessions, pool, upstream).await;
                        }
                    }
                }
            });
        }
    });
}

pub fn run(upstream: SocketAddr, folder: Option<PathBuf>) {
    let edition = compiled(&site(80, upstream, 1, 1));
    let of_first_gate = (0..SESSIONS).step_by(GATES).map(|i| (token(i).digest(), delivered(&edition, i)));
    let sessions: Arc<Sessions> = Arc::new(of_first_gate.collect());
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let senders: Vec<_> = (0..cores)
        .map(|_| {
            let (sender, dealt) = mpsc::unbounded_channel();
            let sessions = sessions.clone();
            std::thread::spawn(move || core(dealt, sessions, upstream));
            sender
        })
        .collect();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let clear = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let secure = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        announce(clear.local_addr().expect("an address"), Some(secure.local_addr().expect("an address")));
        let acceptor = folder.map(|f| crate::tls::acceptor(&f));
        let mut turn = 0;
        loop {
            let (stream, tls) = tokio::select! {
                Ok((stream, _)) = clear.accept() => (stream, None),
                Ok((stream, _)) = secure.accept() => (stream, acceptor.clone()),
            };
            let _ = stream.set_nodelay(true);
            turn += 1;
            let _ = senders[turn % cores].send((stream.into_std().expect("a connection"), tls));
        }
    });
}
