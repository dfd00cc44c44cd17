//! Requests as a provider takes them apart.

use std::io::{Read, Write};

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, EcdsaKeyPair, RSA_PKCS1_SHA256, RsaKeyPair};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use passeur_protocols::saml::PROTOCOL;
use passeur_protocols::saml::binding::{Message, check_query, from_address, redirect};
use passeur_protocols::saml::metadata::METADATA;
use passeur_protocols::saml::own::{Consumer, Party};
use passeur_protocols::saml::request::Request;
use passeur_protocols::saml::response::NameId;
use passeur_protocols::saml::sign_out::Head;
use passeur_protocols::saml::signature::check;
use passeur_protocols::saml::write::{Signs, side_by_side};
use passeur_protocols::saml::xml::{BadXml, Xml};
use proptest::prelude::*;
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
        passive: false,
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

/// A key of either kind, with its certificate.
pub struct Key {
    pair: Pair,
    certificate: Vec<u8>,
}

enum Pair {
    Rsa(RsaKeyPair),
    Curve(EcdsaKeyPair),
}

impl Key {
    fn of(pkcs8: &[u8], certificate: &[u8]) -> Key {
        let pair = match RsaKeyPair::from_pkcs8(pkcs8) {
            Ok(key) => Pair::Rsa(key),
            Err(_) => Pair::Curve(EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, pkcs8).unwrap()),
        };
        Key { pair, certificate: certificate.to_vec() }
    }
}

/// The key of a signer, as the product would hold it.
pub fn key_of(signer: &Signer) -> Key {
    Key::of(&signer.key, &signer.certificate)
}

impl Signs for Key {
    fn algorithm(&self) -> &'static str {
        match &self.pair {
            Pair::Rsa(_) => RSA,
            Pair::Curve(_) => "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha256",
        }
    }

    fn sign(&self, bytes: &[u8]) -> Option<Vec<u8>> {
        match &self.pair {
            Pair::Rsa(key) => {
                let mut out = vec![0; key.public_modulus_len()];
                key.sign(&RSA_PKCS1_SHA256, &SystemRandom::new(), bytes, &mut out).ok()?;
                Some(out)
            }
            Pair::Curve(key) => side_by_side(key.sign(&SystemRandom::new(), bytes).ok()?.as_ref()),
        }
    }

    fn certificate(&self) -> &[u8] {
        &self.certificate
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
    let go = |address: &str, state: &str, key: Option<&dyn Signs>| redirect(address, Message::Request, &text, Some(state), key);
    let unsigned = go("https://bureau-pilotage.example/in", "state & more", None).unwrap();
    let url = Url::parse(&unsigned).unwrap();
    let value = |name: &str| url.query_pairs().find(|(n, _)| n == name).map(|(_, v)| v.into_owned());
    assert_eq!(value("RelayState").as_deref(), Some("state & more"));
    let packed = STANDARD.decode(value("SAMLRequest").unwrap()).unwrap();
    let mut back = String::new();
    flate2::read::DeflateDecoder::new(packed.as_slice()).read_to_string(&mut back).unwrap();
    assert_eq!(back, text);
    assert_eq!(from_address(&value("SAMLRequest").unwrap()).unwrap(), text);
    assert_eq!(value("Signature"), None);
    for signer in [provider(), &stranger()] {
        let key = key_of(signer);
        for _ in 0..8 {
            let signed = go("https://bureau-pilotage.example/in?x=y", "s", Some(&key)).unwrap();
            assert_eq!(parts(&signed)[0], ("x".into(), "y".into()), "what the address had stays");
            let query = signed.split_once('?').unwrap().1;
            let judge =
                |query: &str| check_query(query, Message::Request, &[look_alike_certificate(), signer.certificate.clone()]);
            assert_eq!(judge(query), Ok(()));
            for (old, new) in [
                ("RelayState=s", "RelayState=t"),
                ("&SigAlg", "&SAMLRequest=x&SigAlg"),
                ("rsa-sha256", "rsa-sha1"),
                ("&Signature=", "&Other="),
                ("SAMLRequest", "SAMLResponse"),
                ("RelayState=s&", ""),
            ] {
                assert!(query.contains(old) || old == "rsa-sha256", "{old}");
                assert!(query.replacen(old, new, 1) == query || judge(&query.replacen(old, new, 1)).is_err(), "{old} → {new}");
            }
            assert!(check_query(query, Message::Request, &[look_alike_certificate()]).is_err());
        }
    }
    for bad in [&b""[..], b"\x30", b"\x30\x05\x02\x7f\x00", b"\x30\x44\x02\x01"] {
        assert_eq!(side_by_side(bad), None, "{bad:?}");
    }
    assert_eq!(go("no address", "s", None), None);
    assert_eq!(go("https://bureau-pilotage.example/in#part", "s", None), None);
}

