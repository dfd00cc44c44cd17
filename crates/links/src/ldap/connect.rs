//! Connecting and binding the service account.

use std::sync::Arc;

use ldap3::{Ldap, LdapConnAsync, LdapConnSettings, LdapError};
use passeur_core::evidence::LookUpState;
use passeur_core::site::{Directory, DirectorySecurity};
use rustls_pki_types::CertificateDer;
use rustls_pki_types::pem::PemObject;
use url::Url;

use passeur_core::text::innermost;
use passeur_live::resolve::resolve;

/// Why a directory gave no answer.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum LinkError {
    /// Our own account was refused (RFC 4511 resultCode 48, 49, 50, 53 at bind).
    #[error("{0}")]
    BindRefused(String),
    /// It did not answer as a server should: address, TLS, time limit, protocol. Another server may do better.
    #[error("{0}")]
    Dead(String),
    /// It answered, and the answer cannot be used: a base that is not there, more groups than are counted. Another server of
    /// the directory would say the same.
    #[error("{0}")]
    Unusable(String),
}

impl LinkError {
    /// As the state of a look-up.
    pub fn state(self) -> LookUpState {
        match self {
            LinkError::BindRefused(detail) => LookUpState::BindRefused { detail },
            LinkError::Dead(detail) => LookUpState::Dead { detail },
            LinkError::Unusable(detail) => LookUpState::Unusable { detail },
        }
    }
}

impl From<LdapError> for LinkError {
    fn from(e: LdapError) -> LinkError {
        match e {
            LdapError::LdapResult { result } => of_result(result.rc, result_words(result.rc, &result.text)),
            LdapError::Timeout { .. } => LinkError::Dead("no answer within the time limit".into()),
            LdapError::EndOfStream | LdapError::OpSend { .. } | LdapError::ResultRecv { .. } => {
                LinkError::Dead("the connection was closed".into())
            }
            other => LinkError::Dead(innermost(&other)),
        }
    }
}

/// What a result code says of the server: busy, unavailable and the like are its own trouble (RFC 4511 A.1), the rest is an
/// answer.
pub(super) fn of_result(code: u32, words: String) -> LinkError {
    match code {
        1 | 2 | 3 | 51 | 52 | 80 => LinkError::Dead(words),
        _ => LinkError::Unusable(words),
    }
}

/// A result code by its standard name (RFC 4511 4.1.9), with the server's own words.
pub(super) fn result_words(code: u32, text: &str) -> String {
    let name = match code {
        1 => "operationsError",
        2 => "protocolError",
        3 => "timeLimitExceeded",
        4 => "sizeLimitExceeded",
        8 => "strongerAuthRequired",
        10 => "referral: the server refers elsewhere, and that is not followed",
        13 => "confidentialityRequired",
        32 => "noSuchObject",
        34 => "invalidDNSyntax",
        48 => "inappropriateAuthentication",
        49 => "invalidCredentials",
        50 => "insufficientAccessRights",
        51 => "busy",
        52 => "unavailable",
        53 => "unwillingToPerform",
        80 => "other",
        _ => "",
    };
    match (name, text) {
        ("", "") => format!("result code {code}"),
        ("", t) => format!("result code {code}: {t}"),
        (n, "") => format!("{n} ({code})"),
        (n, t) => format!("{n} ({code}): {t}"),
    }
}

/// Connects, protects and binds.
pub(super) async fn connect(directory: &Directory, server: &str, password: Option<&str>) -> Result<Ldap, LinkError> {
    let mut ldap = open(directory, server).await?;
    bind(&mut ldap, directory, password).await?;
    Ok(ldap)
}

/// Connects and protects; the address is resolved here so that loopback names work everywhere.
pub(super) async fn open(directory: &Directory, server: &str) -> Result<Ldap, LinkError> {
    let url = Url::parse(server).map_err(|e| LinkError::Dead(e.to_string()))?;
    let host = url.host_str().unwrap_or_default().to_owned();
    let port = url.port().unwrap_or(if directory.security == DirectorySecurity::Tls { 636 } else { 389 });
    let limit = limit(directory);
    let addresses = resolve(&host, port).await.map_err(|e| LinkError::Dead(format!("{host} has no address: {e}")))?;
    let dial = tokio::time::timeout(limit, tokio::net::TcpStream::connect(addresses.as_slice()));
    let stream = match dial.await {
        Ok(Ok(s)) => s,
        Ok(Err(e)) => return Err(LinkError::Dead(format!("{host}:{port} does not accept the connection: {e}"))),
        Err(_) => return Err(LinkError::Dead(format!("{host}:{port} does not answer within {} s", limit.as_secs()))),
    };
    let std_stream = stream.into_std().map_err(|e| LinkError::Dead(e.to_string()))?;
    let mut settings = LdapConnSettings::new().set_conn_timeout(limit).set_std_stream(ldap3::StdStream::Tcp(std_stream));
    if directory.security != DirectorySecurity::Plain {
        settings = settings
            .set_starttls(directory.security == DirectorySecurity::StartTls)
            .set_config(tls_config(directory.ca_file.as_deref())?);
    }
    let opening = LdapConnAsync::with_settings(settings, server);
    let (conn, ldap) = match tokio::time::timeout(limit, opening).await {
        Ok(r) => r.map_err(|e| LinkError::Dead(format!("TLS or connection: {}", innermost(&e))))?,
        Err(_) => return Err(LinkError::Dead("the TLS handshake does not end".into())),
    };
    tokio::spawn(async move {
        if let Err(e) = conn.drive().await {
            tracing::debug!(error = %e, "a directory connection ended");
        }
    });
    Ok(ldap)
}

