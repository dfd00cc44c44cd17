//! Signature wrapping: a signed original is moved where it still verifies, and a forged one stands where it is read. The eight
//! classic shapes, and a few of their relatives.

use crate::peer::*;

/// The forged assertion: somebody else's name, another identifier, no signature.
fn forged(id: &str) -> String {
    assertion("").replacen("p-1001", "p-9999", 1).replacen("_assertion-1", id, 1)
}

/// A sound response, the text of its assertion, and of the signature in it.
fn taken_apart() -> (String, String, String) {
    let whole = signed_assertion(&[]);
    let from = whole.find("<saml:Assertion").unwrap();
    let to = whole.find("</saml:Assertion>").unwrap() + "</saml:Assertion>".len();
    let assertion = whole[from..to].to_owned();
    let from = assertion.find("<ds:Signature").unwrap();
    let to = assertion.find("</ds:Signature>").unwrap() + "</ds:Signature>".len();
    let signature = assertion[from..to].to_owned();
    (whole, assertion, signature)
}

fn believes_nobody(text: &str, shape: &str) {
    if let Ok(a) = judge(text) {
        panic!("{shape}: believed {:?}\n{text}", a.name);
    }
}

#[test]
fn the_classic_shapes_are_refused() {
    let (whole, original, signature) = taken_apart();
    let bare = original.replacen(&signature, "", 1);
    let around = |inside: &str| whole.replacen(&original, inside, 1);
    let evil = forged("_evil");
    let evil_with = |inside: &str| evil.replacen("<saml:Subject>", &format!("{inside}<saml:Subject>"), 1);
    let object =
        |inside: &str| signature.replacen("</ds:Signature>", &format!("<ds:Object>{inside}</ds:Object></ds:Signature>"), 1);
    let extensions = |inside: &str| format!("<samlp:Extensions>{inside}</samlp:Extensions>");
    let response = whole.clone();
    let signed_response =
        provider().sign(&crate::peer::response(&template("_response-1", RSA), &assertion("")), &["_response-1"]);
    let inner = signed_response.clone();
    let forged_response = |inside: &str| {
        crate::peer::response("", &forged("_evil")).replacen("ID=\"_response-1\"", "ID=\"_evil-response\"", 1).replacen(
            "<samlp:Status>",
            &format!("{inside}<samlp:Status>"),
            1,
        )
    };
    let of_response = {
        let from = signed_response.find("<ds:Signature").unwrap();
        let to = signed_response.find("</ds:Signature>").unwrap() + "</ds:Signature>".len();
        signed_response[from..to].to_owned()
    };
    for (shape, text) in [
        // 1, 2: a forged response around, or beside, a signed one.
        (
            "a signed response inside a forged one's signature",
            forged_response(&of_response.replacen(
                "</ds:Signature>",
                &format!("<ds:Object>{}</ds:Object></ds:Signature>", inner.replacen(&of_response, "", 1)),
                1,
            )),
        ),
        (
            "a signed response inside a forged one",
            forged_response(&format!("{of_response}{}", inner.replacen(&of_response, "", 1))),
        ),
        // 3, 4: a forged assertion before the original, or around it.
        ("a forged assertion before the original", around(&format!("{evil}{original}"))),
        ("a forged assertion after the original", around(&format!("{original}{evil}"))),
        ("the original inside a forged assertion", around(&evil_with(&original))),
        // 5, 6: the original's signature in the forged one.
        ("the signature in the forged assertion, the original beside it", around(&format!("{}{bare}", evil_with(&signature)))),
        ("the original in the signature of the forged one", around(&evil_with(&object(&bare)))),
        // 7, 8: the original in an extension, or in an object beside.
        (
            "the original in an extension",
            response.replacen("<samlp:Status>", &format!("{}<samlp:Status>", extensions(&original)), 1).replacen(
                &format!("</samlp:Status>{original}"),
                &format!("</samlp:Status>{evil}"),
                1,
            ),
        ),
        ("the original in an object of the forged one's signature", around(&evil_with(&object(&original)))),
        // Relatives.
        ("the same identifier twice", around(&format!("{}{original}", forged("_assertion-1")))),
        ("the signature beside the assertion", around(&format!("{signature}{bare}"))),
        ("a signature of the whole document", whole.replacen("URI=\"#_assertion-1\"", "URI=\"\"", 1)),
        ("a signature that names a file", whole.replacen("URI=\"#_assertion-1\"", "URI=\"file:///etc/passwd\"", 1)),
        ("a signature that names an address", whole.replacen("URI=\"#_assertion-1\"", "URI=\"http://127.0.0.1:9/x\"", 1)),
        (
            "a pointer instead of an identifier",
            whole.replacen("URI=\"#_assertion-1\"", "URI=\"#xpointer(id('_assertion-1'))\"", 1),
        ),
        ("two references", whole.replacen("<ds:Reference", "<ds:Reference URI=\"#_response-1\"/><ds:Reference", 1)),
        ("an assertion around the response", original.replacen("<saml:Subject>", &format!("{response}<saml:Subject>"), 1)),
    ] {
        assert_ne!(text, whole, "{shape}");
        believes_nobody(&text, shape);
    }
}

