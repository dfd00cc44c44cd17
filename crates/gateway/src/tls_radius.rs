//! How RADIUS is spoken over TLS (RFC 6614): with the certificates of our own listeners, as either end.

use std::sync::{Arc, RwLock};

use rustls::client::ResolvesClientCert;
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use rustls::{ClientConfig, ServerConfig, SignatureScheme};

use crate::tls::{AnyHolder, Certificates, Set};

/// The host that stands where a client names none: many gateways do not.
pub type Host = Arc<dyn Fn() -> Option<String> + Send + Sync>;

/// The certificate of the host that is asked for, and otherwise of the sign-in host.
struct OfHost {
    set: Arc<RwLock<Arc<Set>>>,
    host: Host,
}

impl std::fmt::Debug for OfHost {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("OfHost")
    }
}

impl OfHost {
    fn find(&self, named: Option<&str>) -> Option<Arc<CertifiedKey>> {
        let set = self.set.read().unwrap_or_else(|e| e.into_inner()).clone();
        let found = named.and_then(|n| set.find(n)).or_else(|| set.find(&(self.host)()?));
        if found.is_none() {
            tracing::warn!(named, host = (self.host)(), "no certificate for RADIUS over TLS");
        }
        found
    }
}

impl ResolvesServerCert for OfHost {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        self.find(hello.server_name())
    }
}

impl ResolvesClientCert for OfHost {
    fn resolve(&self, _: &[&[u8]], _: &[SignatureScheme]) -> Option<Arc<CertifiedKey>> {
        self.find(None)
    }
    fn has_certs(&self) -> bool {
        true
    }
}

impl Certificates {
    /// How to speak RADIUS over TLS, as the server and as a client. Which certificates the other end may show is looked at after the handshake, by
    /// the site file of that moment. `protocols` are offered and taken by the names of their standards, the better one first (RFC 7301).
    pub fn radius(&self, host: Host, protocols: &[&[u8]]) -> (Arc<ServerConfig>, Arc<ClientConfig>) {
        let of_host = || Arc::new(OfHost { set: self.set.clone(), host: host.clone() });
        let protocols = || protocols.iter().map(|p| p.to_vec()).collect();
        let asking = ServerConfig::builder().with_client_cert_verifier(Arc::new(AnyHolder::new()));
        let mut server = asking.with_cert_resolver(of_host());
        server.alpn_protocols = protocols();
        let any = ClientConfig::builder().dangerous().with_custom_certificate_verifier(Arc::new(AnyHolder::new()));
        let mut client = any.with_client_cert_resolver(of_host());
        client.alpn_protocols = protocols();
        (Arc::new(server), Arc::new(client))
    }
}
