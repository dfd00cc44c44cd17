//! Accepting connections. Clear text is HTTP/1.1 only; TLS ends before us in this version.

use std::convert::Infallible;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use tokio::net::TcpListener;
use tokio::sync::{Semaphore, watch};

use crate::path::Gateway;

/// The most connections open at once on a node.
const CONNECTIONS_MAX: usize = 20_000;
/// How long a request's head may take.
const HEAD_LIMIT: Duration = Duration::from_secs(15);
/// How long running requests may take to end when the service stops.
const STOP_LIMIT: Duration = Duration::from_secs(20);

/// A bound listener.
pub struct Listener {
    socket: TcpListener,
}

impl Listener {
    /// Binds an address.
    pub async fn bind(address: SocketAddr) -> std::io::Result<Listener> {
        Ok(Listener { socket: TcpListener::bind(address).await? })
    }

    /// The bound address.
    pub fn address(&self) -> std::io::Result<SocketAddr> {
        self.socket.local_addr()
    }
}

/// Serves until `stop` changes; then running requests may end.
pub async fn serve(listener: Listener, gateway: Arc<Gateway>, mut stop: watch::Receiver<bool>) {
    let places = Arc::new(Semaphore::new(CONNECTIONS_MAX));
    loop {
        let Ok(place) = places.clone().acquire_owned().await else { break };
        let accepted = tokio::select! {
            a = listener.socket.accept() => a,
            _ = stop.changed() => break,
        };
        let (stream, peer) = match accepted {
            Ok(a) => a,
            Err(e) => {
                tracing::warn!(error = %e, "a connection could not be accepted");
                tokio::time::sleep(Duration::from_millis(50)).await;
                continue;
            }
        };
        let _ = stream.set_nodelay(true);
        let gateway = gateway.clone();
        let service = service_fn(move |request| {
            let gateway = gateway.clone();
            async move { Ok::<_, Infallible>(gateway.handle(request, peer.ip()).await) }
        });
        let mut builder = http1::Builder::new();
        builder.timer(TokioTimer::new()).header_read_timeout(HEAD_LIMIT).max_headers(100).max_buf_size(64 * 1024);
        let connection = builder.serve_connection(TokioIo::new(stream), service).with_upgrades();
        let mut stop = stop.clone();
        tokio::spawn(async move {
            let mut connection = std::pin::pin!(connection);
            let ended = tokio::select! {
                ended = connection.as_mut() => ended,
                _ = stop.changed() => {
                    connection.as_mut().graceful_shutdown();
                    connection.await
                }
            };
            if let Err(e) = ended {
                tracing::debug!(error = %e, "a connection ended early");
            }
            drop(place);
        });
    }
    drop(listener);
    let all_ended = places.acquire_many(CONNECTIONS_MAX as u32);
    if tokio::time::timeout(STOP_LIMIT, all_ended).await.is_err() {
        tracing::warn!("some requests did not end in time");
    }
}
