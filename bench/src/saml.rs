//! How many SAML responses one core validates a second, beside the raw verification of their signature.

use std::fmt::Write;
use std::hint::black_box;
use std::time::{Duration, Instant};

use aws_lc_rs::signature::{RSA_PKCS1_2048_8192_SHA256, UnparsedPublicKey};
use passeur_core::x509;
use passeur_engine::providers::own::{self, OwnKey};
use passeur_protocols::saml::encryption::Opener;
use passeur_protocols::saml::response::{Expected, check};
use passeur_protocols::saml::sign_out::Head;
use passeur_protocols::saml::write::Signs;

const ISSUER: &str = "https://idp.example/saml";
const US: &str = "https://pass.example/.passeur/saml/metadata";
const CONSUMER: &str = "https://pass.example/.passeur/saml/idp/answer";

/// A response as providers send them: 12 attributes, 40 groups, its assertion signed; with `both` the response as well.
fn response(key: &OwnKey, now: chrono::DateTime<chrono::Utc>, both: bool) -> String {
    let at = |minutes| (now + chrono::Duration::minutes(minutes)).format("%Y-%m-%dT%H:%M:%SZ").to_string();
    let sign = |text: &str, id: &str| {
        let head = Head { id, destination: "", issuer: "", now };
        head.signed(text, key).expect("signed")
    };
    let attribute = |name: &str, values: usize| {
        let all: String =
            (0..values).map(|v| format!("<saml:AttributeValue>value {v} of {name}</saml:AttributeValue>")).collect();
        format!("<saml:Attribute Name=\"{name}\">{all}</saml:Attribute>")
    };
    let attributes: String =
        (0..12).map(|i| attribute(&format!("urn:oid:2.5.4.{i}"), 1)).chain([attribute("groups", 40)]).collect();
    let assertion = format!(
        "<saml:Assertion xmlns:saml=\"urn:oasis:names:tc:SAML:2.0:assertion\" ID=\"_a\" Version=\"2.0\" IssueInstant=\"{now}\">\
         <saml:Issuer>{ISSUER}</saml:Issuer><saml:Subject><saml:NameID>p-1</saml:NameID>\
         <saml:SubjectConfirmation Method=\"urn:oasis:names:tc:SAML:2.0:cm:bearer\"><saml:SubjectConfirmationData InResponseTo=\"_r\" \
         Recipient=\"{CONSUMER}\" NotOnOrAfter=\"{soon}\"/></saml:SubjectConfirmation></saml:Subject>\
         <saml:Conditions NotBefore=\"{now}\" NotOnOrAfter=\"{soon}\"><saml:AudienceRestriction><saml:Audience>{US}</saml:Audience>\
         </saml:AudienceRestriction></saml:Conditions><saml:AuthnStatement AuthnInstant=\"{now}\"><saml:AuthnContext>\
         <saml:AuthnContextClassRef>urn:two</saml:AuthnContextClassRef></saml:AuthnContext></saml:AuthnStatement>\
         <saml:AttributeStatement>{attributes}</saml:AttributeStatement></saml:Assertion>",
        now = at(0),
        soon = at(60),
    );
    let whole = format!(
        "<samlp:Response xmlns:samlp=\"urn:oasis:names:tc:SAML:2.0:protocol\" ID=\"_x\" Version=\"2.0\" IssueInstant=\"{}\" \
         Destination=\"{CONSUMER}\" InResponseTo=\"_r\"><saml:Issuer xmlns:saml=\"urn:oasis:names:tc:SAML:2.0:assertion\">{ISSUER}</saml:Issuer>\
         <samlp:Status><samlp:StatusCode Value=\"urn:oasis:names:tc:SAML:2.0:status:Success\"/></samlp:Status>§</samlp:Response>",
        at(0)
    );
    let whole = whole.replace('§', &sign(&assertion, "_a"));
    if both { sign(&whole, "_x") } else { whole }
}

fn per_second(mut once: impl FnMut()) -> f64 {
    let (began, mut n) = (Instant::now(), 0u32);
    while began.elapsed() < Duration::from_secs(2) {
        once();
        n += 1;
    }
    f64::from(n) / began.elapsed().as_secs_f64()
}

/// The lines of the report.
pub fn measure() -> String {
    let now = chrono::Utc::now();
    let key = own::make("bench", now, 1).and_then(|pem| OwnKey::read(&pem)).expect("a key");
    let certificates = [key.certificate().to_vec()];
    let opener = Opener::default();
    let expected = Expected {
        issuer: ISSUER,
        audience: US,
        consumer: CONSUMER,
        request: Some("_r"),
        now,
        skew: chrono::Duration::seconds(30),
        certificates: &certificates,
        opener: &opener,
        encrypted: false,
    };
    let bytes = [7u8; 600];
    let signature = key.sign(&bytes).expect("signed");
    let public = x509::public_key(key.certificate()).expect("the key");
    let raw = per_second(|| {
        let verifier = UnparsedPublicKey::new(&RSA_PKCS1_2048_8192_SHA256, &public);
        assert!(black_box(verifier.verify(&bytes, &signature)).is_ok());
    });
    let mut out = String::from(
        "\n| SAML response, RSA 2048 | size | validated on one core | beside raw verification |\n|---|---|---|---|\n",
    );
    let _ = writeln!(out, "| the bare verification of one signature | | {raw:.0}/s | 1 |");
    for both in [false, true] {
        let text = response(&key, now, both);
        let n = per_second(|| assert!(black_box(check(&text, &expected)).is_ok(), "{:?}", check(&text, &expected)));
        let what = if both { "response and assertion signed" } else { "assertion signed" };
        let _ = writeln!(out, "| {what}, 13 attributes, 40 groups | {} bytes | {n:.0}/s | {:.2} |", text.len(), n / raw);
    }
    out
}
