use passeur_protocols::kerberos::{Principal, enctype};
use proptest::prelude::*;

#[test]
fn principals_are_read_as_they_are_written() {
    for (text, components, realm) in [
        ("anouk@HAVRELUNE.EXAMPLE", &["anouk"][..], "HAVRELUNE.EXAMPLE"),
        ("HTTP/pass.havrelune.example@HAVRELUNE.EXAMPLE", &["HTTP", "pass.havrelune.example"], "HAVRELUNE.EXAMPLE"),
        ("a\\/b\\@c\\\\d@R", &["a/b@c\\d"], "R"),
        ("krbtgt/A@B", &["krbtgt", "A"], "B"),
    ] {
        let read = Principal::parse(text).unwrap();
        assert_eq!(
            (read.components.iter().map(String::as_str).collect::<Vec<_>>(), read.realm.as_str()),
            (components.to_vec(), realm),
            "{text}"
        );
        assert_eq!(read.to_string(), text);
    }
    for bad in
        ["", "anouk", "@R", "anouk@", "a//b@R", "/a@R", "a@b@c", "a\\", "a\\nb@R", "a\u{7}@R", &format!("{}@R", "a".repeat(2000))]
    {
        assert_eq!(Principal::parse(bad), None, "{bad:?}");
    }
    assert_eq!(Principal::parse("host/a@R").unwrap().host(), Some("a"));
    assert_eq!(Principal::parse("a@R").unwrap().host(), None);
}

#[test]
fn enctypes_have_their_registered_names() {
    for (number, name, weak) in [
        (18, "aes256-cts-hmac-sha1-96", false),
        (20, "aes256-cts-hmac-sha384-192", false),
        (23, "rc4-hmac", true),
        (3, "des-cbc-md5", true),
    ] {
        assert_eq!((enctype::name(number).as_str(), enctype::is_weak(number), enctype::number(name)), (name, weak, Some(number)));
    }
    assert_eq!((enctype::name(-7), enctype::number("ARCFOUR-HMAC"), enctype::number("x")), ("enctype -7".into(), Some(23), None));
}

proptest! {
    #[test]
    fn whatever_is_displayed_is_read_back(components in prop::collection::vec("[a-zA-Z0-9@/\\\\. é]{1,12}", 1..4), realm in "[A-Z.@\\\\/]{1,12}") {
        let principal = Principal { components, realm };
        prop_assert_eq!(Principal::parse(&principal.to_string()), Some(principal));
    }

    #[test]
    fn nothing_breaks_the_reader(text in ".{0,200}") {
        let _ = Principal::parse(&text);
    }
}
