//! TLS to applications: certificates are always checked, against the system's trust or the gate's own authority.

use std::sync::Arc;

use passeur_core::site::UpstreamTls;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use rustls::{ClientConfig, RootCertStore};
use tokio_rustls::TlsConnector;

/// What a TLS connection to one address needs.
#[derive(Clone)]
pub(crate) struct Tls {
    pub(crate) connector: TlsConnector,
    pub(crate) name: ServerName<'static>,
}

impl std::fmt::Debug for Tls {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Tls({:?})", self.name)
    }
}

fn certificates(path: &str) -> Result<Vec<CertificateDer<'static>>, String> {
    let bad = |e: rustls::pki_types::pem::Error| format!("the certificate file {path} cannot be used: {e}");
    let all: Vec<_> = CertificateDer::pem_file_iter(path).map_err(bad)?.collect::<Result<_, _>>().map_err(bad)?;
    if all.is_empty() { Err(format!("the certificate file {path} holds no certificate")) } else { Ok(all) }
}

fn roots(settings: &UpstreamTls) -> Result<RootCertStore, String> {
    let mut store = RootCertStore::empty();
    match &settings.ca_file {
        Some(path) => {
            for c in certificates(path)? {
                store.add(c).map_err(|e| format!("the certificate file {path} cannot be used: {e}"))?;
            }
        }
        None => {
            store.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
    }
    Ok(store)
}

/// Prepares TLS to a host.
///
/// # Errors
/// In words for engineers: a file that cannot be read or used, a host that no certificate can name.
pub(crate) fn client(host: &str, settings: &UpstreamTls) -> Result<Tls, String> {
    let bare = host.trim_start_matches('[').trim_end_matches(']');
    let name = ServerName::try_from(bare.to_owned()).map_err(|_| format!("{host} is no name a certificate can hold"))?;
    let builder = ClientConfig::builder().with_root_certificates(roots(settings)?);
    let mut config = match &settings.client {
        None => builder.with_no_client_auth(),
        Some((certificate, key)) => {
            let key_der = PrivateKeyDer::from_pem_file(key).map_err(|e| format!("the key file {key} cannot be used: {e}"))?;
            builder
                .with_client_auth_cert(certificates(certificate)?, key_der)
                .map_err(|e| format!("our certificate {certificate} and its key cannot be used: {e}"))?
        }
    };
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Ok(Tls { connector: TlsConnector::from(Arc::new(config)), name })
}
