//! Handover sheets, read as the other team reads them.

use passeur_core::document::compile;
use passeur_core::document::schema::WHOLE;
use passeur_core::sheet::{Certificate, Facts, For, sheet};

use crate::harbour::{SITE, site};

fn facts() -> Facts {
    let certificate = |n: &str| Certificate {
        fingerprint: format!("AB:CD:{n}"),
        until: "2029-11-26".into(),
        pem: format!("-----BEGIN-----\n{n}\n-----END-----\n"),
    };
    Facts { of: "edition 3".into(), certificates: vec![certificate("01"), certificate("02")], saml: false }
}

#[test]
fn a_saml_provider_is_told_every_value_with_its_reason() {
    insta::assert_snapshot!(sheet(&site(), For::Provider("pilotage-saml"), None, &facts()).markdown());
}

#[test]
fn an_openid_connect_provider_is_told_what_one_gate_needs() {
    let s = site();
    insta::assert_snapshot!(sheet(&s, For::Provider("pilotage"), s.gate("cranes"), &facts()).markdown());
}

#[test]
fn a_directory_is_told_what_is_read_and_why() {
    insta::assert_snapshot!(sheet(&site(), For::Directory("harbour"), None, &facts()).markdown());
}

#[test]
fn a_realm_is_told_accounts_names_delegation_and_browsers_each_with_its_proof() {
    let of = |name: &str| sheet(&site(), For::Realm(name), None, &facts());
    insta::assert_snapshot!(of("HAVRELUNE.EXAMPLE").markdown());
    // Another realm, whose people are taken, only has to trust ours.
    let trusted = of("AGENTS.EXAMPLE");
    assert!(trusted.connected && trusted.parts.iter().all(|p| p.code != "enter"), "{trusted:?}");
    assert!(trusted.markdown().contains("krbtgt/HAVRELUNE.EXAMPLE@AGENTS.EXAMPLE"));
    let all = of("HAVRELUNE.EXAMPLE");
    let proven = all.parts.iter().filter(|p| p.code != "send-back").flat_map(|p| &p.rows);
    assert!(proven.into_iter().all(|r| !r.check.is_empty()), "a value that nothing proves");
    assert!(all.html().contains("<th>check</th>"));
}

#[test]
fn an_application_is_told_what_it_gets() {
    let s = compile(WHOLE).0.unwrap();
    insta::assert_snapshot!(sheet(&s, For::Application(s.gate("berths").unwrap()), None, &facts()).markdown());
}

#[test]
fn a_sheet_is_there_before_anything_is_and_says_so() {
    for whom in [For::Provider("coastguard"), For::Directory("coastguard"), For::Realm("COASTGUARD.EXAMPLE")] {
        let s = sheet(&site(), whom, None, &facts());
        assert!(!s.connected && s.state.contains("before it is connected"), "{}", s.state);
        assert!(s.parts.iter().all(|p| !p.rows.is_empty()) && s.steps.len() >= 3);
    }
    let before = sheet(&site(), For::Provider("coastguard"), None, &Facts { saml: true, ..facts() });
    assert!(before.markdown().contains("/.passeur/saml/coastguard/answer"));
}

#[test]
fn nothing_escapes_its_cell_in_markdown_or_in_the_page() {
    let evil = "name = \"X | <b> `\u{202e}\"";
    let s = compile(&SITE.replacen("name = \"Harbour authority of Havrelune\"", evil, 1)).0.unwrap();
    let of = sheet(&s, For::Provider("pilotage-saml"), None, &facts());
    let (markdown, page) = (of.markdown(), of.html());
    for line in markdown.lines().filter(|l| l.starts_with("| ")) {
        assert_eq!(line.replace("\\|", "").matches('|').count(), 4, "{line}");
    }
    assert!(!page.contains("<b>") && page.contains("&lt;b&gt;") && !page.contains('\u{202e}'), "{page}");
    assert!(page.contains("-----BEGIN-----\n01"), "a certificate keeps its lines");
}
