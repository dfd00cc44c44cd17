//! A provider's description of itself: sound, signed, and wrong in one way after another.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use passeur_core::x509::{certificate, fingerprint};
use passeur_protocols::saml::metadata::{BadMetadata, POST, REDIRECT, read};
use passeur_protocols::saml::signature::BadSignature;

use crate::peer::*;

fn key(r#use: &str, der: &[u8]) -> String {
    format!(
        "<md:KeyDescriptor{}><ds:KeyInfo xmlns:ds=\"http://www.w3.org/2000/09/xmldsig#\"><ds:X509Data><ds:X509Certificate>\n{}\n\
         </ds:X509Certificate></ds:X509Data></ds:KeyInfo></md:KeyDescriptor>",
        r#use,
        STANDARD.encode(der)
    )
}

fn document() -> String {
    format!(
        "<md:EntityDescriptor xmlns:md=\"urn:oasis:names:tc:SAML:2.0:metadata\" ID=\"_md-1\" entityID=\"{ISSUER}\" validUntil=\"{}\">\
         <md:IDPSSODescriptor protocolSupportEnumeration=\"urn:oasis:names:tc:SAML:2.0:protocol\" WantAuthnRequestsSigned=\"true\">\
         {}{}{}<md:SingleLogoutService Binding=\"{REDIRECT}\" Location=\"https://bureau-pilotage.example/out\"/>\
         <md:NameIDFormat>urn:oasis:names:tc:SAML:2.0:nameid-format:persistent</md:NameIDFormat>\
         <md:SingleSignOnService Binding=\"urn:oasis:names:tc:SAML:2.0:bindings:SOAP\" Location=\"ftp://x\"/>\
         <md:SingleSignOnService Binding=\"{REDIRECT}\" Location=\"https://bureau-pilotage.example/in\"/>\
         <md:SingleSignOnService Binding=\"{POST}\" Location=\"http://bureau-pilotage.localhost:8641/in\"/>\
         </md:IDPSSODescriptor></md:EntityDescriptor>",
        at(60),
        key(" use=\"signing\"", &provider().certificate),
        key("", &stranger_certificate()),
        key(" use=\"encryption\"", &look_alike().certificate),
    )
}

fn stranger_certificate() -> Vec<u8> {
    use std::sync::OnceLock;
    static DER: OnceLock<Vec<u8>> = OnceLock::new();
    DER.get_or_init(|| stranger().certificate).clone()
}

#[test]
fn a_provider_is_read_with_all_the_keys_it_signs_with() {
    let p = read(&document(), Some(ISSUER), None, now()).unwrap();
    assert_eq!(p.certificates, [provider().certificate.clone(), stranger_certificate()]);
    let bindings: Vec<&str> = p.sign_on.iter().map(|e| e.binding.as_str()).collect();
    assert_eq!((bindings, p.sign_out.len(), p.formats.len(), p.wants_signed), (vec![REDIRECT, POST], 1, 1, true));
    assert_eq!(p.valid_until.map(|u| u.format("%Y-%m-%dT%H:%M:%SZ").to_string()), Some(at(60)));
}

#[test]
fn what_says_nothing_is_left_out_and_one_in_a_wrapping_is_one() {
    let whole = document();
    let plain = read(&whole, Some(ISSUER), None, now()).unwrap();
    let styled = format!(
        "\u{feff}<?xml version=\"1.0\"?>\n<?xml-stylesheet href=\"x.xsl\"?><!-- made by hand: <b> & \"x\" -->\n{whole}<!-- end -->"
    );
    let cut = whole.replacen("<ds:X509Certificate>\n", "<ds:X509Certificate>\n<!-- the old one -->", 1);
    let open = "<md:EntitiesDescriptor xmlns:md=\"urn:oasis:names:tc:SAML:2.0:metadata\" Name=\"harbour\">";
    let wrapped = format!("{open}{whole}</md:EntitiesDescriptor>");
    for text in [styled, cut, wrapped.clone()] {
        assert_eq!(read(&text, Some(ISSUER), None, now()).as_ref(), Ok(&plain), "{}", &text[..120]);
    }
    // The wrapping's own end counts, and of several nobody says which.
    let over = wrapped.replacen(" Name=\"harbour\"", &format!(" validUntil=\"{}\"", at(-1)), 1);
    assert!(matches!(read(&over, Some(ISSUER), None, now()), Err(BadMetadata::TooLate(_))));
    let two = format!("{open}{whole}{}</md:EntitiesDescriptor>", whole.replace("_md-1", "_md-2"));
    assert_eq!(read(&two, Some(ISSUER), None, now()), Err(BadMetadata::Many));
    // What never ends is told by the parser; what stands in text stays.
    assert!(read(&whole.replacen("<md:NameIDFormat>", "<!-- <md:NameIDFormat>", 1), None, None, now()).is_err());
    let kept = whole.replacen("https://bureau-pilotage.example/out", "https://bureau-pilotage.example/out?a=--&gt;", 1);
    assert_eq!(read(&kept, None, None, now()).unwrap().sign_out[0].location, "https://bureau-pilotage.example/out?a=-->");
    // A comment in signed metadata is outside what its signature is made over; an instruction within it breaks it.
    let with_template = whole.replacen("<md:IDPSSODescriptor", &format!("{}<md:IDPSSODescriptor", template("_md-1", RSA)), 1);
    let signed = provider().sign(&with_template, &["_md-1"]);
    let signers = [provider().certificate.clone()];
    assert!(
        read(&signed.replacen("<md:IDPSSODescriptor", "<!-- x --><md:IDPSSODescriptor", 1), None, Some(&signers), now()).is_ok()
    );
}

