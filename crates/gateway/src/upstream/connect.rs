//! Connecting to one upstream address.

use std::io;
use std::time::Duration;

use hyper::client::conn::http1;
use hyper_util::rt::TokioIo;
use passeur_live::resolve::resolve;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;

use super::budget::{Bounded, Budget};
use super::pool::Sender;
use crate::control::{FailureKind, UpstreamFailure};
use crate::target::Target;

/// How long an upstream may take to accept a connection, TLS included.
const CONNECT_LIMIT: Duration = Duration::from_secs(5);
/// The largest head of an answer.
const HEAD_MAX: usize = 256 * 1024;

/// Where a connection is driven.
#[derive(Clone, Copy)]
pub(super) enum On {
    /// On the data core that asks.
    Core,
    /// On the runtime of whoever asks.
    Runtime,
}

/// A connection that is ready for a request.
pub(super) async fn connect(target: &Target, on: On) -> Result<Sender, UpstreamFailure> {
    match tokio::time::timeout(CONNECT_LIMIT, open(target, on)).await {
        Ok(done) => done,
        Err(_) => Err(failure(target, FailureKind::TimeOut, format!("it did not accept within {} s", CONNECT_LIMIT.as_secs()))),
    }
}

pub(super) fn failure(target: &Target, kind: FailureKind, detail: String) -> UpstreamFailure {
    UpstreamFailure { upstream: target.address.to_string(), kind, detail }
}

/// Connects and, over TLS, shakes hands, without a request: what an address is like, with its certificate in DER.
pub(crate) async fn probe(target: &Target) -> Result<Option<Vec<u8>>, UpstreamFailure> {
    let shaken = async {
        let tls = target.tls.as_ref().map_err(|why| failure(target, FailureKind::Certificate, why.clone()))?;
        let tcp = dial(target).await?;
        let Some(tls) = tls else { return Ok(None) };
        let stream = tls.connector.connect(tls.name.clone(), tcp).await.map_err(|e| tls_failure(target, &e))?;
        let certificate = stream.get_ref().1.peer_certificates().and_then(|c| c.first()).map(|c| c.to_vec());
        Ok(certificate)
    };
    match tokio::time::timeout(CONNECT_LIMIT, shaken).await {
        Ok(done) => done,
        Err(_) => Err(failure(target, FailureKind::TimeOut, format!("it did not accept within {} s", CONNECT_LIMIT.as_secs()))),
    }
}

async fn dial(target: &Target) -> Result<TcpStream, UpstreamFailure> {
    let refused = |e: io::Error| failure(target, FailureKind::Connect, e.to_string());
    let addresses = resolve(&target.address.host, target.address.port).await.map_err(refused)?;
    TcpStream::connect(addresses.as_slice()).await.map_err(refused)
}

async fn open(target: &Target, on: On) -> Result<Sender, UpstreamFailure> {
    let tls = target.tls.as_ref().map_err(|why| failure(target, FailureKind::Certificate, why.clone()))?;
    let tcp = dial(target).await?;
    let _ = tcp.set_nodelay(true);
    match tls {
        None => handshake(target, tcp, on).await,
        Some(tls) => {
            let stream = tls.connector.connect(tls.name.clone(), tcp).await.map_err(|e| tls_failure(target, &e))?;
            handshake(target, stream, on).await
        }
    }
}

/// A certificate that is not accepted has a cause of its own: it is mended elsewhere than a wrong port.
fn tls_failure(target: &Target, e: &io::Error) -> UpstreamFailure {
    use rustls::Error;
    let cause = e.get_ref().and_then(|inner| inner.downcast_ref::<Error>());
    let kind = match cause {
        Some(Error::InvalidCertificate(_) | Error::NoCertificatesPresented) => FailureKind::Certificate,
        _ => FailureKind::Protocol,
    };
    failure(target, kind, format!("TLS failed: {e}"))
}

async fn handshake<T>(target: &Target, io: T, on: On) -> Result<Sender, UpstreamFailure>
where
    T: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    let budget = Budget::default();
    let (requests, connection) = http1::Builder::new()
        .max_buf_size(HEAD_MAX)
        .handshake(TokioIo::new(Bounded::new(io, budget.clone())))
        .await
        .map_err(|e| failure(target, FailureKind::Protocol, e.to_string()))?;
    let drive = async move {
        if let Err(e) = connection.with_upgrades().await {
            tracing::debug!(error = %e, "a connection to an upstream ended early");
        }
    };
    // On a core it runs among that core's requests, so that neither wakes the other through another queue.
    match on {
        On::Core => drop(tokio::task::spawn_local(drive)),
        On::Runtime => drop(tokio::spawn(drive)),
    }
    Ok(Sender { requests, budget, proven: false })
}
