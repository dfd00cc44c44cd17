//! Bound sockets, and one acceptor that deals connections to the data cores in turn. (Letting the kernel spread them by
//! SO_REUSEPORT dealt unevenly.)

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use passeur_core::forwarded::is_trusted;
use tokio::net::TcpListener;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc, watch};

use crate::edition::WebLive;
use crate::floods::{Floods, Place, count};
use crate::tls::Certificates;

/// A bound listener; with certificates it speaks TLS.
pub struct Listener {
    socket: TcpListener,
    pub(crate) tls: Option<Arc<Certificates>>,
}

impl Listener {
    /// Binds an address.
    pub async fn bind(address: SocketAddr, tls: Option<Arc<Certificates>>) -> std::io::Result<Listener> {
        Ok(Listener { socket: TcpListener::bind(address).await?, tls })
    }

    /// The bound address.
    pub fn address(&self) -> std::io::Result<SocketAddr> {
        self.socket.local_addr()
    }
}

/// An accepted connection on its way to a core. It holds its places until it is dropped.
pub(crate) struct Accepted {
    pub(crate) stream: std::net::TcpStream,
    pub(crate) peer: IpAddr,
    pub(crate) tls: Option<Arc<Certificates>>,
    pub(crate) places: Places,
}

/// What a connection holds of the caps: a place among all, and one of its address.
pub(crate) type Places = (OwnedSemaphorePermit, Place);

/// Accepts until `stop` changes.
pub(crate) async fn accept(
    listener: Listener,
    cores: Vec<mpsc::Sender<Accepted>>,
    floods: Arc<Floods>,
    places: Arc<Semaphore>,
    web: WebLive,
    mut stop: watch::Receiver<bool>,
) {
    let mut turn = 0usize;
    loop {
        let accepted = tokio::select! {
            a = listener.socket.accept() => a,
            _ = stop.changed() => return,
        };
        let (stream, peer) = match accepted {
            Ok(a) => a,
            Err(e) => {
                tracing::warn!(error = %e, "a connection could not be accepted");
                tokio::time::sleep(Duration::from_millis(50)).await;
                continue;
            }
        };
        // Full means full: waiting here would let the backlog fill with people who left.
        let Ok(place) = places.clone().try_acquire_owned() else {
            count(&floods.counters.full);
            continue;
        };
        // A trusted proxy brings everybody's connections.
        let trusted =
            web.get().is_some_and(|e| e.site.proxies.as_ref().is_some_and(|p| is_trusted(peer.ip().to_canonical(), &p.networks)));
        let Some(address_place) = floods.connection(peer.ip(), trusted) else { continue };
        let _ = stream.set_nodelay(true);
        let Ok(stream) = stream.into_std() else { continue };
        count(&floods.counters.accepted);
        let accepted =
            Accepted { stream, peer: peer.ip().to_canonical(), tls: listener.tls.clone(), places: (place, address_place) };
        turn = (turn + 1) % cores.len();
        if cores[turn].send(accepted).await.is_err() {
            return;
        }
    }
}
