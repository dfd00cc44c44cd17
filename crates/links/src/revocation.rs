//! Whether an authority took a certificate back: by its list (RFC 5280 section 5), or by asking about the one certificate (RFC 6960). Here nothing
//! is fetched: what came is read, and counts where the authority signed it, it is about what was asked, and its time is not over. Whatever else is
//! wrong with it is *not known*, and never good.

use chrono::{DateTime, Utc};
use rustls::pki_types::SubjectPublicKeyInfoDer;
use sha1::{Digest, Sha1};
use x509_cert::der::asn1::{Null, OctetString};
use x509_cert::der::{Any, Decode, Encode, Header, Reader, SliceReader};
use x509_cert::serial_number::SerialNumber;
use x509_cert::spki::AlgorithmIdentifierOwned;
use x509_ocsp::{
    BasicOcspResponse, CertId, CertStatus, OcspRequest, OcspResponse, OcspResponseStatus, Request, TbsRequest, Version,
};
use x509_parser::extensions::ParsedExtension;
use x509_parser::prelude::{FromDer, X509Certificate};

use crate::client_chain::judged;

/// How long an answer counts that does not say for how long (RFC 6960 section 4.2.2.1 says that newer news are there all the time).
const UNSAID: chrono::Duration = chrono::Duration::hours(1);
/// How far the clock of an authority may be ahead.
const AHEAD: chrono::Duration = chrono::Duration::minutes(5);
/// `id-pkix-ocsp-basic` (RFC 6960 section 4.2.1).
const BASIC: &str = "1.3.6.1.5.5.7.48.1.1";
/// `id-sha1`: what RFC 5019 section 2.1.1 says that certificates are named by. Nothing is proven by it.
const SHA1: &str = "1.3.14.3.2.26";
/// `id-kp-OCSPSigning` (RFC 6960 section 4.2.2.2), as the octets of an object identifier.
const OCSP_SIGNING: &[u8] = &[0x2b, 0x06, 0x01, 0x05, 0x05, 0x07, 0x03, 0x09];

/// What an authority says of a certificate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Says {
    Good,
    Revoked,
}

/// What it says, and until when that counts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Word {
    pub says: Says,
    pub until: DateTime<Utc>,
}

/// A list that an authority signed.
#[derive(Debug)]
pub struct List {
    list: webpki::CertRevocationList<'static>,
    /// Until when it counts.
    pub until: DateTime<Utc>,
}

impl List {
    /// Reads a list, which has to be the authority's own, whole, and of now.
    ///
    /// # Errors
    /// Why it does not count, as the rest of a sentence.
    pub fn read(der: &[u8], authority: &[u8], now: DateTime<Utc>) -> Result<List, String> {
        let unreadable = || "the list cannot be read".to_owned();
        let list = webpki::OwnedCertRevocationList::from_der(der).map_err(|e| format!("the list cannot be used: {e}"))?;
        let (rest, parsed) = x509_parser::revocation_list::CertificateRevocationList::from_der(der).map_err(|_| unreadable())?;
        let (_, issuer) = X509Certificate::from_der(authority).map_err(|_| unreadable())?;
        if !rest.is_empty() {
            return Err(unreadable());
        }
        if parsed.issuer().as_raw() != issuer.subject().as_raw() {
            return Err("the list is of another authority".to_owned());
        }
        for extension in parsed.extensions() {
            match extension.parsed_extension() {
                // A list of some certificates, or of some reasons, says nothing of the others (RFC 5280 5.2.5).
                ParsedExtension::IssuingDistributionPoint(of)
                    if of.only_contains_ca_certs
                        || of.only_contains_attribute_certs
                        || of.indirect_crl
                        || of.only_some_reasons.is_some() =>
                {
                    return Err("the list is of some certificates alone".to_owned());
                }
                ParsedExtension::ParseError { .. } => return Err(unreadable()),
                _ => {}
            }
        }
        let signed = verifies(issuer.public_key().raw, parsed.tbs_cert_list.as_ref(), &parsed.signature_value.data);
        if !signed {
            return Err("the authority did not sign the list".to_owned());
        }
        let until = moment(parsed.next_update().ok_or("the list does not say until when it counts")?.timestamp());
        let since = moment(parsed.last_update().timestamp());
        let (until, since) = (until.ok_or_else(unreadable)?, since.ok_or_else(unreadable)?);
        if until <= now {
            return Err(format!("the list is out of date since {}", until.format("%Y-%m-%d %H:%M UTC")));
        }
        if since > now + AHEAD {
            return Err("the list is of a time that has not come".to_owned());
        }
        Ok(List { list: list.into(), until })
    }

    /// What it says of a serial number.
    ///
    /// # Errors
    /// It cannot be searched.
    pub fn says(&self, serial: &[u8]) -> Result<Says, String> {
        match self.list.find_serial(serial) {
            Ok(Some(_)) => Ok(Says::Revoked),
            Ok(None) => Ok(Says::Good),
            Err(e) => Err(format!("the list cannot be searched: {e}")),
        }
    }
}

/// The serial number of a certificate, as it is encoded, and the authority's certificate among several: the one that signed it.
pub fn issued_by<'a>(certificate: &[u8], among: impl Iterator<Item = &'a [u8]>) -> Option<(Vec<u8>, &'a [u8])> {
    let (_, of) = X509Certificate::from_der(certificate).ok()?;
    let signed = |issuer: &&[u8]| {
        let Ok((_, authority)) = X509Certificate::from_der(issuer) else { return false };
        of.issuer().as_raw() == authority.subject().as_raw()
            && verifies(authority.public_key().raw, of.tbs_certificate.as_ref(), &of.signature_value.data)
    };
    let serial = of.raw_serial().to_vec();
    among.into_iter().find(signed).map(|issuer| (serial, issuer))
}

