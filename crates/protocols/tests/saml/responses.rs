//! Sound responses in every accepted combination, and one wrong thing after another, each with its own reason.

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{RSA_PSS_SHA256, RsaKeyPair};
use chrono::Duration;
use passeur_protocols::saml::response::{BadResponse, check};
use passeur_protocols::saml::sign_out::Head;
use passeur_protocols::saml::signature::BadSignature;
use passeur_protocols::saml::write::Signs;
use passeur_protocols::saml::xml::{BadXml, SIZE_MAX};

use crate::peer::*;

/// The provider's key, used with the padding of RSA-PSS.
struct Padded;

impl Signs for Padded {
    fn algorithm(&self) -> &'static str {
        "http://www.w3.org/2007/05/xmldsig-more#sha256-rsa-MGF1"
    }
    fn sign(&self, bytes: &[u8]) -> Option<Vec<u8>> {
        let pair = RsaKeyPair::from_pkcs8(&provider().key).ok()?;
        let mut out = vec![0; pair.public_modulus_len()];
        pair.sign(&RSA_PSS_SHA256, &SystemRandom::new(), bytes, &mut out).ok()?;
        Some(out)
    }
    fn certificate(&self) -> &[u8] {
        &provider().certificate
    }
}

#[test]
fn a_response_is_read_whichever_of_its_parts_is_signed() {
    let of_assertion = signed_assertion(&[]);
    let of_response = provider().sign(&response(&template("_response-1", RSA), &assertion("")), &["_response-1"]);
    let of_both = provider().sign(
        &response(&template("_response-1", RSA), &assertion(&template("_assertion-1", RSA))),
        &["_assertion-1", "_response-1"],
    );
    for text in [&of_assertion, &of_response, &of_both] {
        let a = judge(text).unwrap();
        assert_eq!(
            (a.id.as_str(), a.name.as_ref().unwrap().value.as_str(), a.session_index.as_deref()),
            ("_assertion-1", "p-1001", Some("s-7"))
        );
        assert_eq!(a.context.as_deref(), Some("urn:pilotage:two-factors"));
        assert_eq!(a.attributes[0], ("user".into(), vec!["anouk".into()]));
        assert_eq!(a.attributes[1], ("groups".into(), vec!["pilots".into(), "crew".into()]));
        assert_eq!(a.remember_until, now() + Duration::minutes(5) + Duration::seconds(30));
    }
    // While one certificate takes over from another both are good; a curve's as well as a modulus's.
    let other = stranger();
    let certificates = [other.certificate.clone(), provider().certificate.clone()];
    assert!(check(&of_assertion, &expected(&certificates)).is_ok());
    let method = "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha256";
    let by_curve = other.sign(&response("", &assertion(&template("_assertion-1", method))), &["_assertion-1"]);
    assert!(check(&by_curve, &expected(&certificates)).is_ok());
    // By RSA-PSS, which this xmlsec1 does not know.
    let head = Head { id: "_assertion-1", destination: "", issuer: "", now: now() };
    let padded = response("", &head.signed(&assertion(""), &Padded).unwrap());
    assert!(check(&padded, &expected(&certificates)).is_ok(), "{:?}", check(&padded, &expected(&certificates)));
    let wrong = padded.replacen("sha256-rsa-MGF1", "sha384-rsa-MGF1", 1);
    assert_eq!(refused(&wrong), "signature", "another hash than it was made with");
    assert_eq!(refused(&by_curve), "signature", "a key that does not stand in the metadata");
}

