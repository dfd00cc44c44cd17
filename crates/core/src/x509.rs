//! What a certificate says of itself that matters here (RFC 5280 4.1.2.5, 4.2.1.6): until when it is good, and for which
//! names; and how people hand one over and read it to each other. Whether it is to be trusted is decided elsewhere.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chrono::{DateTime, Utc};
use x509_parser::extensions::{DistributionPointName, ParsedExtension};
use x509_parser::prelude::{FromDer, GeneralName, X509Certificate};

/// A certificate as read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Certificate {
    pub not_before: DateTime<Utc>,
    pub not_after: DateTime<Utc>,
    /// DNS names of the subject alternative names, in lower case.
    pub names: Vec<String>,
}

/// Reads a DER certificate; none where it is malformed or its dates are beyond any calendar.
pub fn read(der: &[u8]) -> Option<Certificate> {
    let (_, certificate) = X509Certificate::from_der(der).ok()?;
    let moment = |t: x509_parser::time::ASN1Time| DateTime::from_timestamp(t.timestamp(), 0);
    let names = certificate.subject_alternative_name().ok()?.map(|e| &e.value.general_names);
    let dns = names.into_iter().flatten().filter_map(|n| match n {
        GeneralName::DNSName(name) => Some(name.to_ascii_lowercase()),
        _ => None,
    });
    Some(Certificate {
        not_before: moment(certificate.validity().not_before)?,
        not_after: moment(certificate.validity().not_after)?,
        names: dns.collect(),
    })
}

/// Where a certificate says that its state can be asked for, by http: lists of those taken back (RFC 5280 4.2.1.13), and one at a time
/// (4.2.2.1, RFC 6960). Empty where it is malformed or names none.
pub fn revocation(der: &[u8]) -> Vec<(Revocation, String)> {
    let Ok((_, certificate)) = X509Certificate::from_der(der) else { return vec![] };
    let mut out = vec![];
    let uri = |name: &GeneralName<'_>| match name {
        GeneralName::URI(uri) if uri.starts_with("http://") || uri.starts_with("https://") => Some((*uri).to_owned()),
        _ => None,
    };
    for extension in certificate.extensions() {
        match extension.parsed_extension() {
            ParsedExtension::CRLDistributionPoints(points) => {
                let names = points.points.iter().filter_map(|p| match p.distribution_point.as_ref()? {
                    DistributionPointName::FullName(names) => Some(names),
                    DistributionPointName::NameRelativeToCRLIssuer(_) => None,
                });
                out.extend(names.flatten().filter_map(uri).map(|u| (Revocation::Crl, u)));
            }
            ParsedExtension::AuthorityInfoAccess(access) => {
                let ocsp = access.accessdescs.iter().filter(|d| d.access_method.to_id_string() == OCSP);
                out.extend(ocsp.filter_map(|d| uri(&d.access_location)).map(|u| (Revocation::Ocsp, u)));
            }
            _ => {}
        }
    }
    out.truncate(REVOCATION_MAX);
    out
}

/// How the state of a certificate is asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Revocation {
    Crl,
    Ocsp,
}

/// `id-ad-ocsp` (RFC 5280 4.2.2.1).
const OCSP: &str = "1.3.6.1.5.5.7.48.1";
/// The most addresses that are read of one certificate.
const REVOCATION_MAX: usize = 16;

/// The serial number of a certificate, as it is encoded; none where the certificate is malformed.
pub fn serial(der: &[u8]) -> Option<Vec<u8>> {
    X509Certificate::from_der(der).ok().map(|(_, c)| c.raw_serial().to_vec())
}

/// By which algorithm a certificate is signed, as an object identifier with dots; none where it is malformed.
pub fn signature_algorithm(der: &[u8]) -> Option<String> {
    let (_, certificate) = X509Certificate::from_der(der).ok()?;
    Some(certificate.signature_algorithm.algorithm.to_id_string())
}

/// Who a client certificate speaks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Holder {
    /// The distinguished name, as text; the person's key under one authority.
    pub subject: String,
    pub issuer: String,
    /// Common names, mail addresses, DNS names and URIs that it holds.
    pub cn: Vec<String>,
    pub mail: Vec<String>,
    pub dns: Vec<String>,
    pub uri: Vec<String>,
}

