//! What it writes. Every element is in exclusive canonical form: namespaces where they are used first, attributes in order, no
//! short tags; the bytes are therefore those that are digested.

use std::io::Write;

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use aws_lc_rs::digest;
use aws_lc_rs::rand::{self, SystemRandom};
use aws_lc_rs::rsa::{OAEP_SHA1_MGF1SHA1, OaepPublicEncryptingKey, PublicEncryptingKey};
use aws_lc_rs::signature::{RSA_PKCS1_SHA256, RsaKeyPair};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chrono::{Duration, Utc};

use super::super::authorize::Session;
use super::{Asked, Mode, Provider, read};
use crate::provider::Person;

const SAML: &str = "urn:oasis:names:tc:SAML:2.0:assertion";
const SAMLP: &str = "urn:oasis:names:tc:SAML:2.0:protocol";
const DS: &str = "http://www.w3.org/2000/09/xmldsig#";
const EXC: &str = "http://www.w3.org/2001/10/xml-exc-c14n#";

/// A key with its certificate.
pub(crate) struct Key {
    pair: RsaKeyPair,
    pub(super) certificate: Vec<u8>,
}

impl Key {
    /// A new one.
    ///
    /// # Panics
    /// When the library makes none.
    pub(crate) fn new() -> Key {
        let made = || -> Result<Key, String> {
            let key = rcgen::KeyPair::generate_for(&rcgen::PKCS_RSA_SHA256).map_err(|e| e.to_string())?;
            let params = rcgen::CertificateParams::new(vec!["bureau-pilotage.localhost".into()]).map_err(|e| e.to_string())?;
            let certificate = params.self_signed(&key).map_err(|e| e.to_string())?.der().to_vec();
            Ok(Key { pair: RsaKeyPair::from_pkcs8(&key.serialize_der()).map_err(|e| e.to_string())?, certificate })
        };
        match made() {
            Ok(key) => key,
            Err(e) => panic!("no key can be made: {e}"),
        }
    }

    fn sign(&self, bytes: &[u8]) -> String {
        let mut out = vec![0; self.pair.public_modulus_len()];
        let done = self.pair.sign(&RSA_PKCS1_SHA256, &SystemRandom::new(), bytes, &mut out);
        if done.is_ok() { base64(&out) } else { String::new() }
    }
}

pub(super) fn base64(bytes: &[u8]) -> String {
    STANDARD.encode(bytes)
}

fn text(value: &str) -> String {
    value.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}

fn attribute(value: &str) -> String {
    value.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;")
}

fn new_id() -> String {
    let mut bytes = [0u8; 16];
    assert!(rand::fill(&mut bytes).is_ok(), "the system gives no random bytes");
    format!("_{}", bytes.iter().map(|b| format!("{b:02x}")).collect::<String>())
}

fn at(minutes: i64) -> String {
    (Utc::now() + Duration::minutes(minutes)).format("%Y-%m-%dT%H:%M:%SZ").to_string()
}

/// Signs a document that is in canonical form; the signature stands after the Issuer, or where `after` ends.
fn signed(key: &Key, document: &str, id: &str, after: &str) -> String {
    let digest = base64(digest::digest(&digest::SHA256, document.as_bytes()).as_ref());
    let info = format!(
        "<ds:SignedInfo xmlns:ds=\"{DS}\"><ds:CanonicalizationMethod Algorithm=\"{EXC}\"></ds:CanonicalizationMethod>\
         <ds:SignatureMethod Algorithm=\"http://www.w3.org/2001/04/xmldsig-more#rsa-sha256\"></ds:SignatureMethod>\
         <ds:Reference URI=\"#{id}\"><ds:Transforms><ds:Transform Algorithm=\"http://www.w3.org/2000/09/xmldsig#enveloped-signature\">\
         </ds:Transform><ds:Transform Algorithm=\"{EXC}\"></ds:Transform></ds:Transforms>\
         <ds:DigestMethod Algorithm=\"http://www.w3.org/2001/04/xmlenc#sha256\"></ds:DigestMethod>\
         <ds:DigestValue>{digest}</ds:DigestValue></ds:Reference></ds:SignedInfo>"
    );
    let value = key.sign(info.as_bytes());
    let signature = format!(
        "<ds:Signature xmlns:ds=\"{DS}\">{info}<ds:SignatureValue>{value}</ds:SignatureValue><ds:KeyInfo><ds:X509Data>\
         <ds:X509Certificate>{}</ds:X509Certificate></ds:X509Data></ds:KeyInfo></ds:Signature>",
        base64(&key.certificate)
    );
    document.replacen(after, &format!("{after}{signature}"), 1)
}