#[test]
fn the_key_in_the_message_counts_for_nothing() {
    let with_key = template("_assertion-1", RSA).replacen(
        "<ds:SignatureValue/>",
        "<ds:SignatureValue/><ds:KeyInfo><ds:KeyValue/></ds:KeyInfo>",
        1,
    );
    let text = look_alike().sign(&response("", &assertion(&with_key)), &["_assertion-1"]);
    assert!(text.contains("KeyValue"), "{text}");
    assert_eq!(refused(&text), "signature");
}

mod changed {
    use std::sync::OnceLock;

    use proptest::prelude::*;

    use super::*;

    fn sound() -> &'static str {
        static TEXT: OnceLock<String> = OnceLock::new();
        TEXT.get_or_init(|| signed_assertion(&[]))
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(300))]

        /// Whatever a stranger changes: what is believed then is what the provider said.
        #[test]
        fn no_change_of_the_text_makes_another_person(at in 0usize..4_000, cut in 0usize..40, put in "[ -~<>&;\"'/=a-zA-Z#!\\[\\]-]{0,20}") {
            let text = sound();
            let from = text.floor_char_boundary(at.min(text.len()));
            let to = text.floor_char_boundary((from + cut).min(text.len()));
            let changed = format!("{}{put}{}", &text[..from], &text[to..]);
            if let Ok(believed) = judge(&changed) {
                prop_assert_eq!(believed, judge(text).unwrap());
            }
        }

        /// Two pieces of the document exchanged: elements move, and nobody is believed who was not vouched for.
        #[test]
        fn no_move_of_a_piece_makes_another_person(a in 0usize..4_000, b in 0usize..4_000, long in 1usize..600) {
            let text = sound();
            let from = text.floor_char_boundary(a.min(text.len()));
            let to = text.floor_char_boundary((from + long).min(text.len()));
            let piece = &text[from..to];
            let rest = format!("{}{}", &text[..from], &text[to..]);
            let into = rest.floor_char_boundary(b.min(rest.len()));
            let moved = format!("{}{piece}{}", &rest[..into], &rest[into..]);
            if let Ok(believed) = judge(&moved) {
                prop_assert_eq!(believed, judge(text).unwrap());
            }
        }
    }
}

#[test]
fn a_response_full_of_signatures_is_refused_before_any_is_checked() {
    let one = |i: usize| {
        let id = format!("_more-{i}");
        format!("<samlp:Extensions ID=\"{id}\">{}</samlp:Extensions>", template(&id, RSA))
    };
    let many: String = (0..4).map(one).collect();
    let text = signed_assertion(&[("<samlp:Status>", &format!("{many}<samlp:Status>"))]);
    let why = judge(&text).unwrap_err();
    assert!(why.to_string().contains("more than four"), "{why}");
}
