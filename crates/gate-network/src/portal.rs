//! The listener that plain HTTP of unknown machines is led to. It sends them to the gate's page, and whoever is let through already to where
//! they wanted to go: a browser keeps connections from before, and asks on them again (RFC 9112 9.3).
//!
//! Anybody on the link may ask as often as they like: connections are few in all and fewer a machine, short, and hold one small request.

use std::convert::Infallible;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use bytes::Bytes;
use http::{HeaderValue, Request, Response, StatusCode, header};
use http_body_util::Full;
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

use crate::gate::NetworkGate;
use crate::plan::zone_at;
use crate::shares::Shares;

/// Connections in all, and of one address.
const CONNECTIONS_MAX: usize = 2_000;
const OF_ADDRESS_MAX: usize = 16;
/// How long a connection lasts at most: a browser opens spare ones, and uses them later.
const LASTS: Duration = Duration::from_secs(30);
/// The most that is read of a request's head.
const HEAD_MAX: usize = 8 << 10;
/// The longest address that is remembered.
const WANTED_MAX: usize = 1_000;

/// Listens until `stop` changes.
pub async fn run(gate: NetworkGate, listener: TcpListener, mut stop: watch::Receiver<bool>) {
    let open = Shares::new(CONNECTIONS_MAX, OF_ADDRESS_MAX);
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            _ = stop.changed() => return,
        };
        let (stream, peer) = match accepted {
            Ok(accepted) => accepted,
            Err(e) => {
                tracing::warn!(error = %e, "the portal's listener");
                tokio::time::sleep(Duration::from_millis(50)).await;
                continue;
            }
        };
        let Some(place) = open.take(peer.ip().to_canonical()) else { continue };
        let gate = gate.clone();
        tokio::spawn(async move {
            let _place = place;
            let _ = tokio::time::timeout(LASTS, serve(gate, stream, peer)).await;
        });
    }
}

async fn serve(gate: NetworkGate, stream: TcpStream, peer: SocketAddr) {
    // Where it was going, before it was led here.
    let meant = original(&stream);
    let address = peer.ip().to_canonical();
    let answer = service_fn(async |request: Request<Incoming>| Ok::<_, Infallible>(answer(&gate, address, meant, &request)));
    let mut http = hyper::server::conn::http1::Builder::new();
    http.timer(TokioTimer::new()).header_read_timeout(LASTS).max_buf_size(HEAD_MAX).keep_alive(false);
    if let Err(e) = http.serve_connection(TokioIo::new(stream), answer).await {
        tracing::debug!(error = %e, "a connection that was led to the portal");
    }
}

/// The address that a connection was opened to, as the kernel noted when it led it here.
fn original(stream: &TcpStream) -> Option<SocketAddr> {
    let v4 = rustix::net::sockopt::ip_original_dst(stream).map(SocketAddr::V4);
    v4.or_else(|_| rustix::net::sockopt::ipv6_original_dst(stream).map(SocketAddr::V6)).ok()
}

/// What an unknown machine asked for, as an address of plain HTTP; none where it cannot be one.
fn wanted(request: &Request<Incoming>, meant: Option<SocketAddr>) -> Option<String> {
    let path = request.uri().path_and_query().map_or("/", |p| p.as_str());
    let named = request.uri().authority().map(ToString::to_string);
    let named = named.or_else(|| request.headers().get(header::HOST).and_then(|h| h.to_str().ok()).map(str::to_owned));
    let host = named.filter(|h| is_authority(h)).or_else(|| meant.map(|a| a.to_string()))?;
    let whole = format!("http://{host}{path}");
    (path.starts_with('/') && whole.len() <= WANTED_MAX && whole.bytes().all(|b| b.is_ascii_graphic())).then_some(whole)
}

/// Whether a Host field names a host and perhaps a port, and nothing else.
fn is_authority(text: &str) -> bool {
    !text.is_empty() && text.len() <= 255 && text.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._:[]".contains(&b))
}

fn answer(gate: &NetworkGate, address: IpAddr, meant: Option<SocketAddr>, request: &Request<Incoming>) -> Response<Full<Bytes>> {
    let Some(edition) = gate.engine.live.get() else { return said(StatusCode::SERVICE_UNAVAILABLE, None) };
    let interfaces = gate.interfaces();
    let Some((of, zone)) = zone_at(&edition.site, &interfaces, address) else { return said(StatusCode::FORBIDDEN, None) };
    let wanted = wanted(request, meant);
    if gate.on_at(zone, address).is_some() {
        return match wanted {
            Some(to) => said(StatusCode::TEMPORARY_REDIRECT, Some(&to)),
            None => said(StatusCode::BAD_REQUEST, None),
        };
    }
    if let Some(wanted) = wanted.filter(|_| request.method() == http::Method::GET) {
        gate.note_wanted(address, wanted);
    }
    said(StatusCode::FOUND, Some(&of.address.at("/")))
}

/// An answer that nobody keeps, on a connection that nobody uses again.
fn said(status: StatusCode, to: Option<&str>) -> Response<Full<Bytes>> {
    let mut response = Response::new(Full::new(Bytes::new()));
    *response.status_mut() = status;
    let fields = response.headers_mut();
    fields.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    fields.insert(header::CONNECTION, HeaderValue::from_static("close"));
    if let Some(to) = to.and_then(|t| HeaderValue::from_str(t).ok()) {
        fields.insert(header::LOCATION, to);
    }
    response
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_host_field_holds_a_host_and_nothing_else() {
        for good in ["a.example", "a.example:8080", "[2001:db8::1]:80", "10.0.0.1"] {
            assert!(is_authority(good), "{good}");
        }
        for bad in ["", "a@b", "a/b", "a b", "a\r\nX: y", "é.example", "a?b"] {
            assert!(!is_authority(bad), "{bad}");
        }
    }
}
