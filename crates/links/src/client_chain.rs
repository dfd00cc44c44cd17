//! Certificates that clients show, judged by the authorities of a way in.

use std::time::Duration;

use passeur_core::id::{hex, sha256};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};

/// Whether a chain that a client showed leads to one of these authorities, is good at a moment and meant for clients
/// (RFC 5280 6.1, 4.2.1.12).
///
/// # Errors
/// Why not, in the library's words.
pub fn verify(chain: &[Vec<u8>], authorities: &[Vec<u8>], now: chrono::DateTime<chrono::Utc>) -> Result<(), String> {
    judged(chain, authorities, webpki::KeyUsage::client_auth(), now).map(|_| ())
}

/// What a machine shows that may be either end of a connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    Client,
    Server,
}

/// Whether a chain that a machine showed leads to one of these authorities, is good at a moment and meant for its role, and is of a host: the
/// name is one of its subject alternative names (RFC 6125 6.4.4).
///
/// # Errors
/// Why not, in the library's words.
pub fn verify_host(
    chain: &[Vec<u8>],
    authorities: &[Vec<u8>],
    (host, role): (&str, Role),
    now: chrono::DateTime<chrono::Utc>,
) -> Result<(), String> {
    let usage = match role {
        Role::Client => webpki::KeyUsage::client_auth(),
        Role::Server => webpki::KeyUsage::server_auth(),
    };
    judged(chain, authorities, usage, now)?;
    let end = chain.first().map(|c| CertificateDer::from(c.as_slice())).ok_or("no certificate")?;
    let end = webpki::EndEntityCert::try_from(&end).map_err(|e| e.to_string())?;
    let name = ServerName::try_from(host.to_owned()).map_err(|e| e.to_string())?;
    end.verify_is_valid_for_subject_name(&name).map_err(|_| format!("it is not of {host}"))
}

pub(crate) fn judged(
    chain: &[Vec<u8>],
    authorities: &[Vec<u8>],
    usage: webpki::KeyUsage,
    now: chrono::DateTime<chrono::Utc>,
) -> Result<(), String> {
    let anchors: Vec<CertificateDer<'_>> = authorities.iter().map(|a| CertificateDer::from(a.as_slice())).collect();
    let anchors: Vec<_> = anchors.iter().filter_map(|a| webpki::anchor_from_trusted_cert(a).ok()).collect();
    let chain: Vec<CertificateDer<'_>> = chain.iter().map(|c| CertificateDer::from(c.as_slice())).collect();
    let (end, between) = chain.split_first().ok_or("no certificate")?;
    let end = webpki::EndEntityCert::try_from(end).map_err(|e| e.to_string())?;
    let seconds = u64::try_from(now.timestamp()).unwrap_or_default();
    let at = UnixTime::since_unix_epoch(Duration::from_secs(seconds));
    let algorithms = rustls::crypto::aws_lc_rs::default_provider().signature_verification_algorithms.all;
    end.verify_for_usage(algorithms, &anchors, between, at, usage, None, None).map(|_| ()).map_err(|e| why(&e))
}

/// Why a chain does not count, in a few words.
fn why(of: &webpki::Error) -> String {
    use webpki::Error;
    match of {
        Error::CertExpired { .. } => "it ran out".to_owned(),
        Error::CertNotValidYet { .. } => "it is not good yet".to_owned(),
        Error::UnknownIssuer | Error::InvalidSignatureForPublicKey => "none of these authorities issued it".to_owned(),
        Error::RequiredEkuNotFoundContext(_) => {
            "its extended key usage is another than this end of a connection needs".to_owned()
        }
        other => other.to_string(),
    }
}

/// A certificate in words: the names that it says it is of, and its SHA-256 digest.
pub fn words(der: &[u8]) -> String {
    let of = CertificateDer::from(der);
    let names =
        webpki::EndEntityCert::try_from(&of).map(|end| end.valid_dns_names().take(3).map(str::to_owned).collect::<Vec<_>>());
    let digest = hex(&sha256(der)[..8]);
    match names {
        Ok(names) if !names.is_empty() => format!("{}, sha256 {digest}…", names.join(", ")),
        _ => format!("sha256 {digest}…"),
    }
}
