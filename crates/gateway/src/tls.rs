//! Certificates of our own listeners: a folder of PEM files, chosen by server name, read again when they change.
//!
//! `NAME.pem` holds a certificate with its chain, `NAME.key` its key. The names come from the certificate itself.

use std::collections::{BTreeMap, HashMap};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, RwLock};
use std::time::{Duration, SystemTime};

use passeur_core::site::Site;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::WebPkiSupportedAlgorithms;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::server::danger::{ClientCertVerified, ClientCertVerifier};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use rustls::{DistinguishedName, ServerConfig};
use tokio::sync::watch;

/// How often the folder is looked at.
const LOOK_EVERY: Duration = Duration::from_secs(2);

/// Why a folder of certificates cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{path}: {why}")]
pub struct BadCertificates {
    pub path: PathBuf,
    pub why: String,
}

/// Keys by the name they are for.
#[derive(Debug, Default)]
pub(crate) struct Set {
    exact: HashMap<String, Arc<CertifiedKey>>,
    /// By what follows the asterisk: `.example` for `*.example`.
    wildcard: HashMap<String, Arc<CertifiedKey>>,
}

impl Set {
    pub(crate) fn find(&self, name: &str) -> Option<Arc<CertifiedKey>> {
        let name = name.to_ascii_lowercase();
        let covering = || name.split_once('.').and_then(|(_, rest)| self.wildcard.get(&format!(".{rest}")));
        self.exact.get(&name).or_else(covering).cloned()
    }
}

/// Modification time and length of every file: what is read again when it changes.
type Seen = BTreeMap<PathBuf, (Option<SystemTime>, u64)>;

/// Names of authorities, and how TLS is spoken that asks for a certificate of one of them.
type Hinting = (Arc<[Vec<u8>]>, Arc<ServerConfig>);

/// The certificates of the TLS listeners.
pub struct Certificates {
    folder: PathBuf,
    pub(crate) set: Arc<RwLock<Arc<Set>>>,
    config: Arc<ServerConfig>,
    /// The same, asking the client for a certificate.
    asking: Arc<ServerConfig>,
    /// The same, asking for one of these authorities: a browser that has none of them asks nobody anything.
    hinting: Mutex<Option<Hinting>>,
}

impl std::fmt::Debug for Certificates {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Certificates({})", self.folder.display())
    }
}

#[derive(Debug)]
struct ByName(Arc<RwLock<Arc<Set>>>);

impl ResolvesServerCert for ByName {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        let set = self.0.read().unwrap_or_else(|e| e.into_inner()).clone();
        set.find(hello.server_name()?)
    }
}

/// Which certificate a client is asked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Asks {
    Nothing,
    Anything,
    /// One of these authorities, by their names: the inner part of each, in DER.
    OneOf(Arc<[Vec<u8>]>),
}

impl Asks {
    /// What the sign-in host asks for: certificates of devices, where a check of the site wants any.
    pub(crate) fn of_devices(site: &Site) -> Asks {
        let authorities = site.device_checks.iter().filter_map(|c| c.certificate.as_ref()).flat_map(|c| &c.authorities);
        let names = authorities.filter_map(|a| {
            let der = CertificateDer::from(a.as_slice());
            Some(webpki::anchor_from_trusted_cert(&der).ok()?.subject.to_vec())
        });
        let names: Arc<[_]> = names.collect();
        if names.is_empty() { Asks::Nothing } else { Asks::OneOf(names) }
    }
}

fn spoken(mut config: ServerConfig) -> Arc<ServerConfig> {
    config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
    Arc::new(config)
}

fn asking(set: &Arc<RwLock<Arc<Set>>>, hints: Vec<DistinguishedName>) -> Arc<ServerConfig> {
    let asking = ServerConfig::builder().with_client_cert_verifier(Arc::new(AnyHolder::of(hints)));
    spoken(asking.with_cert_resolver(Arc::new(ByName(set.clone()))))
}