#[test]
fn each_wrong_value_has_its_own_reason() {
    let late = at(-2);
    for (old, new, code) in [
        (format!("<saml:Audience>{US}"), "<saml:Audience>https://other.example".to_owned(), "audience"),
        (format!("Recipient=\"{CONSUMER}\""), "Recipient=\"https://other.example/acs\"".into(), "subject"),
        (
            format!("SubjectConfirmationData InResponseTo=\"{REQUEST}\""),
            "SubjectConfirmationData InResponseTo=\"_other\"".into(),
            "subject",
        ),
        (format!("SubjectConfirmationData InResponseTo=\"{REQUEST}\""), "SubjectConfirmationData".into(), "subject"),
        ("cm:bearer".into(), "cm:sender-vouches".into(), "subject"),
        (format!("NotOnOrAfter=\"{}\"/>", at(5)), format!("NotOnOrAfter=\"{late}\"/>"), "expiry"),
        (format!("NotOnOrAfter=\"{}\"/>", at(5)), "/>".into(), "subject"),
        (format!("NotOnOrAfter=\"{}\"/>", at(5)), format!("NotBefore=\"{late}\" NotOnOrAfter=\"{}\"/>", at(5)), "subject"),
        (format!("NotOnOrAfter=\"{}\"><saml:Aud", at(5)), format!("NotOnOrAfter=\"{late}\"><saml:Aud"), "expiry"),
        (format!("Conditions NotBefore=\"{}\"", at(-1)), format!("Conditions NotBefore=\"{}\"", at(2)), "not-before"),
        (format!("AuthnInstant=\"{}\"", at(-1)), format!("AuthnInstant=\"{}\"", at(2)), "not-before"),
        (format!("AuthnInstant=\"{}\"", at(-1)), format!("AuthnInstant=\"{}\" SessionNotOnOrAfter=\"{late}\"", at(-1)), "expiry"),
        (format!("AuthnInstant=\"{}\"", at(-1)), "AuthnInstant=\"2027-01-15T08:00:00+01:00\"".into(), "xml"),
        ("<saml:AudienceRestriction>".into(), "<saml:Condition/><saml:AudienceRestriction>".into(), "condition"),
        (
            format!("<saml:Issuer>{ISSUER}</saml:Issuer><ds"),
            "<saml:Issuer>https://other.example</saml:Issuer><ds".into(),
            "issuer",
        ),
        (
            format!("<saml:Issuer>{ISSUER}</saml:Issuer><samlp:S"),
            "<saml:Issuer>https://other.example</saml:Issuer><samlp:S".into(),
            "issuer",
        ),
        (format!("Destination=\"{CONSUMER}\""), "Destination=\"https://other.example\"".into(), "destination"),
        (format!("InResponseTo=\"{REQUEST}\">"), "InResponseTo=\"_other\">".into(), "in-response-to"),
        (format!("InResponseTo=\"{REQUEST}\">"), ">".into(), "in-response-to"),
        ("p-1001</saml:NameID>".into(), "</saml:NameID>".into(), "subject"),
        ("p-1001</saml:NameID>".into(), "<b xmlns=\"\">p-1001</b></saml:NameID>".into(), "xml"),
    ] {
        assert_eq!(refused(&signed_assertion(&[(&old, &new)])), code, "{old} → {new}");
    }
    let without = |from: &str, to: &str| {
        let text = response("", &assertion(&template("_assertion-1", RSA)));
        let (a, rest) = text.split_once(from).unwrap();
        let (_, b) = rest.split_once(to).unwrap();
        provider().sign(&format!("{a}{b}"), &["_assertion-1"])
    };
    assert_eq!(refused(&without("<saml:AudienceRestriction>", "</saml:AudienceRestriction>")), "audience");
    assert_eq!(refused(&without("<saml:AuthnStatement", "</saml:AuthnStatement>")), "authentication");
    // A signed message must say where it goes.
    let text = response(&template("_response-1", RSA), &assertion("")).replacen(&format!(" Destination=\"{CONSUMER}\""), "", 1);
    assert_eq!(refused(&provider().sign(&text, &["_response-1"])), "destination");
}

#[test]
fn a_provider_that_refuses_is_told_apart_from_our_own_checks() {
    let text = response("", "").replacen(
        "<samlp:StatusCode Value=\"urn:oasis:names:tc:SAML:2.0:status:Success\"/>",
        "<samlp:StatusCode Value=\"urn:oasis:names:tc:SAML:2.0:status:Responder\"><samlp:StatusCode \
         Value=\"urn:oasis:names:tc:SAML:2.0:status:AuthnFailed\"/></samlp:StatusCode><samlp:StatusMessage>not today</samlp:StatusMessage>",
        1,
    );
    let Err(BadResponse::Refused { status, detail }) = judge(&text) else { panic!("believed") };
    assert!(status.ends_with(":Responder") && detail.ends_with(":AuthnFailed: not today"), "{status} {detail}");
}

