//! An identity provider made of text and of xmlsec1.

use std::path::PathBuf;
use std::process::Command;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chrono::{DateTime, Duration, Utc};
use passeur_protocols::saml::encryption::Opener;
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
    pub folder: PathBuf,
    pub certificate: Vec<u8>,
    /// The private key in PKCS #8.
    pub key: Vec<u8>,
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
        std::fs::write(folder.join("certificate.pem"), certificate.pem()).unwrap();
        Signer { folder, certificate: certificate.der().to_vec(), key: key.serialize_der() }
    }

    /// Signs what the templates in a document ask for, one after the other.
    pub fn sign(&self, text: &str, of: &[&str]) -> String {
        let mut text = text.to_owned();
        for node in of {
            let n = fresh();
            let (from, to) = (self.folder.join(format!("{n}.xml")), self.folder.join(format!("{n}.signed.xml")));
            std::fs::write(&from, &text).unwrap();
            let ran = Command::new("xmlsec1")
                .args(["--sign", "--privkey-pem"])
                .arg(self.folder.join("key.pem"))
                .args(["--id-attr:ID", "urn:oasis:names:tc:SAML:2.0:assertion:Assertion"])
                .args(["--id-attr:ID", "urn:oasis:names:tc:SAML:2.0:protocol:Response"])
                .args(["--id-attr:ID", "urn:oasis:names:tc:SAML:2.0:metadata:EntityDescriptor"])
                .args(["--id-attr:ID", "urn:oasis:names:tc:SAML:2.0:protocol:LogoutRequest"])
                .args(["--id-attr:ID", "urn:oasis:names:tc:SAML:2.0:protocol:LogoutResponse"])
                .args(["--node-xpath", &format!("//*[@ID='{node}']/*[local-name()='Signature']"), "--output"])
                .arg(&to)
                .arg(&from)
                .output()
                .expect("xmlsec1, which ./run test installs");
            assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
            text = std::fs::read_to_string(&to).unwrap();
        }
        undeclared(&text)
    }
}

impl Signer {
    /// Whether xmlsec1 takes the one signature of a document for this key's, its own words where not.
    pub fn verify(&self, text: &str, root: &str) -> Result<(), String> {
        let from = self.folder.join(format!("{}.verify.xml", fresh()));
        std::fs::write(&from, text).unwrap();
        let ran = Command::new("xmlsec1")
            .args(["--verify", "--enabled-key-data", "key-name", "--pubkey-cert-pem"])
            .arg(self.folder.join("certificate.pem"))
            .args(["--id-attr:ID", root])
            .arg(&from)
            .output()
            .unwrap();
        if ran.status.success() { Ok(()) } else { Err(String::from_utf8_lossy(&ran.stderr).into_owned()) }
    }

    /// A document with one of its elements encrypted for this key's certificate.
    pub fn encrypt(&self, text: &str, element: &str, method: &Encryption) -> String {
        let n = fresh();
        let [template, from, to] = ["template", "plain", "encrypted"].map(|w| self.folder.join(format!("{n}.{w}.xml")));
        std::fs::write(&template, method.template()).unwrap();
        std::fs::write(&from, text).unwrap();
        let ran = Command::new("xmlsec1")
            .args(["--encrypt", "--session-key", method.session, "--pubkey-cert-pem"])
            .arg(self.folder.join("certificate.pem"))
            .arg("--xml-data")
            .arg(&from)
            .args(["--node-xpath", &format!("(//*[local-name()='{element}'])[1]"), "--output"])
            .arg(&to)
            .arg(&template)
            .output()
            .unwrap();
        assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
        undeclared(&std::fs::read_to_string(&to).unwrap())
    }
}

/// How something is encrypted.
#[derive(Clone, Copy)]
pub struct Encryption {
    pub session: &'static str,
    pub cipher: &'static str,
    pub transport: &'static str,
}

pub const GCM: Encryption = Encryption {
    session: "aes-256",
    cipher: "http://www.w3.org/2009/xmlenc11#aes256-gcm",
    transport: "http://www.w3.org/2001/04/xmlenc#rsa-oaep-mgf1p",
};