impl Certificates {
    /// Reads a folder.
    ///
    /// # Errors
    /// Which file cannot be used, and why. An empty folder is an error: such a listener could serve nobody.
    pub fn read(folder: &Path) -> Result<Arc<Certificates>, BadCertificates> {
        let set = Arc::new(RwLock::new(Arc::new(load(folder)?)));
        let plain = ServerConfig::builder().with_no_client_auth();
        let config = spoken(plain.with_cert_resolver(Arc::new(ByName(set.clone()))));
        let asking = asking(&set, vec![]);
        Ok(Arc::new(Certificates { folder: folder.to_owned(), set, config, asking, hinting: Mutex::default() }))
    }

    /// The certificates in use: their names, and each in DER.
    pub fn in_use(&self) -> Vec<(Vec<String>, Vec<u8>)> {
        let set = self.set.read().unwrap_or_else(|e| e.into_inner()).clone();
        let exact = set.exact.iter().map(|(name, key)| (name.clone(), key));
        let all = exact.chain(set.wildcard.iter().map(|(rest, key)| (format!("*{rest}"), key)));
        let mut out: BTreeMap<Vec<u8>, Vec<String>> = BTreeMap::new();
        for (name, key) in all {
            let Some(der) = key.cert.first() else { continue };
            out.entry(der.to_vec()).or_default().push(name);
        }
        out.into_iter()
            .map(|(der, mut names)| {
                names.sort();
                (names, der)
            })
            .collect()
    }

    /// The certificate that is shown for a name, in DER.
    pub(crate) fn shown(&self, name: &str) -> Option<Arc<[u8]>> {
        let set = self.set.read().unwrap_or_else(|e| e.into_inner()).clone();
        set.find(name)?.cert.first().map(|c| Arc::from(c.as_ref()))
    }

    /// How to speak TLS, asking for a client certificate or not; nobody must have one.
    pub(crate) fn config(&self, asks: &Asks) -> Arc<ServerConfig> {
        match asks {
            Asks::Nothing => self.config.clone(),
            Asks::Anything => self.asking.clone(),
            Asks::OneOf(hints) => {
                let mut hinting = self.hinting.lock().unwrap_or_else(|e| e.into_inner());
                if let Some((of, config)) = &*hinting
                    && of == hints
                {
                    return config.clone();
                }
                let config = asking(&self.set, hints.iter().map(|h| DistinguishedName::in_sequence(h)).collect());
                *hinting = Some((hints.clone(), config.clone()));
                config
            }
        }
    }

    /// Reads the folder again whenever a file in it changed, until `stop` changes. One that cannot be used is told, and
    /// the last good ones stay.
    pub async fn watch(self: Arc<Certificates>, mut stop: watch::Receiver<bool>) {
        let mut seen = look(&self.folder);
        loop {
            tokio::select! {
                () = tokio::time::sleep(LOOK_EVERY) => {}
                _ = stop.changed() => return,
            }
            let now = look(&self.folder);
            if now != seen {
                seen = now;
                self.reload();
            }
        }
    }

    /// Reads the folder again.
    pub fn reload(&self) {
        match load(&self.folder) {
            Ok(set) => {
                *self.set.write().unwrap_or_else(|e| e.into_inner()) = Arc::new(set);
                tracing::info!(folder = %self.folder.display(), "certificates read again");
            }
            Err(e) => tracing::error!(error = %e, "the certificates cannot be used; the last good ones stay in use"),
        }
    }
}

/// Lets anybody prove that they hold the key of their certificate, if they have one. Whether the certificate is to be believed is
/// decided afterwards (`passeur_links::client_chain`): each gate has authorities of its own, and one connection may carry requests to
/// several; each RADIUS client has its own certificates.
#[derive(Debug)]
pub(crate) struct AnyHolder(WebPkiSupportedAlgorithms, Vec<DistinguishedName>);

impl AnyHolder {
    pub(crate) fn new() -> AnyHolder {
        AnyHolder::of(vec![])
    }