/// Reads whom a certificate speaks for; none where its name is empty or not readable.
pub fn holder(der: &[u8]) -> Option<Holder> {
    let (_, certificate) = X509Certificate::from_der(der).ok()?;
    let subject = certificate.subject().to_string();
    if subject.is_empty() || subject.len() > 1_000 || subject.chars().any(char::is_control) {
        return None;
    }
    let cn = certificate.subject().iter_common_name().filter_map(|n| n.as_str().ok().map(str::to_owned)).collect();
    let mut out = Holder { subject, issuer: certificate.issuer().to_string(), cn, mail: vec![], dns: vec![], uri: vec![] };
    for name in certificate.subject_alternative_name().ok()?.into_iter().flat_map(|e| &e.value.general_names) {
        match name {
            GeneralName::RFC822Name(n) => out.mail.push((*n).to_owned()),
            GeneralName::DNSName(n) => out.dns.push(n.to_ascii_lowercase()),
            GeneralName::URI(n) => out.uri.push((*n).to_owned()),
            _ => {}
        }
    }
    Some(out)
}

/// A certificate in DER, from whatever text it was handed over in: PEM (RFC 7468), base64 with or without line ends, or
/// hexadecimal with or without separators.
pub fn certificate(text: &str) -> Option<Vec<u8>> {
    let inner = if text.contains("-----BEGIN CERTIFICATE-----") { pem_inside(text, "CERTIFICATE")? } else { text };
    let plain: String = inner.chars().filter(|c| !c.is_whitespace()).collect();
    let digits: Vec<u8> = plain.bytes().filter(|b| *b != b':').collect();
    let hexadecimal = digits.len().is_multiple_of(2) && !digits.is_empty() && digits.iter().all(u8::is_ascii_hexdigit);
    let octet = |c: &[u8]| u8::from_str_radix(std::str::from_utf8(c).ok()?, 16).ok();
    let der: Vec<u8> =
        if hexadecimal { digits.chunks(2).map(octet).collect::<Option<_>>()? } else { STANDARD.decode(plain).ok()? };
    read(&der).map(|_| der)
}

/// What stands between the first pair of marks of a kind (RFC 7468 2).
fn pem_inside<'a>(text: &'a str, kind: &str) -> Option<&'a str> {
    let (_, rest) = text.split_once(&format!("-----BEGIN {kind}-----"))?;
    Some(rest.split_once(&format!("-----END {kind}-----"))?.0)
}

/// Whether a text holds a private key in PEM, of whatever kind, encrypted or damaged.
pub fn holds_private_key(text: &str) -> bool {
    text.contains("PRIVATE KEY-----")
}

/// A private key in PKCS #8 (RFC 5958), in DER, from a text that holds it in PEM.
///
/// # Errors
/// What is missing or not readable, in words.
pub fn private_key(text: &str) -> Result<Vec<u8>, &'static str> {
    let key = pem_inside(text, "PRIVATE KEY").ok_or("it holds no PRIVATE KEY in PEM (PKCS #8)")?;
    let plain: String = key.chars().filter(|c| !c.is_whitespace()).collect();
    STANDARD.decode(plain).map_err(|_| "its private key is not base64")
}

/// A private key and its certificate, in DER, from one text that holds both in PEM.
///
/// # Errors
/// What is missing or not readable, in words.
pub fn key_and_certificate(text: &str) -> Result<(Vec<u8>, Vec<u8>), &'static str> {
    let key = private_key(text)?;
    let certificate = match text.contains("-----BEGIN CERTIFICATE-----") {
        true => certificate(text).ok_or("its certificate cannot be read")?,
        false => return Err("it holds no CERTIFICATE in PEM"),
    };
    Ok((key, certificate))
}

/// The public key of a certificate, as it stands there (SubjectPublicKeyInfo, RFC 5280 4.1.2.7), in DER.
pub fn public_key(der: &[u8]) -> Option<Vec<u8>> {
    let (_, certificate) = X509Certificate::from_der(der).ok()?;
    Some(certificate.public_key().raw.to_vec())
}

/// A certificate in PEM (RFC 7468 5).
pub fn to_pem(der: &[u8]) -> String {
    let text = STANDARD.encode(der);
    let lines: Vec<&str> = (0..text.len()).step_by(64).map(|i| &text[i..text.len().min(i + 64)]).collect();
    format!("-----BEGIN CERTIFICATE-----\n{}\n-----END CERTIFICATE-----\n", lines.join("\n"))
}