#[test]
fn what_answers_no_request_is_believed_only_where_that_is_allowed() {
    let text = signed_assertion(&[
        (&format!("SubjectConfirmationData InResponseTo=\"{REQUEST}\""), "SubjectConfirmationData"),
        (&format!(" InResponseTo=\"{REQUEST}\">"), ">"),
    ]);
    assert_eq!(refused(&text), "in-response-to");
    let certificates = [provider().certificate.clone()];
    let mut open = expected(&certificates);
    open.request = None;
    assert!(check(&text, &open).is_ok());
    assert_eq!(check(&signed_assertion(&[]), &open).unwrap_err().code(), "in-response-to", "nobody asked for this one");
}

#[test]
fn clocks_may_differ_a_little_and_no_more() {
    let text = signed_assertion(&[]);
    let certificates = [provider().certificate.clone()];
    for (seconds, good) in [(-89, true), (-91, false), (329, true), (331, false)] {
        let mut moved = expected(&certificates);
        moved.now = now() + Duration::seconds(seconds);
        assert_eq!(check(&text, &moved).is_ok(), good, "{seconds}");
    }
}

#[test]
fn a_changed_byte_and_a_weak_algorithm_are_refused() {
    let text = signed_assertion(&[]);
    assert_eq!(refused(&text.replacen("p-1001", "p-1002", 1)), "signature");
    assert_eq!(refused(&text.replacen("anouk", "lucie", 1)), "signature");
    assert!(matches!(judge(&response("", &assertion(""))), Err(BadResponse::NotSigned)));
    for (old, new) in [
        (RSA, "http://www.w3.org/2000/09/xmldsig#rsa-sha1"),
        (RSA, "http://www.w3.org/2000/09/xmldsig#hmac-sha1"),
        ("http://www.w3.org/2001/04/xmlenc#sha256", "http://www.w3.org/2000/09/xmldsig#sha1"),
        (
            "http://www.w3.org/2001/10/xml-exc-c14n#\"/><ds:SignatureMethod",
            "http://www.w3.org/TR/2001/REC-xml-c14n-20010315\"/><ds:SignatureMethod",
        ),
        ("http://www.w3.org/2000/09/xmldsig#enveloped-signature", "http://www.w3.org/TR/1999/REC-xslt-19991116"),
        ("http://www.w3.org/2000/09/xmldsig#enveloped-signature", "http://www.w3.org/2002/06/xmldsig-filter2"),
    ] {
        assert!(text.contains(old), "{old}");
        let refused = judge(&text.replacen(old, new, 1));
        assert!(matches!(refused, Err(BadResponse::Signature(BadSignature::Algorithm(_)))), "{new}: {refused:?}");
    }
    let none: [Vec<u8>; 0] = [];
    assert_eq!(check(&text, &expected(&none)).unwrap_err().code(), "signature", "no certificate, no belief");
}

#[test]
fn what_two_readers_could_see_differently_is_not_read() {
    let text = signed_assertion(&[]);
    for (bad, reason) in [
        (format!("<!DOCTYPE x [<!ENTITY a \"b\">]>{text}"), BadXml::DocumentType),
        (text.replacen("p-1001", "p-1001<!-- -->", 1), BadXml::Comment),
        (text.replacen("p-1001", "<?x y?>p-1001", 1), BadXml::Instruction),
        (text.replacen("ID=\"_assertion-1\"", "ID=\"_response-1\"", 1), BadXml::SameId("_response-1".into())),
        (text.replacen("Version=\"2.0\"", "xmlns:e=\"urn:e\" e:ID=\"_x\" Version=\"2.0\"", 1), BadXml::ForeignId),
        (format!("{}{}", text, " ".repeat(SIZE_MAX)), BadXml::TooLarge),
    ] {
        assert_eq!(judge(&bad), Err(BadResponse::Xml(reason)));
    }
    let deep = format!("{}{}", "<a>".repeat(100_000), "</a>".repeat(100_000));
    assert_eq!(refused(&deep[..SIZE_MAX]), "xml");
    assert_eq!(refused(&format!("<a>{}</a>", "<b/>".repeat(30_000))), "xml");
    for odd in ["", "nonsense", "<a/>", "\u{0}", "<samlp:Response/>"] {
        assert!(judge(odd).is_err(), "{odd}");
    }
}
