//! The application: a bare server whose answers cost as little as they can.

use std::convert::Infallible;

use bytes::Bytes;
use http::{Request, Response};
use http_body_util::Full;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::TokioIo;
use tokio::net::TcpListener;

use crate::process::announce;

pub fn run() {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let small = Bytes::from(vec![b'x'; 1 << 10]);
        let large = Bytes::from(vec![b'x'; 64 << 10]);
        let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        announce(listener.local_addr().expect("an address"), None);
        loop {
            let Ok((stream, _)) = listener.accept().await else { continue };
            let _ = stream.set_nodelay(true);
            let (small, large) = (small.clone(), large.clone());
            tokio::spawn(async move {
                let service = service_fn(move |r: Request<Incoming>| {
                    let body = if r.uri().path() == "/64k" { large.clone() } else { small.clone() };
                    async move { Ok::<_, Infallible>(Response::new(Full::new(body))) }
                });
                let _ = http1::Builder::new().serve_connection(TokioIo::new(stream), service).await;
            });
        }
    });
}