/// One server of a directory, as a trial or a survey finds it.
#[derive(Clone, Debug)]
pub struct ServerLook {
    pub address: String,
    /// Whether it answers, or why not.
    pub answer: Result<(), String>,
    /// Its certificate in DER, where it was reached over TLS.
    pub certificate: Option<Vec<u8>>,
}

/// Opens a connection to every server of a directory, one after the other. The one to the first that answers is returned.
pub(super) async fn open_each(directory: &Directory) -> (Vec<ServerLook>, Option<Ldap>) {
    let (mut looks, mut answering) = (vec![], None);
    for server in &directory.servers {
        let mut look = ServerLook { address: server.clone(), answer: Ok(()), certificate: None };
        match open(directory, server).await {
            Ok(mut ldap) => {
                look.certificate = ldap.get_peer_certificate().await.ok().flatten();
                answering.get_or_insert(ldap);
            }
            Err(e) => look.answer = Err(e.to_string()),
        }
        looks.push(look);
    }
    (looks, answering)
}

/// Binds the service account. An empty password is refused here: servers take it for an anonymous bind (RFC 4513 5.1.2).
pub(super) async fn bind(ldap: &mut Ldap, directory: &Directory, password: Option<&str>) -> Result<(), LinkError> {
    let Some(account) = &directory.account else { return Ok(()) };
    let password = password.unwrap_or_default();
    if password.is_empty() {
        return Err(LinkError::BindRefused("its password is not stored yet; use `passeur secret set`".into()));
    }
    let result = ldap.with_timeout(limit(directory)).simple_bind(account, password).await?;
    match result.rc {
        0 => Ok(()),
        48..=50 | 53 | 8 | 13 | 32 | 34 => Err(LinkError::BindRefused(result_words(result.rc, &result.text))),
        rc => Err(LinkError::Dead(result_words(rc, &result.text))),
    }
}

/// How long one operation may take.
pub(super) fn limit(directory: &Directory) -> std::time::Duration {
    directory.time_limit.to_std().unwrap_or(std::time::Duration::from_secs(3))
}

/// Connects, binds with the password in use or, where that is refused, with the one that stands beside it.
pub(super) async fn connect_with(directory: &Directory, server: &str, passwords: &[String]) -> Result<Ldap, LinkError> {
    let mut found = connect(directory, server, passwords.first().map(String::as_str)).await;
    for password in passwords.iter().skip(1) {
        if !matches!(found, Err(LinkError::BindRefused(_))) {
            break;
        }
        found = connect(directory, server, Some(password)).await;
        if found.is_ok() {
            tracing::warn!(directory = directory.name, "the password in use is refused, and the one beside it is taken: use it");
        }
    }
    found
}

/// Certificates are always checked: the system's, and those of the file.
fn tls_config(ca_file: Option<&str>) -> Result<Arc<rustls::ClientConfig>, LinkError> {
    let mut roots = rustls::RootCertStore::empty();
    let system = ["/etc/ssl/certs/ca-certificates.crt", "/etc/pki/tls/certs/ca-bundle.crt"];
    for path in system.into_iter().chain(ca_file) {
        let named = Some(path) == ca_file;
        match crate::pem::read(path) {
            Ok(pem) => {
                let good: Vec<_> = CertificateDer::pem_slice_iter(&pem).filter_map(Result::ok).collect();
                if named && good.is_empty() {
                    return Err(LinkError::Dead(format!("the certificate file {path} holds no certificate")));
                }
                roots.add_parsable_certificates(good);
            }
            Err(e) if named => return Err(LinkError::Dead(format!("the certificate file {path} cannot be read: {e}"))),
            Err(_) => {}
        }
    }
    Ok(Arc::new(rustls::ClientConfig::builder().with_root_certificates(roots).with_no_client_auth()))
}