/// Whether a key signed a message, by any algorithm that TLS takes.
fn verifies(key: &[u8], message: &[u8], signature: &[u8]) -> bool {
    let key = SubjectPublicKeyInfoDer::from(key);
    let Ok(key) = webpki::RawPublicKeyEntity::try_from(&key) else { return false };
    let all = rustls::crypto::aws_lc_rs::default_provider().signature_verification_algorithms.all;
    all.iter().any(|algorithm| key.verify_signature(*algorithm, message, signature).is_ok())
}

fn moment(seconds: i64) -> Option<DateTime<Utc>> {
    DateTime::from_timestamp(seconds, 0)
}

fn named(authority: &[u8], serial: &[u8]) -> Option<CertId> {
    let (_, issuer) = X509Certificate::from_der(authority).ok()?;
    let hash = |of: &[u8]| OctetString::new(Sha1::digest(of).to_vec()).ok();
    Some(CertId {
        hash_algorithm: AlgorithmIdentifierOwned { oid: SHA1.parse().ok()?, parameters: Some(Any::from(Null)) },
        issuer_name_hash: hash(issuer.subject().as_raw())?,
        issuer_key_hash: hash(&issuer.public_key().subject_public_key.data)?,
        serial_number: SerialNumber::new(serial).ok()?,
    })
}

/// The question about one certificate (RFC 6960 section 4.1), in DER; none where the authority's certificate or the number cannot be read.
pub fn question(authority: &[u8], serial: &[u8]) -> Option<Vec<u8>> {
    let request = Request { req_cert: named(authority, serial)?, single_request_extensions: None };
    let tbs_request =
        TbsRequest { version: Version::V1, requestor_name: None, request_list: vec![request], request_extensions: None };
    OcspRequest { tbs_request, optional_signature: None }.to_der().ok()
}

/// What an answer says of the certificate that was asked about (RFC 6960 section 4.2).
///
/// # Errors
/// Why it does not count, as the rest of a sentence.
pub fn answer(der: &[u8], authority: &[u8], serial: &[u8], now: DateTime<Utc>) -> Result<Word, String> {
    let unreadable = || "the answer cannot be read".to_owned();
    let response = OcspResponse::from_der(der).map_err(|_| unreadable())?;
    if response.response_status != OcspResponseStatus::Successful {
        return Err(format!("it does not answer about certificates of this authority ({:?})", response.response_status));
    }
    let bytes = response.response_bytes.filter(|b| b.response_type.to_string() == BASIC).ok_or_else(unreadable)?;
    let basic = BasicOcspResponse::from_der(bytes.response.as_bytes()).map_err(|_| unreadable())?;
    let signed = signed_part(bytes.response.as_bytes()).ok_or_else(unreadable)?;
    let signature = basic.signature.as_bytes().ok_or_else(unreadable)?;
    let (_, issuer) = X509Certificate::from_der(authority).map_err(|_| unreadable())?;
    // The authority answers by itself, or has given its word for who does (RFC 6960 section 4.2.2.2).
    let by_delegate = || {
        let certificates = basic.certs.iter().flatten().take(3).filter_map(|c| c.to_der().ok());
        certificates.into_iter().any(|c| is_delegate(&c, authority, now) && key_verifies(&c, signed, signature))
    };
    if !verifies(issuer.public_key().raw, signed, signature) && !by_delegate() {
        return Err("neither the authority nor anybody whom it has answer signed the answer".to_owned());
    }
    let wanted = named(authority, serial).ok_or_else(unreadable)?;
    let is_it = |id: &CertId| {
        id.hash_algorithm.oid == wanted.hash_algorithm.oid
            && id.issuer_name_hash == wanted.issuer_name_hash
            && id.issuer_key_hash == wanted.issuer_key_hash
            && id.serial_number == wanted.serial_number
    };
    let one = basic.tbs_response_data.responses.iter().find(|r| is_it(&r.cert_id));
    let one = one.ok_or("the answer is about another certificate")?;
    let at = |t: &x509_ocsp::OcspGeneralizedTime| moment(i64::try_from(t.0.to_unix_duration().as_secs()).unwrap_or(i64::MAX));
    let since = at(&one.this_update).ok_or_else(unreadable)?;
    let until = match &one.next_update {
        Some(until) => at(until).ok_or_else(unreadable)?,
        None => since + UNSAID,
    };
    if until <= now || since > now + AHEAD {
        return Err(format!("the answer is of another time, {}", since.format("%Y-%m-%d %H:%M UTC")));
    }
    match one.cert_status {
        CertStatus::Good(_) => Ok(Word { says: Says::Good, until }),
        CertStatus::Revoked(_) => Ok(Word { says: Says::Revoked, until }),
        CertStatus::Unknown(_) => Err("it knows nothing of this certificate".to_owned()),
    }
}

/// What is signed of an answer, as it came.
fn signed_part(basic: &[u8]) -> Option<&[u8]> {
    let mut reader = SliceReader::new(basic).ok()?;
    Header::decode(&mut reader).ok()?;
    reader.tlv_bytes().ok()
}

/// Whether the authority certified somebody to answer for it.
fn is_delegate(certificate: &[u8], authority: &[u8], now: DateTime<Utc>) -> bool {
    let answers = webpki::KeyUsage::required(OCSP_SIGNING);
    judged(&[certificate.to_vec()], &[authority.to_vec()], answers, now).is_ok()
}

fn key_verifies(certificate: &[u8], message: &[u8], signature: &[u8]) -> bool {
    X509Certificate::from_der(certificate).is_ok_and(|(_, c)| verifies(c.public_key().raw, message, signature))
}