fn issuer(p: &Provider) -> String {
    let other = p.memory().mode == Mode::OtherIssuer;
    let id = if other { "http://elsewhere.localhost/saml".to_owned() } else { p.entity_id() };
    format!("<saml:Issuer xmlns:saml=\"{SAML}\">{}</saml:Issuer>", text(&id))
}

fn edited(p: &Provider, mut document: String) -> String {
    for (old, new) in &p.memory().edits {
        document = document.replace(old, new);
    }
    document
}

fn response_around(p: &Provider, asked: &Asked, id: &str, inside: &str) -> String {
    let answers = asked.request.as_ref().map(|r| format!(" InResponseTo=\"{}\"", attribute(r))).unwrap_or_default();
    format!(
        "<samlp:Response xmlns:samlp=\"{SAMLP}\" Destination=\"{}\" ID=\"{id}\"{answers} IssueInstant=\"{}\" Version=\"2.0\">{}{inside}</samlp:Response>",
        attribute(&asked.consumer),
        at(0),
        issuer(p),
    )
}

/// A response that says no, signed.
pub(super) fn status(p: &Provider, asked: &Asked, first: &str, second: &str, words: &str) -> String {
    let urn = "urn:oasis:names:tc:SAML:2.0:status";
    let message =
        if words.is_empty() { String::new() } else { format!("<samlp:StatusMessage>{}</samlp:StatusMessage>", text(words)) };
    let status = format!(
        "<samlp:Status><samlp:StatusCode Value=\"{urn}:{first}\"><samlp:StatusCode Value=\"{urn}:{second}\"></samlp:StatusCode></samlp:StatusCode>{message}</samlp:Status>"
    );
    let id = new_id();
    let document = edited(p, response_around(p, asked, &id, &status));
    signed(&p.saml_key(), &document, &id, "</saml:Issuer>")
}

/// A response with an assertion about somebody; the assertion is signed.
pub(super) fn response(p: &Provider, asked: &Asked, person: &Person, session: &Session, encrypt_for: Option<&[u8]>) -> String {
    let mode = p.memory().mode;
    let (id, assertion_id) = (new_id(), new_id());
    let age = if mode == Mode::Expired { -120 } else { 0 };
    let audience = if mode == Mode::WrongAudience { "https://somebody-else.example" } else { &asked.service };
    let context = if mode == Mode::OneFactor { "urn:pilotage:password" } else { "urn:pilotage:two-factors" };
    let answers = asked.request.as_ref().map(|r| format!(" InResponseTo=\"{}\"", attribute(r))).unwrap_or_default();
    let proved = chrono::DateTime::from_timestamp(session.at, 0).unwrap_or_default().format("%Y-%m-%dT%H:%M:%SZ");
    let user = person.release_user.then(|| person.user.clone());
    let released: String = [("user", user), ("name", person.name.clone()), ("mail", person.email.clone())]
        .into_iter()
        .filter_map(|(name, value)| Some((name, value?)))
        .map(|(name, value)| {
            format!(
                "<saml:Attribute Name=\"{name}\"><saml:AttributeValue>{}</saml:AttributeValue></saml:Attribute>",
                text(&value)
            )
        })
        .collect();
    let assertion = format!(
        "<saml:Assertion xmlns:saml=\"{SAML}\" ID=\"{assertion_id}\" IssueInstant=\"{now}\" Version=\"2.0\">{issuer}<saml:Subject>\
         <saml:NameID Format=\"urn:oasis:names:tc:SAML:2.0:nameid-format:persistent\">{sub}</saml:NameID>\
         <saml:SubjectConfirmation Method=\"urn:oasis:names:tc:SAML:2.0:cm:bearer\"><saml:SubjectConfirmationData{answers} \
         NotOnOrAfter=\"{end}\" Recipient=\"{consumer}\"></saml:SubjectConfirmationData></saml:SubjectConfirmation></saml:Subject>\
         <saml:Conditions NotBefore=\"{begin}\" NotOnOrAfter=\"{end}\"><saml:AudienceRestriction><saml:Audience>{audience}</saml:Audience>\
         </saml:AudienceRestriction></saml:Conditions><saml:AuthnStatement AuthnInstant=\"{proved}\" SessionIndex=\"{index}\">\
         <saml:AuthnContext><saml:AuthnContextClassRef>{context}</saml:AuthnContextClassRef></saml:AuthnContext></saml:AuthnStatement>\
         <saml:AttributeStatement>{released}</saml:AttributeStatement></saml:Assertion>",
        now = at(0),
        issuer = issuer(p).replace(&format!(" xmlns:saml=\"{SAML}\""), ""),
        sub = text(&person.sub),
        consumer = attribute(&asked.consumer),
        audience = text(audience),
        begin = at(age - 1),
        end = at(age + 5),
        index = session.index(),
    );
    let key = if mode == Mode::WrongKey { std::sync::Arc::new(Key::new()) } else { p.saml_key() };
    let mut assertion = signed(&key, &edited(p, assertion), &assertion_id, "</saml:Issuer>");
    if let Some(certificate) = encrypt_for {
        assertion = encrypted(&assertion, certificate);
    }
    let status =
        "<samlp:Status><samlp:StatusCode Value=\"urn:oasis:names:tc:SAML:2.0:status:Success\"></samlp:StatusCode></samlp:Status>";
    let around = response_around(p, asked, &id, &format!("{status}§"));
    // Only what is outside the assertion: its signature is made.
    edited(p, around).replacen('§', &assertion, 1)
}

