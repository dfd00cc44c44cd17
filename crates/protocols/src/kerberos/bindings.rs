//! Channel bindings: what ties a ticket to the TLS channel it came on (RFC 5929 4, as GSS-API carries it, RFC 5056).

use aws_lc_rs::digest::{SHA256, SHA384, SHA512, digest};
use passeur_core::x509;

/// The bindings `tls-server-end-point` of the certificate that a server showed, in DER: its digest by the hash of its own
/// signature, or by SHA-256 where that is MD5 or SHA-1. None for signatures that have no hash of their own, which the standard
/// leaves open.
pub fn end_point(certificate: &[u8]) -> Option<Vec<u8>> {
    let hash = match x509::signature_algorithm(certificate)?.as_str() {
        // sha384WithRSAEncryption, ecdsa-with-SHA384
        "1.2.840.113549.1.1.12" | "1.2.840.10045.4.3.3" => &SHA384,
        // sha512WithRSAEncryption, ecdsa-with-SHA512
        "1.2.840.113549.1.1.13" | "1.2.840.10045.4.3.4" => &SHA512,
        // With MD5, SHA-1 and SHA-256, of RSA and of ECDSA.
        "1.2.840.113549.1.1.4"
        | "1.2.840.113549.1.1.5"
        | "1.2.840.113549.1.1.11"
        | "1.2.840.10045.4.1"
        | "1.2.840.10045.4.3.2" => &SHA256,
        _ => return None,
    };
    let mut out = b"tls-server-end-point:".to_vec();
    out.extend_from_slice(digest(hash, certificate).as_ref());
    Some(out)
}
