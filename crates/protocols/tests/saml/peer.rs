//! An identity provider made of text and of xmlsec1.

use std::path::PathBuf;
use std::process::Command;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};

use chrono::{DateTime, Duration, Utc};
use passeur_protocols::saml::response::{Assertion, BadResponse, Expected, check};

pub const ISSUER: &str = "https://bureau-pilotage.example/saml";
pub const US: &str = "https://pass.havrelune.example/.passeur/saml/metadata";
pub const CONSUMER: &str = "https://pass.havrelune.example/.passeur/saml/pilotage/answer";
pub const REQUEST: &str = "_request-1";

pub fn now() -> DateTime<Utc> {
    DateTime::from_timestamp(1_800_000_000, 0).unwrap()
}

/// A key with its certificate, as files and in DER.
pub struct Signer {
    folder: PathBuf,
    pub certificate: Vec<u8>,
}

impl Signer {
    fn new(algorithm: &'static rcgen::SignatureAlgorithm) -> Signer {
        static NEXT: AtomicU32 = AtomicU32::new(0);
        let n = NEXT.fetch_add(1, Ordering::Relaxed);
        // Below the build folder, where the next run writes over it: what is made once for all tests is never dropped.
        let folder = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join(format!("saml-{n}"));
        std::fs::create_dir_all(&folder).unwrap();
        let key = rcgen::KeyPair::generate_for(algorithm).unwrap();
        let certificate = rcgen::CertificateParams::new(vec!["idp.example".into()]).unwrap().self_signed(&key).unwrap();
        std::fs::write(folder.join("key.pem"), key.serialize_pem()).unwrap();
        Signer { folder, certificate: certificate.der().to_vec() }
    }

    /// Signs what the templates in a document ask for, one after the other.
    pub fn sign(&self, text: &str, of: &[&str]) -> String {
        static NEXT: AtomicU32 = AtomicU32::new(0);
        let mut text = text.to_owned();
        for node in of {
            let n = NEXT.fetch_add(1, Ordering::Relaxed);
            let (from, to) = (self.folder.join(format!("{n}.xml")), self.folder.join(format!("{n}.signed.xml")));
            std::fs::write(&from, &text).unwrap();
            let ran = Command::new("xmlsec1")
                .args(["--sign", "--privkey-pem"])
                .arg(self.folder.join("key.pem"))
                .args(["--id-attr:ID", "urn:oasis:names:tc:SAML:2.0:assertion:Assertion"])
                .args(["--id-attr:ID", "urn:oasis:names:tc:SAML:2.0:protocol:Response"])
                .args(["--id-attr:ID", "urn:oasis:names:tc:SAML:2.0:metadata:EntityDescriptor"])
                .args(["--node-xpath", &format!("//*[@ID='{node}']/*[local-name()='Signature']"), "--output"])
                .arg(&to)
                .arg(&from)
                .output()
                .expect("xmlsec1, which ./run test installs");
            assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
            text = std::fs::read_to_string(&to).unwrap();
        }
        // The declaration that xmlsec1 writes is no part of what is signed.
        text.split_once("?>\n").map_or(text.clone(), |(_, rest)| rest.trim_end().to_owned())
    }
}

/// The provider's own key, one for all tests of a run.
pub fn provider() -> &'static Signer {
    static SIGNER: OnceLock<Signer> = OnceLock::new();
    SIGNER.get_or_init(|| Signer::new(&rcgen::PKCS_RSA_SHA256))
}

/// Somebody else's key, on a curve.
pub fn stranger() -> Signer {
    Signer::new(&rcgen::PKCS_ECDSA_P256_SHA256)
}

/// Somebody else's key of the same kind as the provider's.
pub fn look_alike() -> Signer {
    Signer::new(&rcgen::PKCS_RSA_SHA256)
}

/// A signature to be made of an element.
pub fn template(id: &str, method: &str) -> String {
    format!(
        "<ds:Signature xmlns:ds=\"http://www.w3.org/2000/09/xmldsig#\"><ds:SignedInfo>\
         <ds:CanonicalizationMethod Algorithm=\"http://www.w3.org/2001/10/xml-exc-c14n#\"/>\
         <ds:SignatureMethod Algorithm=\"{method}\"/><ds:Reference URI=\"#{id}\"><ds:Transforms>\
         <ds:Transform Algorithm=\"http://www.w3.org/2000/09/xmldsig#enveloped-signature\"/>\
         <ds:Transform Algorithm=\"http://www.w3.org/2001/10/xml-exc-c14n#\"/></ds:Transforms>\
         <ds:DigestMethod Algorithm=\"http://www.w3.org/2001/04/xmlenc#sha256\"/><ds:DigestValue/></ds:Reference>\
         </ds:SignedInfo><ds:SignatureValue/></ds:Signature>"
    )
}