fn look_alike_certificate() -> Vec<u8> {
    use std::sync::OnceLock;
    static DER: OnceLock<Vec<u8>> = OnceLock::new();
    DER.get_or_init(|| look_alike().certificate).clone()
}

#[test]
fn what_grows_without_end_in_an_address_is_not_unpacked() {
    let mut packed = flate2::write::DeflateEncoder::new(vec![], flate2::Compression::best());
    packed.write_all(&vec![b' '; 50_000_000]).unwrap();
    let bomb = STANDARD.encode(packed.finish().unwrap());
    assert!(bomb.len() < 100_000);
    assert_eq!(from_address(&bomb), Err(BadXml::TooLarge));
    for bad in ["", "!", "AAAA", "////"] {
        assert!(from_address(bad).is_err() || from_address(bad).unwrap().is_empty(), "{bad}");
    }
}

#[test]
fn xmlsec1_takes_the_signature_of_a_request_and_so_do_we() {
    for signer in [ours(), &stranger()] {
        let key = key_of(signer);
        let request = Request {
            id: "_r1",
            destination: "https://bureau-pilotage.example/in?a=1&b=\"<é>\"",
            consumer: CONSUMER,
            issuer: US,
            now: now(),
            anew: false,
            passive: true,
            contexts: &["urn:a".into()],
            format: None,
        };
        let text = request.signed(&key).unwrap();
        assert_eq!(signer.verify(&text, "urn:oasis:names:tc:SAML:2.0:protocol:AuthnRequest"), Ok(()));
        assert!(signer.verify(&text.replace("_r1", "_r2"), "urn:oasis:names:tc:SAML:2.0:protocol:AuthnRequest").is_err());
        let xml = Xml::read(&text).unwrap();
        let signed = check(&xml, std::slice::from_ref(&signer.certificate)).unwrap();
        assert_eq!(signed.certificate(xml.root()), Some(signer.certificate.as_slice()));
        assert!(check(&xml, &[look_alike_certificate()]).is_err());
    }
}

#[test]
fn our_metadata_says_all_that_the_other_team_must_enter_and_is_signed() {
    let party = |signs| Party {
        id: "_m1",
        entity_id: US,
        now: now(),
        certificates: &[],
        signs,
        consumers: vec![Consumer {
            answer: CONSUMER.to_owned(),
            sign_out: "https://pass.havrelune.example/.passeur/saml/pilotage/sign-out".to_owned(),
            name_id: Some("urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"),
            title: "Harbour & more",
            attributes: vec!["user", "urn:oid:0.9.2342.19200300.100.1.3"],
        }],
    };
    insta::assert_snapshot!(party(false).xml(None).unwrap().replace("><", ">\n<"));
    let key = key_of(ours());
    let certificates = [ours().certificate.clone(), look_alike_certificate()];
    let text = Party { certificates: &certificates, ..party(true) }.xml(Some(&key)).unwrap();
    assert_eq!(ours().verify(&text, "urn:oasis:names:tc:SAML:2.0:metadata:EntityDescriptor"), Ok(()));
    let xml = Xml::read(&text).unwrap();
    assert!(check(&xml, &certificates).unwrap().covers(&xml, xml.root()));
    let role = xml.need(xml.root(), METADATA, "SPSSODescriptor").unwrap();
    assert_eq!(xml.children(role, METADATA, "KeyDescriptor").len(), 4, "both keys, each for both uses");
    assert_eq!(xml.attribute(role, "AuthnRequestsSigned"), Some("true"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]
    #[test]
    fn whatever_stands_in_a_request_is_signed_and_read_back_as_it_was(
        consumer in "[ -~é€\\t\\n]{1,60}", issuer in "[!-~]{1,60}", context in "[ -~]{0,40}", name in "[ -~é]{1,30}"
    ) {
        let key = key_of(ours());
        let contexts = [context.clone()];
        let request = Request {
            id: "_r1", destination: &consumer, consumer: &consumer, issuer: &issuer, now: now(), anew: true, passive: false,
            contexts: &contexts, format: Some(&name),
        };
        let text = request.signed(&key).unwrap();
        let xml = Xml::read(&text).unwrap();
        prop_assert_eq!(xml.attribute(xml.root(), "AssertionConsumerServiceURL"), Some(consumer.as_str()));
        let signed = check(&xml, std::slice::from_ref(&ours().certificate)).unwrap();
        prop_assert!(signed.covers(&xml, xml.root()));
        let out = Head { id: "_o1", destination: &consumer, issuer: &issuer, now: now() };
        let id = NameId { value: name.clone(), format: Some(context.clone()), qualifier: Some(consumer.clone()), sp_qualifier: None };
        let text = out.signed(&out.request(&id, Some(&context)), &key).unwrap();
        let xml = Xml::read(&text).unwrap();
        prop_assert!(check(&xml, std::slice::from_ref(&ours().certificate)).unwrap().covers(&xml, xml.root()));
    }
}
