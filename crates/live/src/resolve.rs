//! Name resolution that knows RFC 6761 6.3: `localhost` and every name under it is this machine. The system's resolver
//! does not know the names under it.

use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};

use passeur_core::address::is_loopback;
use passeur_core::guard::check_peer;

/// The addresses of a host. Names under `localhost` are never asked of anybody.
///
/// # Errors
/// It has none, or one of them is nobody's or that of a metadata service ([`check_peer`]).
pub async fn resolve(host: &str, port: u16) -> io::Result<Vec<SocketAddr>> {
    let all = resolve_any(host, port).await?;
    for one in &all {
        check_peer(one.ip()).map_err(|e| io::Error::new(io::ErrorKind::PermissionDenied, e))?;
    }
    Ok(all)
}

async fn resolve_any(host: &str, port: u16) -> io::Result<Vec<SocketAddr>> {
    let bare = host.trim_start_matches('[').trim_end_matches(']');
    if let Ok(ip) = bare.parse::<IpAddr>() {
        return Ok(vec![SocketAddr::new(ip, port)]);
    }
    if is_loopback(host) {
        return Ok(vec![SocketAddr::new(Ipv4Addr::LOCALHOST.into(), port)]);
    }
    Ok(tokio::net::lookup_host((host, port)).await?.collect())
}
