//! How messages travel through a browser: in an address (saml-bindings-2.0-os 3.4), or in a form that posts itself (3.5).

use std::io::{Read, Write};

use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_FIXED, ECDSA_P384_SHA384_FIXED, RSA_PKCS1_2048_8192_SHA256, RSA_PKCS1_2048_8192_SHA384,
    RSA_PKCS1_2048_8192_SHA512, RSA_PSS_2048_8192_SHA256, RSA_PSS_2048_8192_SHA384, RSA_PSS_2048_8192_SHA512, UnparsedPublicKey,
    VerificationAlgorithm,
};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use flate2::Compression;
use flate2::read::DeflateDecoder;
use flate2::write::DeflateEncoder;
use passeur_core::x509;
use url::Url;

use super::signature::BadSignature;
use super::write::Signs;
use super::xml::{BadXml, SIZE_MAX};

/// Which way a message goes: both have parameters of their own name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Message {
    Request,
    Response,
}

impl Message {
    /// The name of the parameter that carries it.
    pub fn parameter(self) -> &'static str {
        match self {
            Message::Request => "SAMLRequest",
            Message::Response => "SAMLResponse",
        }
    }
}

fn percent(text: &str) -> String {
    url::form_urlencoded::byte_serialize(text.as_bytes()).collect()
}

/// The address that carries a message by redirect, signed where something signs for us. None where the
/// provider's address is none, or has a fragment, behind which nothing is ever sent.
pub fn redirect(
    address: &str,
    kind: Message,
    xml: &str,
    relay_state: Option<&str>,
    signer: Option<&dyn Signs>,
) -> Option<String> {
    let url = Url::parse(address).ok().filter(|u| u.fragment().is_none())?;
    let mut deflated = DeflateEncoder::new(vec![], Compression::default());
    deflated.write_all(xml.as_bytes()).ok()?;
    let packed = STANDARD.encode(deflated.finish().ok()?);
    // What is signed is the query as it is sent, to the byte (3.4.4.1).
    let mut query = format!("{}={}", kind.parameter(), percent(&packed));
    if let Some(state) = relay_state {
        query.push_str(&format!("&RelayState={}", percent(state)));
    }
    if let Some(signer) = signer {
        query.push_str(&format!("&SigAlg={}", percent(signer.algorithm())));
        let signed = STANDARD.encode(signer.sign(query.as_bytes())?);
        query.push_str(&format!("&Signature={}", percent(&signed)));
    }
    let before = if url.query().is_some_and(|q| !q.is_empty()) {
        format!("{address}&")
    } else {
        format!("{}?", address.trim_end_matches('?'))
    };
    Some(before + &query)
}

/// A message as a form carries it.
pub fn form_value(xml: &str) -> String {
    STANDARD.encode(xml)
}

fn decoded(value: &str) -> Result<Vec<u8>, BadXml> {
    if value.len() > SIZE_MAX * 2 {
        return Err(BadXml::TooLarge);
    }
    let plain: String = value.chars().filter(|c| !c.is_ascii_whitespace()).collect();
    STANDARD.decode(plain).map_err(|_| BadXml::Malformed("it is not base64".to_owned()))
}

fn text(bytes: Vec<u8>) -> Result<String, BadXml> {
    String::from_utf8(bytes).map_err(|_| BadXml::Malformed("it is not UTF-8".to_owned()))
}

/// The XML in a form's value.
///
/// # Errors
/// It is too large, not base64, or no text.
pub fn from_form(value: &str) -> Result<String, BadXml> {
    text(decoded(value)?)
}

/// The XML in an address's value, which is compressed: what it grows to is bounded as well.
///
/// # Errors
/// As [`from_form`].
pub fn from_address(value: &str) -> Result<String, BadXml> {
    let packed = decoded(value)?;
    let mut out = vec![];
    let mut reader = DeflateDecoder::new(packed.as_slice()).take(SIZE_MAX as u64 + 1);
    reader.read_to_end(&mut out).map_err(|_| BadXml::Malformed("it is not compressed as it should be".to_owned()))?;
    match out.len() > SIZE_MAX {
        true => Err(BadXml::TooLarge),
        false => text(out),
    }
}

/// Whether a query is signed by one of a provider's certificates (3.4.4.1): over exactly the parts of the message as they were
/// sent, in their order.
///
/// # Errors
/// Not signed, by an algorithm that is not accepted, or by none of them.
pub fn check_query(query: &str, kind: Message, certificates: &[Vec<u8>]) -> Result<(), BadSignature> {
    // Parts as they were sent; a part that stands twice could be read in two ways.
    let part = |name: &str| -> Result<Option<&str>, BadSignature> {
        let mut all = query.split('&').filter(|p| p.split_once('=').is_some_and(|(n, _)| n == name));
        match (all.next(), all.next()) {
            (_, Some(_)) => Err(BadSignature::Place("a parameter stands twice")),
            (first, None) => Ok(first),
        }
    };
    let (Some(message), Some(algorithm), Some(signature)) = (part(kind.parameter())?, part("SigAlg")?, part("Signature")?) else {
        return Err(BadSignature::NotSigned);
    };
    let signed = match part("RelayState")? {
        Some(state) => format!("{message}&{state}&{algorithm}"),
        None => format!("{message}&{algorithm}"),
    };
    let value = |part: &str| url::form_urlencoded::parse(part.as_bytes()).next().map(|(_, v)| v.into_owned()).unwrap_or_default();
    let used = value(algorithm);
    let newer = "http://www.w3.org/2007/05/xmldsig-more#";
    let named = used.strip_prefix("http://www.w3.org/2001/04/xmldsig-more#").or_else(|| used.strip_prefix(newer));
    let verifies: &'static dyn VerificationAlgorithm = match named {
        Some("sha256-rsa-MGF1") => &RSA_PSS_2048_8192_SHA256,
        Some("sha384-rsa-MGF1") => &RSA_PSS_2048_8192_SHA384,
        Some("sha512-rsa-MGF1") => &RSA_PSS_2048_8192_SHA512,
        Some("rsa-sha256") => &RSA_PKCS1_2048_8192_SHA256,
        Some("rsa-sha384") => &RSA_PKCS1_2048_8192_SHA384,
        Some("rsa-sha512") => &RSA_PKCS1_2048_8192_SHA512,
        Some("ecdsa-sha256") => &ECDSA_P256_SHA256_FIXED,
        Some("ecdsa-sha384") => &ECDSA_P384_SHA384_FIXED,
        _ => return Err(BadSignature::Algorithm(used.chars().take(100).collect())),
    };
    let given = decoded(&value(signature))?;
    let fits = |der: &Vec<u8>| {
        let key = x509::public_key(der);
        key.is_some_and(|k| UnparsedPublicKey::new(verifies, k).verify(signed.as_bytes(), &given).is_ok())
    };
    match certificates.iter().any(fits) {
        true => Ok(()),
        false => Err(BadSignature::Wrong("the signature of the address".to_owned())),
    }
}