/// The fingerprint of a certificate, to read aloud: SHA-256 in pairs.
pub fn fingerprint(der: &[u8]) -> String {
    crate::id::sha256(der).iter().map(|b| format!("{b:02X}")).collect::<Vec<_>>().join(":")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rcgen::PublicKeyData;

    #[test]
    fn where_a_certificates_state_is_asked_for_is_read_and_only_by_http() {
        let key = rcgen::KeyPair::generate().unwrap();
        let mut params = rcgen::CertificateParams::new(vec!["login.bureau.example".into()]).unwrap();
        let uris = ["http://crl.bureau.example/a.crl", "ldap://crl.bureau.example/a"].map(str::to_owned).to_vec();
        params.crl_distribution_points = vec![rcgen::CrlDistributionPoint { uris }];
        // AuthorityInfoAccess with one OCSP responder (RFC 5280 4.2.2.1), by hand.
        let uri = b"http://ocsp.bureau.example/";
        let inner = [&[0x06, 0x08, 0x2b, 0x06, 0x01, 0x05, 0x05, 0x07, 0x30, 0x01, 0x86, uri.len() as u8][..], uri].concat();
        let access = [&[0x30, inner.len() as u8 + 2, 0x30, inner.len() as u8][..], &inner].concat();
        params.custom_extensions = vec![rcgen::CustomExtension::from_oid_content(&[1, 3, 6, 1, 5, 5, 7, 1, 1], access)];
        let der = params.self_signed(&key).unwrap();
        let found = revocation(der.der());
        let wanted = [(Revocation::Crl, "http://crl.bureau.example/a.crl"), (Revocation::Ocsp, "http://ocsp.bureau.example/")];
        assert_eq!(found, wanted.map(|(r, u)| (r, u.to_owned())));
        for bad in [&b""[..], b"no certificate", &der.der()[..300]] {
            assert_eq!(revocation(bad), []);
        }
    }

    #[test]
    fn dates_and_names_are_read_and_what_is_no_certificate_is_none() {
        let key = rcgen::KeyPair::generate().unwrap();
        let mut params =
            rcgen::CertificateParams::new(vec!["Berths.havrelune.example".into(), "*.quays.example".into()]).unwrap();
        params.not_before = rcgen::date_time_ymd(2026, 1, 2);
        params.not_after = rcgen::date_time_ymd(2027, 3, 4);
        let der = params.self_signed(&key).unwrap();
        let read_back = read(der.der()).unwrap();
        assert_eq!(read_back.not_after.to_rfc3339(), "2027-03-04T00:00:00+00:00");
        assert_eq!(read_back.not_before.to_rfc3339(), "2026-01-02T00:00:00+00:00");
        assert_eq!(read_back.names, ["berths.havrelune.example", "*.quays.example"]);
        let pairs = der.der().iter().map(|b| format!("{b:02x}")).collect::<Vec<_>>();
        let base64 = STANDARD.encode(der.der());
        let broken = base64.as_bytes().chunks(64).map(|c| String::from_utf8_lossy(c)).collect::<Vec<_>>().join("\r\n");
        for text in [der.pem(), base64.clone(), broken, pairs.concat(), pairs.join(":"), pairs.join(" ").to_uppercase()] {
            assert_eq!(certificate(&text).as_deref(), Some(&**der.der()), "{text}");
        }
        for bad in ["", "MII", "3082", "-----BEGIN CERTIFICATE-----\nMII", &base64[4..]] {
            assert_eq!(certificate(bad), None, "{bad}");
        }
        assert_eq!(fingerprint(b"").len(), 95);
        let both = key.serialize_pem() + &der.pem();
        assert_eq!(key_and_certificate(&both), Ok((key.serialize_der(), der.der().to_vec())));
        for lacking in ["", &der.pem(), &key.serialize_pem(), &both.replace("END CERT", "EMD CERT")] {
            assert!(key_and_certificate(lacking).is_err(), "{lacking}");
        }
        assert_eq!(public_key(der.der()).as_deref(), Some(&*key.subject_public_key_info()));
        assert_eq!(public_key(b"no"), None);
        assert_eq!(certificate(&to_pem(der.der())).as_deref(), Some(&**der.der()));
        for bad in [&b""[..], b"not a certificate", &der.der()[..200]] {
            assert_eq!(read(bad), None);
        }
    }
}
