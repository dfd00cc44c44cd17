//! Writing XML of our own: every value escaped, and a signature where another side will look for it.

use aws_lc_rs::digest;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use bergshamra_c14n::{C14nMode, canonicalize};
use chrono::{DateTime, Utc};

use super::DSIG;
use super::signature::{ENVELOPED, EXCLUSIVE};

/// What signs for us. It draws its own random numbers, which nothing here may.
pub trait Signs: Send + Sync {
    /// The algorithm's identifier (XML Signature 1.1 6.4), such as `…#rsa-sha256`.
    fn algorithm(&self) -> &'static str;
    /// A signature of bytes; of a curve as two numbers side by side ([`side_by_side`]).
    fn sign(&self, bytes: &[u8]) -> Option<Vec<u8>>;
    /// The certificate of the key, in DER.
    fn certificate(&self) -> &[u8];
}

/// A signature on P-256 as XML signatures carry it (XML Signature 1.1 6.4.3), from the DER that most libraries make: two numbers
/// of 32 bytes side by side.
pub fn side_by_side(der: &[u8]) -> Option<Vec<u8>> {
    let rest = der.strip_prefix(&[0x30])?.get(1..)?;
    let number = |at: &[u8]| -> Option<(Vec<u8>, usize)> {
        let len = usize::from(*at.get(1)?);
        let value = at.get(2..2 + len)?;
        let value: Vec<u8> = value.iter().copied().skip_while(|b| *b == 0).collect();
        let mut out = vec![0; 32usize.checked_sub(value.len())?];
        out.extend(value);
        Some((out, 2 + len))
    };
    let (r, used) = number(rest)?;
    let (s, _) = number(rest.get(used..)?)?;
    Some([r, s].concat())
}

/// Text as the content of an attribute or element. What no XML document can hold is left out.
pub(super) fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\t' | '\n' | '\r' => out.push_str(&format!("&#{};", u32::from(c))),
            c if c < ' ' || matches!(c, '\u{fffe}' | '\u{ffff}') => {}
            c => out.push(c),
        }
    }
    out
}

/// A moment as SAML writes it (saml-core-2.0-os 1.3.3).
pub(super) fn moment(at: DateTime<Utc>) -> String {
    at.format("%Y-%m-%dT%H:%M:%SZ").to_string()
}

/// A message signed for the POST binding: its signature stands after its Issuer (saml-core-2.0-os 3.2.1). None where it cannot be.
pub fn signed_message(xml: &str, id: &str, signer: &dyn Signs) -> Option<String> {
    signed(xml, id, "</saml:Issuer>", signer)
}

/// Signs a document of our own: the root, by its identifier, with the one shape that SAML allows (saml-core-2.0-os 5.4). The
/// signature is put right after `after`, which must stand once, or right inside the root where `after` is its start tag.
/// None where nothing could be signed.
pub(super) fn signed(document: &str, id: &str, after: &str, signer: &dyn Signs) -> Option<String> {
    let (before, behind) = document.split_once(after)?;
    let canonical = canonicalize::<&str>(document, C14nMode::Exclusive, None, &[]).ok()?;
    let digest = STANDARD.encode(digest::digest(&digest::SHA256, &canonical));
    // Written in canonical form, so that these bytes are what is signed.
    let info = format!(
        "<ds:SignedInfo xmlns:ds=\"{DSIG}\"><ds:CanonicalizationMethod Algorithm=\"{EXCLUSIVE}\"></ds:CanonicalizationMethod>\
         <ds:SignatureMethod Algorithm=\"{}\"></ds:SignatureMethod><ds:Reference URI=\"#{}\"><ds:Transforms>\
         <ds:Transform Algorithm=\"{ENVELOPED}\"></ds:Transform><ds:Transform Algorithm=\"{EXCLUSIVE}\"></ds:Transform></ds:Transforms>\
         <ds:DigestMethod Algorithm=\"http://www.w3.org/2001/04/xmlenc#sha256\"></ds:DigestMethod>\
         <ds:DigestValue>{digest}</ds:DigestValue></ds:Reference></ds:SignedInfo>",
        signer.algorithm(),
        escaped(id),
    );
    let value = STANDARD.encode(signer.sign(info.as_bytes())?);
    Some(format!(
        "{before}{after}<ds:Signature xmlns:ds=\"{DSIG}\">{info}<ds:SignatureValue>{value}</ds:SignatureValue>{}</ds:Signature>{behind}",
        key_info(signer.certificate()),
    ))
}

/// A certificate as messages and metadata carry it.
pub(super) fn key_info(certificate: &[u8]) -> String {
    format!(
        "<ds:KeyInfo xmlns:ds=\"{DSIG}\"><ds:X509Data><ds:X509Certificate>{}</ds:X509Certificate></ds:X509Data></ds:KeyInfo>",
        STANDARD.encode(certificate)
    )
}
