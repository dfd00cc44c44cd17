//! Requests as a provider takes them apart.

use std::io::Read;

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_ASN1_SIGNING, ECDSA_P256_SHA256_FIXED, EcdsaKeyPair, RSA_PKCS1_2048_8192_SHA256, RSA_PKCS1_SHA256,
    RsaKeyPair, UnparsedPublicKey, VerificationAlgorithm,
};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use passeur_protocols::saml::PROTOCOL;
use passeur_protocols::saml::request::{Request, Signs, redirect, side_by_side};
use passeur_protocols::saml::xml::Xml;
use url::Url;

use crate::peer::*;

fn request(contexts: &[String]) -> String {
    let request = Request {
        id: "_r1",
        destination: "https://bureau-pilotage.example/in?a=1&b=\"<2>\"",
        consumer: CONSUMER,
        issuer: US,
        now: now(),
        anew: true,
        contexts,
        format: Some("urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"),
    };
    request.xml()
}

#[test]
fn a_request_says_what_is_asked_and_nothing_escapes_its_place() {
    let text = request(&["urn:a".into(), "</saml:AuthnContextClassRef><evil/>".into()]);
    let xml = Xml::read(&text).unwrap();
    let root = xml.root();
    assert!(xml.is(root, PROTOCOL, "AuthnRequest"));
    for (name, value) in [
        ("ID", "_r1"),
        ("ForceAuthn", "true"),
        ("Destination", "https://bureau-pilotage.example/in?a=1&b=\"<2>\""),
        ("AssertionConsumerServiceURL", CONSUMER),
    ] {
        assert_eq!(xml.attribute(root, name), Some(value));
    }
    let contexts = xml.need(root, PROTOCOL, "RequestedAuthnContext").unwrap();
    assert_eq!(xml.elements().iter().filter(|n| xml.parent(**n) == Some(contexts)).count(), 2, "{text}");
    assert!(!request(&[]).contains("RequestedAuthnContext"));
}

/// A key of either kind.
enum Key {
    Rsa(RsaKeyPair),
    Curve(EcdsaKeyPair),
}

impl Key {
    fn of(pkcs8: &[u8]) -> Key {
        match RsaKeyPair::from_pkcs8(pkcs8) {
            Ok(key) => Key::Rsa(key),
            Err(_) => Key::Curve(EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, pkcs8).unwrap()),
        }
    }
}

impl Signs for Key {
    fn algorithm(&self) -> &'static str {
        match self {
            Key::Rsa(_) => RSA,
            Key::Curve(_) => "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha256",
        }
    }

    fn sign(&self, bytes: &[u8]) -> Option<Vec<u8>> {
        match self {
            Key::Rsa(key) => {
                let mut out = vec![0; key.public_modulus_len()];
                key.sign(&RSA_PKCS1_SHA256, &SystemRandom::new(), bytes, &mut out).ok()?;
                Some(out)
            }
            Key::Curve(key) => side_by_side(key.sign(&SystemRandom::new(), bytes).ok()?.as_ref()),
        }
    }
}

/// The parts of a query as they were sent.
fn parts(url: &str) -> Vec<(String, String)> {
    let query = url.split_once('?').unwrap().1;
    query.split('&').map(|p| p.split_once('=').unwrap()).map(|(a, b)| (a.to_owned(), b.to_owned())).collect()
}

#[test]
fn the_redirect_binding_carries_it_whole_and_signs_what_is_sent() {
    let text = request(&[]);
    let unsigned = redirect("https://bureau-pilotage.example/in", &text, "state & more", None).unwrap();
    let url = Url::parse(&unsigned).unwrap();
    let value = |name: &str| url.query_pairs().find(|(n, _)| n == name).map(|(_, v)| v.into_owned());
    assert_eq!(value("RelayState").as_deref(), Some("state & more"));
    let packed = STANDARD.decode(value("SAMLRequest").unwrap()).unwrap();
    let mut back = String::new();
    flate2::read::DeflateDecoder::new(packed.as_slice()).read_to_string(&mut back).unwrap();
    assert_eq!(back, text);
    assert_eq!(value("Signature"), None);
    let algorithms: [(&'static rcgen::SignatureAlgorithm, &'static dyn VerificationAlgorithm); 2] =
        [(&rcgen::PKCS_RSA_SHA256, &RSA_PKCS1_2048_8192_SHA256), (&rcgen::PKCS_ECDSA_P256_SHA256, &ECDSA_P256_SHA256_FIXED)];
    for (kind, verifies) in algorithms {
        let pair = rcgen::KeyPair::generate_for(kind).unwrap();
        let key = Key::of(pair.serialized_der());
        for _ in 0..8 {
            let signed = redirect("https://bureau-pilotage.example/in?x=y", &text, "s", Some(&key)).unwrap();
            let all = parts(&signed);
            assert_eq!(all[0], ("x".into(), "y".into()), "what the address had stays");
            let sent = signed.split_once("x=y&").unwrap().1.split_once("&Signature=").unwrap().0;
            let given = Url::parse(&signed).unwrap();
            let signature = given.query_pairs().find(|(n, _)| n == "Signature").unwrap().1.into_owned();
            let public = UnparsedPublicKey::new(verifies, pair.public_key_raw());
            assert!(public.verify(sent.as_bytes(), &STANDARD.decode(signature).unwrap()).is_ok());
            assert!(public.verify(sent.replace("RelayState=s", "RelayState=t").as_bytes(), b"x").is_err());
        }
    }
    for bad in [&b""[..], b"\x30", b"\x30\x05\x02\x7f\x00", b"\x30\x44\x02\x01"] {
        assert_eq!(side_by_side(bad), None, "{bad:?}");
    }
    assert_eq!(redirect("no address", &text, "s", None), None);
    assert_eq!(redirect("https://bureau-pilotage.example/in#part", &text, "s", None), None);
}
