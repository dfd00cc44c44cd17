//! What is encrypted for us, by xmlsec1: opened where it should be, and closed for everything else.

use passeur_protocols::saml::encryption::NotOpened;
use passeur_protocols::saml::response::{Assertion, BadResponse, check};

use crate::peer::*;

/// A response whose signed assertion is encrypted.
fn sealed(method: &Encryption) -> String {
    let inner = assertion(&template("_assertion-1", RSA));
    let signed = provider().sign(&response("", &inner), &["_assertion-1"]);
    seal(&signed, method)
}

/// Puts the assertion of a response into an EncryptedAssertion, and closes it.
fn seal(text: &str, method: &Encryption) -> String {
    let wrapped = text
        .replace("<saml:Assertion", "<saml:EncryptedAssertion><saml:Assertion")
        .replace("</saml:Assertion>", "</saml:Assertion></saml:EncryptedAssertion>");
    ours().encrypt(&wrapped, "Assertion", method)
}

fn strictly(text: &str) -> Result<Assertion, BadResponse> {
    let certificates = [provider().certificate.clone()];
    check(text, &passeur_protocols::saml::response::Expected { encrypted: true, ..expected(&certificates) })
}

#[test]
fn an_encrypted_assertion_is_opened_and_checked_like_any_other() {
    let short = Encryption { session: "aes-128", cipher: "http://www.w3.org/2009/xmlenc11#aes128-gcm", ..GCM };
    let signed = provider().sign(&response("", &assertion(&template("_assertion-1", RSA))), &["_assertion-1"]);
    let (before, rest) = signed.split_once("<saml:Assertion").unwrap();
    let (inside, after) = rest.split_once("</saml:Assertion>").unwrap();
    let newer = encrypted_newer(&format!("<saml:Assertion{inside}</saml:Assertion>"));
    let newer = format!("{before}<saml:EncryptedAssertion>{newer}</saml:EncryptedAssertion>{after}");
    // What is encrypted as a document of its own begins like one.
    let whole =
        encrypted_newer(&format!("\u{feff}<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<saml:Assertion{inside}</saml:Assertion>"));
    let whole = format!("{before}<saml:EncryptedAssertion>{whole}</saml:EncryptedAssertion>{after}");
    for text in [sealed(&GCM), sealed(&short), newer, whole] {
        assert!(!text.contains("p-1001"));
        for a in [judge(&text), strictly(&text)] {
            let a = a.unwrap();
            assert_eq!(a.name.unwrap().value, "p-1001");
            assert!(a.shown.encrypted && a.shown.assertion && !a.shown.response);
            assert_eq!(a.shown.certificate, provider().certificate);
        }
    }
    assert_eq!(strictly(&signed_assertion(&[])), Err(BadResponse::NotEncrypted));
}

#[test]
fn what_is_told_of_a_response_is_opened_and_cannot_be_used_again() {
    let told = passeur_protocols::saml::told::response(&sealed(&GCM), our_keys());
    assert!(told.contains("p-1001") && told.contains("<ds:SignatureValue>…</ds:SignatureValue>"), "{told}");
    assert!(told.contains("<xenc:CipherValue>…</xenc:CipherValue>") && told.len() < 8_000, "{told}");
    let odd = |text: &str| passeur_protocols::saml::told::response(text, our_keys());
    for (text, masked) in [
        ("", ""),
        ("<a", "<a"),
        ("<SignatureValue>", "<SignatureValue>…"),
        ("<x:SignatureValue Id='1'>abc</x:SignatureValue>d", "<x:SignatureValue Id='1'>…</x:SignatureValue>d"),
        ("<CipherValue\n>abc</CipherValue\n>", "<CipherValue\n>…</CipherValue\n>"),
        ("é<SignatureValue/>é", "é<SignatureValue/>…"),
        ("SignatureValue>x", "SignatureValue>x"),
    ] {
        assert_eq!(odd(text), masked, "{text}");
    }
}

#[test]
fn the_signature_of_the_whole_counts_for_what_is_encrypted_in_it_and_nothing_else_does() {
    let unsigned = seal(&response(&template("_response-1", RSA), &assertion("")), &GCM);
    let whole = provider().sign(&unsigned, &["_response-1"]);
    let a = judge(&whole).unwrap();
    assert!(a.shown.response && !a.shown.assertion && a.shown.encrypted);
    assert_eq!(refused(&seal(&response("", &assertion("")), &GCM)), "not-signed", "anybody can encrypt for us");
    let other = seal(&look_alike().sign(&response("", &assertion(&template("_assertion-1", RSA))), &["_assertion-1"]), &GCM);
    assert_eq!(refused(&other), "signature");
}

