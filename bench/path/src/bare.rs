//! The baseline: multi-thread Tokio, hyper's HTTP/1.1 server, hyper-util's pooled client with its defaults, nodelay, no
//! edits. It is fixed, so that figures of different days can be compared.

use std::net::SocketAddr;
use std::path::PathBuf;

use http::{Request, Uri};
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::{TokioExecutor, TokioIo};
use tokio::net::{TcpListener, TcpStream};

use crate::process::announce;

type Pool = Client<HttpConnector, Incoming>;

pub fn run(upstream: SocketAddr, folder: Option<PathBuf>) {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let mut connector = HttpConnector::new();
        connector.set_nodelay(true);
        let client: Pool = Client::builder(TokioExecutor::new()).build(connector);
        let clear = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let secure = TcpListener::bind("127.0.0.1:0").await.expect("a port");
        announce(clear.local_addr().expect("an address"), Some(secure.local_addr().expect("an address")));
        if let Some(folder) = folder {
            let acceptor = crate::tls::acceptor(&folder);
            let client = client.clone();
            tokio::spawn(async move {
                loop {
                    let Ok((stream, _)) = secure.accept().await else { continue };
                    let _ = stream.set_nodelay(true);
                    let (acceptor, client) = (acceptor.clone(), client.clone());
                    tokio::spawn(async move {
                        if let Ok(stream) = acceptor.accept(stream).await {
                            serve(TokioIo::new(stream), client, upstream).await;
                        }
                    });
                }
            });
        }
        loop {
            let Ok((stream, _)) = clear.accept().await else { continue };
            let _ = TcpStream::set_nodelay(&stream, true);
            tokio::spawn(serve(TokioIo::new(stream), client.clone(), upstream));
        }
    });
}

async fn serve<T: hyper::rt::Read + hyper::rt::Write + Unpin>(io: T, client: Pool, upstream: SocketAddr) {
    let service = service_fn(move |mut request: Request<Incoming>| {
        let path = request.uri().path_and_query().map_or("/", |p| p.as_str());
        let uri: Uri = format!("http://{upstream}{path}").parse().expect("an address");
        *request.uri_mut() = uri;
        client.request(request)
    });
    let _ = http1::Builder::new().serve_connection(io, service).await;
}
