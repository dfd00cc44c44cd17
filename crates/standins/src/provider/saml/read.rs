//! What services send.

use std::io::Read;

use aws_lc_rs::signature::{RSA_PKCS1_2048_8192_SHA256, UnparsedPublicKey};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use roxmltree::{Document, Node};
use x509_parser::prelude::{FromDer, X509Certificate};

/// A service that people sign in to.
#[derive(Clone, Debug, Default)]
pub struct Service {
    pub entity_id: String,
    /// Where answers may be sent.
    pub consumers: Vec<String>,
    pub sign_out: Option<String>,
    /// Certificates (DER): the service signs with one of them, and opens with the first.
    pub certificates: Vec<Vec<u8>>,
    /// Whether assertions are encrypted for it.
    pub encrypt: bool,
}

impl Service {
    /// From a service's metadata. What it can open is encrypted for it only when somebody says so.
    pub fn of_metadata(text: &str) -> Option<Service> {
        let document = Document::parse(text).ok()?;
        let root = document.root_element();
        let named = |name: &'static str| root.descendants().filter(move |n| n.has_tag_name(name) || n.tag_name().name() == name);
        let location = |n: Node<'_, '_>| n.attribute("Location").map(str::to_owned);
        let signing = named("KeyDescriptor").filter(|n| n.attribute("use") != Some("encryption"));
        let certificates = signing
            .flat_map(|n| n.descendants().filter(|d| d.tag_name().name() == "X509Certificate").collect::<Vec<_>>())
            .filter_map(|n| STANDARD.decode(n.text()?.split_whitespace().collect::<String>()).ok());
        Some(Service {
            entity_id: root.attribute("entityID")?.to_owned(),
            consumers: named("AssertionConsumerService").filter_map(location).collect(),
            sign_out: named("SingleLogoutService").find_map(location),
            certificates: certificates.collect(),
            encrypt: false,
        })
    }
}

/// A request, as far as anything here depends on it.
#[derive(Debug)]
pub(super) struct Request {
    pub id: String,
    pub issuer: String,
    pub destination: String,
    pub consumer: String,
    pub anew: bool,
    pub passive: bool,
}

impl Request {
    pub fn read(text: &str) -> Option<Request> {
        let document = Document::parse(text).ok()?;
        let root = document.root_element();
        let attribute = |name: &str| root.attribute(name).unwrap_or_default().to_owned();
        Some(Request {
            id: root.attribute("ID")?.to_owned(),
            issuer: root.children().find(|n| n.tag_name().name() == "Issuer")?.text()?.to_owned(),
            destination: attribute("Destination"),
            consumer: attribute("AssertionConsumerServiceURL"),
            anew: attribute("ForceAuthn") == "true",
            passive: attribute("IsPassive") == "true",
        })
    }
}

pub(super) fn plain(value: &str) -> Option<String> {
    String::from_utf8(STANDARD.decode(value).ok()?).ok()
}

pub(super) fn inflated(value: &str) -> Option<String> {
    let packed = STANDARD.decode(value).ok()?;
    let mut out = String::new();
    flate2::read::DeflateDecoder::new(packed.as_slice()).take(100_000).read_to_string(&mut out).ok()?;
    Some(out)
}

/// Whether a query is signed by a certificate's key, with RSA and SHA-256.
pub(super) fn query_is_signed(query: &str, message: &str, certificate: &[u8]) -> bool {
    let part = |name: &str| query.split('&').find(|p| p.starts_with(&format!("{name}=")));
    let parts: Vec<&str> = [message, "RelayState", "SigAlg"].into_iter().filter_map(part).collect();
    let value = part("Signature").and_then(|p| url::form_urlencoded::parse(p.as_bytes()).next().map(|(_, v)| v.into_owned()));
    let Some(signature) = value.and_then(|v| STANDARD.decode(v).ok()) else { return false };
    let Some(key) = public_key(certificate) else { return false };
    part("SigAlg").is_some_and(|a| a.ends_with("rsa-sha256"))
        && UnparsedPublicKey::new(&RSA_PKCS1_2048_8192_SHA256, key).verify(parts.join("&").as_bytes(), &signature).is_ok()
}

/// The public key of a certificate (SubjectPublicKeyInfo).
pub(super) fn public_key(certificate: &[u8]) -> Option<Vec<u8>> {
    X509Certificate::from_der(certificate).ok().map(|(_, c)| c.public_key().raw.to_vec())
}
