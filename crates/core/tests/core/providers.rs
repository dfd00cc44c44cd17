//! Providers as the site file describes them: what each protocol wants, and slips caught on entry.

use passeur_core::document::schema::WHOLE;
use passeur_core::document::{Severity, compile};
use passeur_core::site::SamlSource;

/// A sound provider by hand, with its certificate.
fn by_hand() -> String {
    let start = WHOLE.find("name = \"customs-by-hand\"").unwrap();
    let end = start + WHOLE[start..].find("[[").unwrap();
    WHOLE[start..end].to_owned()
}

fn certificate() -> String {
    let text = by_hand();
    text.split_once("certificates = [\"").unwrap().1.split_once('"').unwrap().0.to_owned()
}

/// What is said of a provider written so, in a site without a key of our own.
fn said(provider: &str) -> String {
    let text = format!(
        "format = 1\n[site]\nname = \"S\"\naddress = \"https://pass.example\"\n[[provider]]\nname = \"idp\"\nkind = \"saml\"\n{provider}"
    );
    let (site, findings) = compile(&text);
    assert_eq!(site.is_some(), !findings.iter().any(|f| f.severity == Severity::Error));
    findings.iter().filter(|f| f.place.contains("idp")).map(|f| format!("{f}\n")).collect()
}

#[test]
fn every_mistake_of_a_saml_provider_is_named_on_entry() {
    let cert = certificate();
    let good = format!("sign-on = \"https://idp.example/in\"\ncertificates = [\"{cert}\"]");
    let mut out = String::new();
    for (what, text) in [
        ("sound", format!("issuer = \"urn:example:idp\"\n{good}")),
        ("nothing", "issuer = \"urn:example:idp\"".to_owned()),
        ("both", format!("issuer = \"urn:example:idp\"\nmetadata = \"https://idp.example/md\"\n{good}")),
        ("no certificate", "issuer = \"urn:example:idp\"\nsign-on = \"https://idp.example/in\"".to_owned()),
        ("a fingerprint", "issuer = \"i\"\nsign-on = \"https://idp.example/in\"\ncertificates = [\"AB:CD:EF\"]".to_owned()),
        ("slips", format!("issuer = \"https://https://idp.example\"\nsign-out = \"https//idp.example/out\"\n{good}")),
        ("doubts", format!("issuer = \"https://IdP.example//saml\"\n{good}")),
        ("plain http", format!("issuer = \"idp\"\n{}", good.replace("https://", "http://"))),
        ("transient", format!("issuer = \"idp\"\nname-id = \"transient\"\n{good}")),
        ("transient with a key", format!("issuer = \"idp\"\nname-id = \"transient\"\nsubject = \"uid\"\n{good}")),
        (
            "formats and keys",
            format!(
                "issuer = \"idp\"\nname-id = \"mail\"\nsign-requests = true\nrequire-encrypted = true\nrequire-amr = [\"mfa\"]\n{good}"
            ),
        ),
        ("of the other kind", format!("issuer = \"idp\"\nclient = \"x\"\nscopes = [\"openid\"]\n{good}")),
    ] {
        out += &format!("— {what}\n{}", said(&text));
    }
    insta::assert_snapshot!(out);
}

#[test]
fn certificates_are_the_same_in_any_encoding() {
    let (site, findings) = compile(WHOLE);
    assert!(findings.is_empty(), "{findings:?}");
    let site = site.unwrap();
    let SamlSource::ByHand(by_hand) = &site.provider("customs-by-hand").unwrap().saml().unwrap().source else { panic!() };
    let hexadecimal: Vec<String> = by_hand.certificates[0].iter().map(|b| format!("{b:02X}")).collect();
    let pem = format!("-----BEGIN CERTIFICATE-----\\n{}\\n-----END CERTIFICATE-----\\n", certificate());
    for written in [hexadecimal.join(":"), hexadecimal.concat(), pem] {
        let site = compile(&WHOLE.replace(&certificate(), &written)).0.unwrap();
        let SamlSource::ByHand(again) = &site.provider("customs-by-hand").unwrap().saml().unwrap().source else { panic!() };
        assert_eq!(again, by_hand);
    }
    assert_eq!(site.saml.entity_id, "https://pass.havrelune.example/.passeur/saml/metadata");
    assert!(site.secrets().contains(&("saml-key".to_owned(), "SAML: our own key".to_owned())));
}

#[test]
fn nobody_comes_unasked_to_a_gate_of_an_openid_connect_provider() {
    let (_, findings) = compile(&WHOLE.replace("unasked = false", "unasked = true"));
    assert!(findings.iter().any(|f| f.what.contains("by nothing else does anybody come unasked")), "{findings:?}");
}