pub const RSA: &str = "http://www.w3.org/2001/04/xmldsig-more#rsa-sha256";

pub fn at(minutes: i64) -> String {
    (now() + Duration::minutes(minutes)).format("%Y-%m-%dT%H:%M:%SZ").to_string()
}

/// A sound assertion with a place for its signature.
pub fn assertion(signature: &str) -> String {
    format!(
        "<saml:Assertion xmlns:saml=\"urn:oasis:names:tc:SAML:2.0:assertion\" ID=\"_assertion-1\" Version=\"2.0\" IssueInstant=\"{now}\">\
         <saml:Issuer>{ISSUER}</saml:Issuer>{signature}<saml:Subject>\
         <saml:NameID Format=\"urn:oasis:names:tc:SAML:2.0:nameid-format:persistent\">p-1001</saml:NameID>\
         <saml:SubjectConfirmation Method=\"urn:oasis:names:tc:SAML:2.0:cm:bearer\">\
         <saml:SubjectConfirmationData InResponseTo=\"{REQUEST}\" Recipient=\"{CONSUMER}\" NotOnOrAfter=\"{soon}\"/>\
         </saml:SubjectConfirmation></saml:Subject>\
         <saml:Conditions NotBefore=\"{before}\" NotOnOrAfter=\"{soon}\"><saml:AudienceRestriction><saml:Audience>{US}</saml:Audience>\
         </saml:AudienceRestriction></saml:Conditions>\
         <saml:AuthnStatement AuthnInstant=\"{before}\" SessionIndex=\"s-7\"><saml:AuthnContext>\
         <saml:AuthnContextClassRef>urn:pilotage:two-factors</saml:AuthnContextClassRef></saml:AuthnContext></saml:AuthnStatement>\
         <saml:AttributeStatement><saml:Attribute Name=\"user\"><saml:AttributeValue>anouk</saml:AttributeValue></saml:Attribute>\
         <saml:Attribute Name=\"groups\"><saml:AttributeValue>pilots</saml:AttributeValue>\
         <saml:AttributeValue>crew</saml:AttributeValue></saml:Attribute></saml:AttributeStatement></saml:Assertion>",
        now = at(0),
        soon = at(5),
        before = at(-1),
    )
}

/// A response around an assertion.
pub fn response(signature: &str, assertion: &str) -> String {
    format!(
        "<samlp:Response xmlns:samlp=\"urn:oasis:names:tc:SAML:2.0:protocol\" xmlns:saml=\"urn:oasis:names:tc:SAML:2.0:assertion\" \
         ID=\"_response-1\" Version=\"2.0\" IssueInstant=\"{now}\" Destination=\"{CONSUMER}\" InResponseTo=\"{REQUEST}\">\
         <saml:Issuer>{ISSUER}</saml:Issuer>{signature}<samlp:Status>\
         <samlp:StatusCode Value=\"urn:oasis:names:tc:SAML:2.0:status:Success\"/></samlp:Status>{assertion}</samlp:Response>",
        now = at(0),
    )
}

/// A whole response whose assertion is signed, with pieces of its text replaced before that.
pub fn signed_assertion(edits: &[(&str, &str)]) -> String {
    let mut text = response("", &assertion(&template("_assertion-1", RSA)));
    for (old, new) in edits {
        assert!(text.contains(old), "{old}");
        text = text.replacen(old, new, 1);
    }
    provider().sign(&text, &["_assertion-1"])
}

pub fn expected(certificates: &[Vec<u8>]) -> Expected<'_> {
    Expected {
        issuer: ISSUER,
        audience: US,
        consumer: CONSUMER,
        request: Some(REQUEST),
        now: now(),
        skew: Duration::seconds(30),
        certificates,
    }
}

pub fn judge(text: &str) -> Result<Assertion, BadResponse> {
    check(text, &expected(&[provider().certificate.clone()]))
}

/// The code of the reason why a response is refused.
pub fn refused(text: &str) -> &'static str {
    match judge(text) {
        Ok(a) => panic!("believed: {a:?}\n{text}"),
        Err(e) => e.code(),
    }
}
