//! The load: so many connections, each asking again as soon as it was answered.

use std::net::SocketAddr;
use std::time::{Duration, Instant};

use bytes::Bytes;
use http::Request;
use http_body_util::{BodyExt, Empty};
use hyper::client::conn::http1;
use hyper_util::rt::TokioIo;
use rustls::pki_types::ServerName;
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;

/// What a browser sends with each request, besides host and cookie.
pub const BROWSER: [(&str, &str); 4] = [
    ("user-agent", "Mozilla/5.0 (X11; Linux x86_64) bench"),
    ("accept", "text/html,application/xhtml+xml"),
    ("accept-language", "en-GB,en;q=0.8,fr;q=0.6"),
    ("accept-encoding", "gzip, br"),
];

/// What to ask.
#[derive(Clone)]
pub struct Ask {
    pub at: SocketAddr,
    pub tls: Option<TlsConnector>,
    pub host: String,
    pub path: &'static str,
    /// A cookie for each connection, in turn; none without identity.
    pub cookies: Vec<String>,
}

/// What came of it.
#[derive(Clone, Copy, Debug, Default)]
pub struct Measured {
    pub per_second: f64,
    pub requests: u64,
    pub median_us: f64,
    pub p99_us: f64,
}

/// Asks over so many connections for so long, after a short warming.
pub fn run(ask: &Ask, connections: usize, seconds: u64) -> Measured {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    let local = tokio::task::LocalSet::new();
    let mut all: Vec<u32> = local.block_on(&runtime, async {
        let warm = Duration::from_millis(300);
        let until = Instant::now() + warm + Duration::from_secs(seconds);
        let from = Instant::now() + warm;
        let tasks: Vec<_> = (0..connections).map(|i| tokio::task::spawn_local(one(ask.clone(), i, from, until))).collect();
        let mut all = vec![];
        for t in tasks {
            all.extend(t.await.expect("a connection"));
        }
        all
    });
    all.sort_unstable();
    let at = |p: f64| {
        all.get(((all.len() as f64 * p) as usize).min(all.len().saturating_sub(1))).copied().unwrap_or(0) as f64 / 1000.0
    };
    Measured { per_second: all.len() as f64 / seconds as f64, requests: all.len() as u64, median_us: at(0.5), p99_us: at(0.99) }
}

/// Latencies in nanoseconds.
async fn one(ask: Ask, i: usize, from: Instant, until: Instant) -> Vec<u32> {
    let tcp = TcpStream::connect(ask.at).await.expect("a connection");
    let _ = tcp.set_nodelay(true);
    let mut sender = match &ask.tls {
        None => handshake(TokioIo::new(tcp)).await,
        Some(tls) => {
            let name = ask.host.split(':').next().unwrap_or_default().to_owned();
            let stream = tls.connect(ServerName::try_from(name).expect("a name"), tcp).await.expect("TLS");
            handshake(TokioIo::new(stream)).await
        }
    };
    let mut out = Vec::with_capacity(100_000);
    let cookie = ask.cookies.get(i % ask.cookies.len().max(1));
    loop {
        let mut request = Request::get(ask.path).header("host", &ask.host);
        for (name, value) in BROWSER {
            request = request.header(name, value);
        }
        if let Some(c) = cookie {
            request = request.header("cookie", c);
        }
        let began = Instant::now();
        if began >= until {
            return out;
        }
        let answer = sender.send_request(request.body(Empty::<Bytes>::new()).expect("a request")).await.expect("an answer");
        assert_eq!(answer.status(), 200, "the load is answered");
        let mut body = answer.into_body();
        while let Some(frame) = body.frame().await {
            frame.expect("a whole body");
        }
        if began >= from {
            out.push(began.elapsed().as_nanos().min(u128::from(u32::MAX)) as u32);
        }
        std::future::poll_fn(|cx| sender.poll_ready(cx)).await.expect("an open connection");
    }
}

async fn handshake<T: hyper::rt::Read + hyper::rt::Write + Unpin + 'static>(io: T) -> http1::SendRequest<Empty<Bytes>> {
    let (sender, connection) = http1::handshake(io).await.expect("HTTP");
    tokio::task::spawn_local(async move {
        let _ = connection.await;
    });
    sender
}
