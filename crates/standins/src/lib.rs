//! Stand-ins for what cannot run in the demo: the harbour's identity provider and its legacy application. They share no
//! code with the product, so that one mistake cannot pass on both sides.

pub mod cage;
pub mod cranes;
pub mod gateway;
pub mod ledger;
pub mod locks;
pub mod mailbox;
pub mod provider;
pub mod relay;

use std::net::SocketAddr;

use axum::Router;
use tokio::net::TcpListener;

/// Serves a stand-in on an address until its task is dropped. Returns the bound address.
///
/// # Errors
/// When the address cannot be listened on.
pub async fn serve(listen: SocketAddr, router: Router) -> std::io::Result<(SocketAddr, tokio::task::JoinHandle<()>)> {
    let listener = TcpListener::bind(listen).await?;
    let address = listener.local_addr()?;
    Ok((address, serve_on(listener, router)))
}

/// Serves a stand-in that is told the address of each connection: see [`serve`].
///
/// # Errors
/// When the address cannot be listened on.
pub async fn serve_told(listen: SocketAddr, router: Router) -> std::io::Result<(SocketAddr, tokio::task::JoinHandle<()>)> {
    let listener = TcpListener::bind(listen).await?;
    let address = listener.local_addr()?;
    let service = router.into_make_service_with_connect_info::<SocketAddr>();
    let task = tokio::spawn(async move {
        let _ = axum::serve(listener, service).await;
    });
    Ok((address, task))
}

/// Serves a stand-in on a bound listener.
pub fn serve_on(listener: TcpListener, router: Router) -> tokio::task::JoinHandle<()> {
    tokio::spawn(async move {
        let _ = axum::serve(listener, router).await;
    })
}