#[test]
fn what_is_wrong_is_named() {
    let whole = document();
    let edit = |old: &str, new: &str| {
        assert!(whole.contains(old), "{old}");
        read(&whole.replacen(old, new, 1), None, None, now())
    };
    assert!(matches!(read(&whole, Some("https://other.example"), None, now()), Err(BadMetadata::Other { .. })));
    assert!(matches!(edit(&at(60), &at(-1)), Err(BadMetadata::TooLate(_))));
    assert!(matches!(edit(&at(60), "soon"), Err(BadMetadata::Xml(_))));
    assert!(matches!(edit("SAML:2.0:protocol\"", "SAML:1.1:protocol\""), Err(BadMetadata::NotAProvider)));
    assert!(matches!(
        edit("https://bureau-pilotage.example/in", "http://bureau-pilotage.example/in"),
        Err(BadMetadata::Address(_))
    ));
    assert!(matches!(edit("https://bureau-pilotage.example/in", "javascript:alert(1)"), Err(BadMetadata::Address(_))));
    assert!(matches!(edit(&STANDARD.encode(&provider().certificate), "AAAA"), Err(BadMetadata::Certificate)));
    assert!(matches!(edit(&format!("entityID=\"{ISSUER}\""), "entityID=\"\""), Err(BadMetadata::Xml(_))));
    let none = whole
        .replace("use=\"signing\"", "use=\"encryption\"")
        .replace("<md:KeyDescriptor>", "<md:KeyDescriptor use=\"encryption\">");
    assert_eq!(read(&none, None, None, now()), Err(BadMetadata::NoCertificate));
    assert_eq!(
        read(&whole.replace("SingleSignOnService", "ArtifactResolutionService"), None, None, now()),
        Err(BadMetadata::NoAddress)
    );
    let many = "<md:EntitiesDescriptor xmlns:md=\"urn:oasis:names:tc:SAML:2.0:metadata\"/>";
    assert_eq!(read(many, None, None, now()), Err(BadMetadata::Many));
}

#[test]
fn where_a_signer_is_named_nothing_unsigned_is_read() {
    let start = "<md:IDPSSODescriptor";
    let with_template = document().replacen(start, &format!("{}{start}", template("_md-1", RSA)), 1);
    let signed = provider().sign(&with_template, &["_md-1"]);
    let signers = [provider().certificate.clone()];
    assert!(read(&signed, Some(ISSUER), Some(&signers), now()).is_ok());
    assert_eq!(read(&document(), None, Some(&signers), now()), Err(BadMetadata::Signature(BadSignature::NotSigned)));
    let others = [stranger_certificate()];
    assert!(matches!(read(&signed, None, Some(&others), now()), Err(BadMetadata::Signature(_))));
    let moved = signed.replacen("bureau-pilotage.example/in", "evil.example/in", 1);
    assert!(matches!(read(&moved, None, Some(&signers), now()), Err(BadMetadata::Signature(_))));
}

#[test]
fn a_certificate_is_taken_in_whatever_it_is_handed_over_in() {
    let der = &provider().certificate;
    let base64 = STANDARD.encode(der);
    let lines: String = base64.as_bytes().chunks(64).map(|l| format!("{}\r\n", std::str::from_utf8(l).unwrap())).collect();
    for text in [
        base64.clone(),
        lines.clone(),
        format!("-----BEGIN CERTIFICATE-----\n{lines}-----END CERTIFICATE-----\n"),
        format!("subject=idp\n-----BEGIN CERTIFICATE-----\n{lines}-----END CERTIFICATE-----"),
    ] {
        assert_eq!(certificate(&text).as_ref(), Some(der));
    }
    for bad in ["", "-----BEGIN CERTIFICATE-----", "AAAA", "%%%"] {
        assert_eq!(certificate(bad), None, "{bad}");
    }
    let print = fingerprint(der);
    assert!(print.len() == 95 && print.split(':').count() == 32, "{print}");
}