    fn of(hints: Vec<DistinguishedName>) -> AnyHolder {
        AnyHolder(rustls::crypto::aws_lc_rs::default_provider().signature_verification_algorithms, hints)
    }
}

impl ClientCertVerifier for AnyHolder {
    fn root_hint_subjects(&self) -> &[DistinguishedName] {
        &self.1
    }
    fn client_auth_mandatory(&self) -> bool {
        false
    }
    fn verify_client_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: UnixTime,
    ) -> Result<ClientCertVerified, rustls::Error> {
        Ok(ClientCertVerified::assertion())
    }
    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &rustls::DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        rustls::crypto::verify_tls12_signature(message, cert, dss, &self.0)
    }
    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &rustls::DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        rustls::crypto::verify_tls13_signature(message, cert, dss, &self.0)
    }
    fn supported_verify_schemes(&self) -> Vec<rustls::SignatureScheme> {
        self.0.supported_schemes()
    }
}

impl ServerCertVerifier for AnyHolder {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }
    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &rustls::DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        ClientCertVerifier::verify_tls12_signature(self, message, cert, dss)
    }
    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &rustls::DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        ClientCertVerifier::verify_tls13_signature(self, message, cert, dss)
    }
    fn supported_verify_schemes(&self) -> Vec<rustls::SignatureScheme> {
        self.0.supported_schemes()
    }
}

fn look(folder: &Path) -> Seen {
    let Ok(entries) = std::fs::read_dir(folder) else { return Seen::new() };
    let stamp = |p: &Path| std::fs::metadata(p).map(|m| (m.modified().ok(), m.len())).unwrap_or((None, 0));
    entries.flatten().map(|e| (e.path(), stamp(&e.path()))).collect()
}

fn load(folder: &Path) -> Result<Set, BadCertificates> {
    let bad = |path: &Path, why: String| BadCertificates { path: path.to_owned(), why };
    let mut files: Vec<PathBuf> = std::fs::read_dir(folder)
        .map_err(|e| bad(folder, e.to_string()))?
        .flatten()
        .map(|e| e.path())
        .filter(|p| p.extension().is_some_and(|e| e == "pem"))
        .collect();
    files.sort();
    let mut set = Set::default();
    for path in &files {
        let chain: Vec<CertificateDer<'static>> = CertificateDer::pem_file_iter(path)
            .and_then(Iterator::collect::<Result<_, _>>)
            .map_err(|e| bad(path, format!("no certificate can be read: {e}")))?;
        let key_path = path.with_extension("key");
        let key = PrivateKeyDer::from_pem_file(&key_path).map_err(|e| bad(&key_path, format!("no key can be read: {e}")))?;
        let names = names(&chain).ok_or_else(|| bad(path, "the certificate names no host".into()))?;
        let signing = rustls::crypto::aws_lc_rs::sign::any_supported_type(&key).map_err(|e| bad(&key_path, e.to_string()))?;
        let certified = CertifiedKey::new(chain, signing);
        certified.keys_match().map_err(|_| bad(&key_path, "the key is not that of the certificate".into()))?;
        let certified = Arc::new(certified);
        for name in names {
            match name.strip_prefix('*') {
                Some(rest) => set.wildcard.insert(rest.to_owned(), certified.clone()),
                None => set.exact.insert(name, certified.clone()),
            };
        }
    }
    if files.is_empty() {
        return Err(bad(folder, "it holds no NAME.pem with NAME.key beside it".into()));
    }
    Ok(set)
}

/// The DNS names of a certificate (RFC 6125 6.4.4: subject alternative names alone).
fn names(chain: &[CertificateDer<'static>]) -> Option<Vec<String>> {
    let end = webpki::EndEntityCert::try_from(chain.first()?).ok()?;
    let names: Vec<String> = end.valid_dns_names().map(str::to_ascii_lowercase).collect();
    (!names.is_empty()).then_some(names)
}