#[test]
fn names_and_attributes_are_opened_one_by_one() {
    let inner = assertion(&template("_assertion-1", RSA))
        .replace("<saml:NameID", "<saml:EncryptedID><saml:NameID xmlns:saml=\"urn:oasis:names:tc:SAML:2.0:assertion\"")
        .replace("</saml:NameID>", "</saml:NameID></saml:EncryptedID>");
    let closed = ours().encrypt(&response("", &inner), "NameID", &GCM);
    let a = judge(&provider().sign(&closed, &["_assertion-1"])).unwrap();
    assert_eq!((a.name.as_ref().unwrap().value.as_str(), a.shown.encrypted), ("p-1001", false));
    let one = "<saml:Attribute Name=\"user\">";
    let inner = assertion(&template("_assertion-1", RSA))
        .replace(one, "<saml:EncryptedAttribute><saml:Attribute Name=\"user\">")
        .replacen("</saml:Attribute>", "</saml:Attribute></saml:EncryptedAttribute>", 1);
    let closed = ours().encrypt(&response("", &inner), "Attribute", &GCM);
    let a = judge(&provider().sign(&closed, &["_assertion-1"])).unwrap();
    assert!(a.attributes.contains(&("user".to_owned(), vec!["anouk".to_owned()])), "{:?}", a.attributes);
}

#[test]
fn weak_ways_of_encrypting_and_whatever_was_altered_stay_closed() {
    let old = [
        Encryption { cipher: "http://www.w3.org/2001/04/xmlenc#aes256-cbc", ..GCM },
        Encryption { transport: "http://www.w3.org/2001/04/xmlenc#rsa-1_5", ..GCM },
    ];
    for method in old {
        assert!(matches!(judge(&sealed(&method)), Err(BadResponse::NotOpened(_))), "{}", method.cipher);
        assert_eq!(refused(&sealed(&method)), "not-opened");
    }
    let good = sealed(&GCM);
    for (old, new) in [
        (
            "#rsa-oaep-mgf1p\"/>",
            "#rsa-oaep-mgf1p\"><ds:DigestMethod Algorithm=\"http://www.w3.org/2001/04/xmlenc#sha256\"/></xenc:EncryptionMethod>",
        ),
        ("#rsa-oaep-mgf1p\"/>", "#rsa-oaep-mgf1p\"><xenc:OAEPparams>AAAA</xenc:OAEPparams></xenc:EncryptionMethod>"),
        ("xmlenc11#aes256-gcm", "xmlenc11#none"),
    ] {
        assert!(good.contains(old), "{old}");
        assert!(matches!(judge(&good.replace(old, new)), Err(BadResponse::NotOpened(NotOpened::Algorithm(_)))), "{new}");
    }
    let values: Vec<&str> = good.split("CipherValue>").collect();
    for i in [1, 3] {
        let value = values[i].trim_end_matches("</xenc:");
        let turned: String = value.chars().rev().filter(|c| c.is_alphanumeric()).collect::<String>() + "==";
        for bad in ["", "AAAA", &value[..40], turned.as_str()] {
            assert_eq!(judge(&good.replace(value, bad)), Err(BadResponse::NotOpened(NotOpened::Closed)), "{bad}");
        }
    }
    let elsewhere = "<xenc:CipherReference URI=\"file:///etc/passwd\"/>";
    let data = good.rfind("<xenc:CipherValue>").unwrap();
    let referring = good[..data].to_owned() + elsewhere + good[data..].split_once("</xenc:CipherValue>").unwrap().1;
    assert_eq!(refused(&referring), "xml");
    let key = good.split_once("<xenc:EncryptedKey>").unwrap().1.split_once("</xenc:EncryptedKey>").unwrap().0.to_owned();
    let key = format!("<xenc:EncryptedKey>{key}</xenc:EncryptedKey>");
    assert_eq!(refused(&good.replace(&key, &key.repeat(5))), "xml", "each key costs a private-key operation");
    assert!(judge(&good.replace(&key, &key.repeat(2))).is_ok(), "a second recipient");
}

#[test]
fn what_was_hidden_in_what_is_encrypted_is_found() {
    let signed = provider().sign(&response("", &assertion(&template("_assertion-1", RSA))), &["_assertion-1"]);
    let good = signed.split_once("<saml:Assertion").unwrap().1.split_once("</saml:Assertion>").unwrap().0;
    let good = format!("<saml:Assertion{good}</saml:Assertion>");
    let evil = assertion("").replace("_assertion-1", "_evil").replace("p-1001", "p-2002");
    let wrapped = evil.replace("<saml:Conditions", &format!("<saml:Advice>{good}</saml:Advice><saml:Conditions"));
    let around = |inside: &str| {
        let text = response("", &format!("<saml:EncryptedAssertion><hull>{inside}</hull></saml:EncryptedAssertion>"));
        let plain = inside.to_owned();
        let closed = ours().encrypt(&text, "hull", &GCM);
        assert!(!closed.contains(&plain));
        closed
    };
    assert_eq!(refused(&around(&good)), "place", "a hull around it");
    let in_place = seal(&response("", &wrapped), &GCM);
    assert!(judge(&in_place).is_err());
    let doctype = "<!DOCTYPE a [<!ENTITY e 'x'>]>";
    assert!(judge(&good.replace("<saml:Assertion", &format!("{doctype}<saml:Assertion"))).is_err());
    let twice = sealed(&GCM).replace("</samlp:Response>", &format!("{good}</samlp:Response>"));
    assert_eq!(refused(&twice), "assertions");
    let elsewhere = sealed(&GCM)
        .replace("<saml:EncryptedAssertion>", "<samlp:Extensions><saml:EncryptedAssertion>")
        .replace("</saml:EncryptedAssertion>", "</saml:EncryptedAssertion></samlp:Extensions>");
    assert_eq!(refused(&elsewhere), "place");
}
