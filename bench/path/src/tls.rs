//! Certificates for a run.

use std::path::Path;
use std::sync::Arc;

use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::{ClientConfig, RootCertStore, ServerConfig};
use tokio_rustls::{TlsAcceptor, TlsConnector};

/// The names the load asks for.
pub const NAMES: [&str; 1] = ["*.bench.localhost"];

/// Writes a self-signed certificate into a folder, as Passeur reads them.
pub fn write(folder: &Path) {
    let made = rcgen::generate_simple_self_signed(NAMES.map(str::to_owned)).expect("a certificate");
    std::fs::write(folder.join("bench.pem"), made.cert.pem()).expect("a file");
    std::fs::write(folder.join("bench.key"), made.signing_key.serialize_pem()).expect("a file");
}

pub fn acceptor(folder: &Path) -> TlsAcceptor {
    let chain = vec![CertificateDer::from_pem_file(folder.join("bench.pem")).expect("a certificate")];
    let key = PrivateKeyDer::from_pem_file(folder.join("bench.key")).expect("a key");
    let config = ServerConfig::builder().with_no_client_auth().with_single_cert(chain, key).expect("a configuration");
    TlsAcceptor::from(Arc::new(config))
}

pub fn connector(folder: &Path) -> TlsConnector {
    let mut roots = RootCertStore::empty();
    roots.add(CertificateDer::from_pem_file(folder.join("bench.pem")).expect("a certificate")).expect("a root");
    let config = ClientConfig::builder().with_root_certificates(roots).with_no_client_auth();
    TlsConnector::from(Arc::new(config))
}