/// An assertion that only the owner of a certificate can open.
fn encrypted(assertion: &str, certificate: &[u8]) -> String {
    let (mut key, mut iv) = ([0u8; 32], [0u8; 12]);
    assert!(rand::fill(&mut key).is_ok() && rand::fill(&mut iv).is_ok(), "the system gives no random bytes");
    let wrapped = || {
        let public = PublicEncryptingKey::from_der(&read::public_key(certificate)?).ok()?;
        let public = OaepPublicEncryptingKey::new(public).ok()?;
        let mut out = vec![0; public.ciphertext_size()];
        public.encrypt(&OAEP_SHA1_MGF1SHA1, &key, &mut out, None).ok().map(|w| w.to_vec())
    };
    let sealed = || {
        let mut out = assertion.as_bytes().to_vec();
        let aes = LessSafeKey::new(UnboundKey::new(&AES_256_GCM, &key).ok()?);
        aes.seal_in_place_append_tag(Nonce::assume_unique_for_key(iv), Aad::empty(), &mut out).ok()?;
        Some([iv.as_slice(), &out].concat())
    };
    let xenc = "http://www.w3.org/2001/04/xmlenc#";
    format!(
        "<saml:EncryptedAssertion xmlns:saml=\"{SAML}\"><xenc:EncryptedData xmlns:xenc=\"{xenc}\" Type=\"{xenc}Element\">\
         <xenc:EncryptionMethod Algorithm=\"http://www.w3.org/2009/xmlenc11#aes256-gcm\"></xenc:EncryptionMethod>\
         <ds:KeyInfo xmlns:ds=\"{DS}\"><xenc:EncryptedKey><xenc:EncryptionMethod Algorithm=\"{xenc}rsa-oaep-mgf1p\"></xenc:EncryptionMethod>\
         <xenc:CipherData><xenc:CipherValue>{}</xenc:CipherValue></xenc:CipherData></xenc:EncryptedKey></ds:KeyInfo><xenc:CipherData>\
         <xenc:CipherValue>{}</xenc:CipherValue></xenc:CipherData></xenc:EncryptedData></saml:EncryptedAssertion>",
        base64(&wrapped().unwrap_or_default()),
        base64(&sealed().unwrap_or_default()),
    )
}