impl Encryption {
    fn template(&self) -> String {
        format!(
            "<xenc:EncryptedData xmlns:xenc=\"http://www.w3.org/2001/04/xmlenc#\" Type=\"http://www.w3.org/2001/04/xmlenc#Element\">\
             <xenc:EncryptionMethod Algorithm=\"{}\"/><ds:KeyInfo xmlns:ds=\"http://www.w3.org/2000/09/xmldsig#\"><xenc:EncryptedKey>\
             <xenc:EncryptionMethod Algorithm=\"{}\"/><ds:KeyInfo/><xenc:CipherData><xenc:CipherValue/></xenc:CipherData>\
             </xenc:EncryptedKey></ds:KeyInfo><xenc:CipherData><xenc:CipherValue/></xenc:CipherData></xenc:EncryptedData>",
            self.cipher, self.transport
        )
    }
}

/// An element encrypted by the newer OAEP with SHA-256 throughout, which this xmlsec1 does not know.
pub fn encrypted_newer(plain: &str) -> String {
    use aws_lc_rs::aead::{AES_128_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
    use aws_lc_rs::rsa::{OAEP_SHA256_MGF1SHA256, OaepPublicEncryptingKey, PrivateDecryptingKey};
    let public = PrivateDecryptingKey::from_pkcs8(&ours().key).unwrap().public_key();
    let public = OaepPublicEncryptingKey::new(public).unwrap();
    let mut wrapped = vec![0; public.ciphertext_size()];
    let wrapped = public.encrypt(&OAEP_SHA256_MGF1SHA256, &[7; 16], &mut wrapped, None).unwrap();
    let mut sealed = plain.as_bytes().to_vec();
    let key = LessSafeKey::new(UnboundKey::new(&AES_128_GCM, &[7; 16]).unwrap());
    key.seal_in_place_append_tag(Nonce::assume_unique_for_key([3; 12]), Aad::empty(), &mut sealed).unwrap();
    let sealed = [&[3; 12][..], &sealed].concat();
    format!(
        "<xenc:EncryptedData xmlns:xenc=\"http://www.w3.org/2001/04/xmlenc#\"><xenc:EncryptionMethod \
         Algorithm=\"http://www.w3.org/2009/xmlenc11#aes128-gcm\"/><xenc:CipherData><xenc:CipherValue>{}</xenc:CipherValue></xenc:CipherData>\
         </xenc:EncryptedData><xenc:EncryptedKey xmlns:xenc=\"http://www.w3.org/2001/04/xmlenc#\"><xenc:EncryptionMethod \
         Algorithm=\"http://www.w3.org/2009/xmlenc11#rsa-oaep\"><ds:DigestMethod xmlns:ds=\"http://www.w3.org/2000/09/xmldsig#\" \
         Algorithm=\"http://www.w3.org/2001/04/xmlenc#sha256\"/><xenc11:MGF xmlns:xenc11=\"http://www.w3.org/2009/xmlenc11#\" \
         Algorithm=\"http://www.w3.org/2009/xmlenc11#mgf1sha256\"/></xenc:EncryptionMethod><xenc:CipherData><xenc:CipherValue>{}\
         </xenc:CipherValue></xenc:CipherData></xenc:EncryptedKey>",
        STANDARD.encode(sealed),
        STANDARD.encode(wrapped)
    )
}

fn fresh() -> u32 {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    NEXT.fetch_add(1, Ordering::Relaxed)
}

/// The declaration that xmlsec1 writes is no part of what is signed.
fn undeclared(text: &str) -> String {
    text.split_once("?>\n").map_or(text, |(_, rest)| rest).trim_end().to_owned()
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
        opener: our_keys(),
        encrypted: false,
    }
}

/// Our own key pair, one for all tests of a run.
pub fn ours() -> &'static Signer {
    static OURS: OnceLock<Signer> = OnceLock::new();
    OURS.get_or_init(|| Signer::new(&rcgen::PKCS_RSA_SHA256))
}

/// What opens with it.
pub fn our_keys() -> &'static Opener {
    static OPENER: OnceLock<Opener> = OnceLock::new();
    OPENER.get_or_init(|| Opener::new([look_alike().key.as_slice(), &ours().key]))
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
