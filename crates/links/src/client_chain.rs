//! Certificates that clients show, judged by the authorities of a way in.

use std::time::Duration;

use rustls::pki_types::{CertificateDer, UnixTime};

/// Whether a chain that a client showed leads to one of these authorities, is good at a moment and meant for clients
/// (RFC 5280 6.1, 4.2.1.12).
///
/// # Errors
/// Why not, in the library's words.
pub fn verify(chain: &[Vec<u8>], authorities: &[Vec<u8>], now: chrono::DateTime<chrono::Utc>) -> Result<(), String> {
    let anchors: Vec<CertificateDer<'_>> = authorities.iter().map(|a| CertificateDer::from(a.as_slice())).collect();
    let anchors: Vec<_> = anchors.iter().filter_map(|a| webpki::anchor_from_trusted_cert(a).ok()).collect();
    let chain: Vec<CertificateDer<'_>> = chain.iter().map(|c| CertificateDer::from(c.as_slice())).collect();
    let (end, between) = chain.split_first().ok_or("no certificate")?;
    let end = webpki::EndEntityCert::try_from(end).map_err(|e| e.to_string())?;
    let seconds = u64::try_from(now.timestamp()).unwrap_or_default();
    let at = UnixTime::since_unix_epoch(Duration::from_secs(seconds));
    let algorithms = rustls::crypto::aws_lc_rs::default_provider().signature_verification_algorithms.all;
    let usage = webpki::KeyUsage::client_auth();
    end.verify_for_usage(algorithms, &anchors, between, at, usage, None, None).map(|_| ()).map_err(|e| e.to_string())
}
