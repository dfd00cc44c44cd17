//! Messages to sign out: ours as xmlsec1 takes them, the provider's only when they are its own, fresh and for us.

use passeur_protocols::saml::binding::{Message, form_value, redirect};
use passeur_protocols::saml::response::NameId;
use passeur_protocols::saml::sign_out::{Answered, BadSignOut, Carried, Expected, Head, read_answer, read_request};
use passeur_protocols::saml::write::Signs;

use crate::peer::*;
use crate::requests::key_of;

const HERE: &str = "https://pass.havrelune.example/.passeur/saml/pilotage/sign-out";

/// A message as the provider would write it.
fn head<'a>(id: &'a str) -> Head<'a> {
    Head { id, destination: HERE, issuer: ISSUER, now: now() }
}

fn name() -> NameId {
    let format = Some("urn:oasis:names:tc:SAML:2.0:nameid-format:persistent".to_owned());
    NameId { value: "p-1001 <&>".to_owned(), format, qualifier: Some("q".to_owned()), sp_qualifier: None }
}

fn expected(certificates: &[Vec<u8>]) -> Expected<'_> {
    Expected { issuer: ISSUER, address: HERE, now: now(), skew: chrono::Duration::seconds(30), certificates, opener: our_keys() }
}

fn certificates() -> [Vec<u8>; 1] {
    [provider().certificate.clone()]
}

#[test]
fn a_request_of_the_provider_is_read_by_either_way() {
    let key = key_of(provider());
    let text = head("_o1").request(&name(), Some("s-7"));
    let form = form_value(&head("_o1").signed(&text, &key).unwrap());
    let address = redirect(HERE, Message::Request, &text, Some("state"), Some(&key)).unwrap();
    let query = address.split_once('?').unwrap().1;
    for carried in [Carried::Form(&form), Carried::Address(query)] {
        let out = read_request(carried, &expected(&certificates())).unwrap();
        assert_eq!((out.id.as_str(), &out.name, out.sessions.as_slice()), ("_o1", &name(), &["s-7".to_owned()][..]));
        assert!(out.remember_until > now());
    }
    let encrypted = text
        .replace("<saml:NameID", "<saml:EncryptedID><saml:NameID xmlns:saml=\"urn:oasis:names:tc:SAML:2.0:assertion\"")
        .replace("</saml:NameID>", "</saml:NameID></saml:EncryptedID>");
    let closed = ours().encrypt(&encrypted, "NameID", &GCM);
    let form = form_value(&head("_o1").signed(&closed, &key).unwrap());
    assert_eq!(read_request(Carried::Form(&form), &expected(&certificates())).unwrap().name.value, "p-1001 <&>");
}

#[test]
fn nobody_is_signed_out_by_anybody_else() {
    let key = key_of(provider());
    let text = head("_o1").request(&name(), None);
    let signed = |text: &str| form_value(&head("_o1").signed(text, &key).unwrap());
    let judge = |form: &str| read_request(Carried::Form(form), &expected(&certificates())).unwrap_err();
    assert!(matches!(judge(&form_value(&text)), BadSignOut::Signature(_)), "not signed");
    let stranger = key_of(&look_alike());
    assert!(matches!(judge(&form_value(&head("_o1").signed(&text, &stranger).unwrap())), BadSignOut::Signature(_)));
    let whole = head("_o1").signed(&text, &key).unwrap();
    assert!(matches!(judge(&form_value(&whole.replace("p-1001", "p-1002"))), BadSignOut::Signature(_)), "altered");
    let wrapped = whole.replace(
        "<samlp:LogoutRequest",
        "<samlp:LogoutRequest xmlns:samlp=\"urn:oasis:names:tc:SAML:2.0:protocol\" Version=\"2.0\"><samlp:LogoutRequest",
    ) + "</samlp:LogoutRequest>";
    assert!(matches!(judge(&form_value(&wrapped)), BadSignOut::Signature(_) | BadSignOut::Xml(_)), "wrapped");
    assert!(matches!(judge(&signed(&text.replace(HERE, "https://elsewhere.example/"))), BadSignOut::Destination(_)));
    assert!(matches!(judge(&signed(&text.replace(ISSUER, "https://other.example"))), BadSignOut::Issuer(_)));
    assert!(matches!(judge(&signed(&text.replace(&at(5), &at(-1)))), BadSignOut::Time(_)), "over");
    assert!(matches!(judge(&signed(&text.replace(&at(0), &at(3)))), BadSignOut::Time(_)), "not yet");
    assert!(
        matches!(judge(&signed(&text.replace(&at(0), &at(-120)).replace(&at(5), &at(600)))), BadSignOut::Time(_)),
        "an end that is far off"
    );
    let empty = NameId::default();
    assert!(matches!(judge(&signed(&head("_o1").request(&empty, None))), BadSignOut::Nobody));
    assert!(matches!(judge(&signed(&head("_o1").answer("_x", true))), BadSignOut::Form), "another kind of message");
    let unsigned = redirect(HERE, Message::Request, &text, None, None).unwrap();
    let query = unsigned.split_once('?').unwrap().1;
    assert!(matches!(read_request(Carried::Address(query), &expected(&certificates())), Err(BadSignOut::Signature(_))));
    for junk in ["", "x", "PGE+", &form_value("<!DOCTYPE a><a/>"), &form_value(&"<a>".repeat(100))] {
        assert!(matches!(judge(junk), BadSignOut::Xml(_) | BadSignOut::Form), "{junk}");
    }
}

#[test]
fn answers_tell_whether_all_is_ended() {
    let key = key_of(provider());
    let judge = |text: &str| {
        let form = form_value(&head("_a1").signed(text, &key).unwrap());
        read_answer(Carried::Form(&form), &expected(&certificates()))
    };
    let said = |everywhere| Ok(Answered { request: "_o1".to_owned(), everywhere });
    assert_eq!(judge(&head("_a1").answer("_o1", true)), said(true));
    assert_eq!(judge(&head("_a1").answer("_o1", false)), said(false));
    let partly = head("_a1").answer("_o1", false).replace("status:Responder", "status:Success");
    assert_eq!(judge(&partly), said(false));
    assert!(judge(&head("_a1").request(&name(), None)).is_err());
}

#[test]
fn xmlsec1_takes_what_we_write() {
    let key = key_of(ours());
    let ours_to = Head { id: "_o9", destination: "https://bureau-pilotage.example/out", issuer: US, now: now() };
    for (name, text) in
        [("LogoutRequest", ours_to.request(&name(), Some("s-7"))), ("LogoutResponse", ours_to.answer("_x", false))]
    {
        let signed = ours_to.signed(&text, &key).unwrap();
        assert_eq!(ours().verify(&signed, &format!("urn:oasis:names:tc:SAML:2.0:protocol:{name}")), Ok(()));
    }
    assert_eq!(key.certificate(), ours().certificate);
}