pub(super) fn metadata(p: &Provider) -> String {
    let former = p.0.former.lock().unwrap_or_else(|e| e.into_inner()).clone();
    let key = |k: &Key| {
        format!(
            "<md:KeyDescriptor use=\"signing\"><ds:KeyInfo xmlns:ds=\"{DS}\"><ds:X509Data><ds:X509Certificate>{}</ds:X509Certificate>\
             </ds:X509Data></ds:KeyInfo></md:KeyDescriptor>",
            base64(&k.certificate)
        )
    };
    let keys = key(&p.saml_key()) + &former.map(|k| key(&k)).unwrap_or_default();
    let id = new_id();
    let bindings = "urn:oasis:names:tc:SAML:2.0:bindings";
    let (on, out) = (p.saml_address("/saml/sign-on"), p.saml_address("/saml/sign-out"));
    let start = format!(
        "<md:EntityDescriptor xmlns:md=\"urn:oasis:names:tc:SAML:2.0:metadata\" ID=\"{id}\" entityID=\"{}\" validUntil=\"{}\">",
        attribute(&p.entity_id()),
        at(60 * 24 * 7),
    );
    let document = format!(
        "{start}<md:IDPSSODescriptor protocolSupportEnumeration=\"{SAMLP}\">{keys}\
         <md:SingleLogoutService Binding=\"{bindings}:HTTP-Redirect\" Location=\"{out}\"></md:SingleLogoutService>\
         <md:NameIDFormat>urn:oasis:names:tc:SAML:2.0:nameid-format:persistent</md:NameIDFormat>\
         <md:SingleSignOnService Binding=\"{bindings}:HTTP-Redirect\" Location=\"{on}\"></md:SingleSignOnService>\
         <md:SingleSignOnService Binding=\"{bindings}:HTTP-POST\" Location=\"{on}\"></md:SingleSignOnService>\
         </md:IDPSSODescriptor></md:EntityDescriptor>"
    );
    signed(&p.saml_key(), &edited(p, document), &id, &start)
}

fn message(p: &Provider, name: &str, to: &str, more: &str, inside: &str) -> String {
    format!(
        "<samlp:{name} xmlns:samlp=\"{SAMLP}\" Destination=\"{}\" ID=\"{}\"{more} IssueInstant=\"{}\" Version=\"2.0\">{}{inside}</samlp:{name}>",
        attribute(to),
        new_id(),
        at(0),
        issuer(p),
    )
}

pub(super) fn logout_response(p: &Provider, to: &str, request: &str) -> String {
    let inside =
        "<samlp:Status><samlp:StatusCode Value=\"urn:oasis:names:tc:SAML:2.0:status:Success\"></samlp:StatusCode></samlp:Status>";
    edited(p, message(p, "LogoutResponse", to, &format!(" InResponseTo=\"{}\"", attribute(request)), inside))
}

pub(super) fn logout_request(p: &Provider, to: &str, sub: &str, index: &str) -> String {
    let inside = format!(
        "<saml:NameID xmlns:saml=\"{SAML}\" Format=\"urn:oasis:names:tc:SAML:2.0:nameid-format:persistent\">{}</saml:NameID>\
         <samlp:SessionIndex>{}</samlp:SessionIndex>",
        text(sub),
        text(index)
    );
    edited(p, message(p, "LogoutRequest", to, "", &inside))
}

/// An address that carries a message, signed.
pub(super) fn redirect(p: &Provider, to: &str, name: &str, document: &str, relay_state: Option<&str>) -> String {
    let percent = |s: &str| url::form_urlencoded::byte_serialize(s.as_bytes()).collect::<String>();
    let mut packed = flate2::write::DeflateEncoder::new(vec![], flate2::Compression::default());
    let _ = packed.write_all(document.as_bytes());
    let mut query = format!("{name}={}", percent(&base64(&packed.finish().unwrap_or_default())));
    if let Some(state) = relay_state {
        query += &format!("&RelayState={}", percent(state));
    }
    query += &format!("&SigAlg={}", percent("http://www.w3.org/2001/04/xmldsig-more#rsa-sha256"));
    let key = if p.memory().mode == Mode::WrongKey { std::sync::Arc::new(Key::new()) } else { p.saml_key() };
    let signature = key.sign(query.as_bytes());
    format!("{to}?{query}&Signature={}", percent(&signature))
}
