//! Headers: what reaches the application, and why a header does not.

use passeur_core::decide::{Decision, fold};
use passeur_core::evidence::{Evidence, LookUpState};
use passeur_core::site::Site;
use passeur_core::step::{Lang, Param, StepCode, Story, sentence};
use serde_json::json;

use crate::harbour::{SITE, anouk, entry, found, now, read, site};

/// Headers that an admitted person's requests carry, and the sentences about those that are not there.
fn delivered(site: &Site, evidence: &Evidence) -> (Vec<(String, String)>, Vec<String>) {
    let mut story = Story::default();
    let Decision::Admitted(a) = fold(site, site.gate("berths").unwrap(), evidence, &now(), &mut story) else {
        panic!("{:?}", story.steps.last())
    };
    let headers = a.headers().iter().map(|h| (h.name.clone(), String::from_utf8_lossy(&h.value).into_owned())).collect();
    let omitted = story.steps.iter().filter(|s| s.code == StepCode::HeaderOmitted).map(|s| sentence(s, Lang::En)).collect();
    (headers, omitted)
}

/// The demo's site with these headers only.
fn with_headers(headers: &str) -> Site {
    let begin = SITE.find("[[delivery.header]]").unwrap();
    let end = SITE.find("[[gate]]").unwrap();
    read(&format!("{}{headers}\n{}", &SITE[..begin], &SITE[end..]))
}

fn header(body: &str) -> String {
    format!("[[delivery.header]]\nname = \"X-Test\"\n{body}\n")
}

fn value(site: &Site, evidence: &Evidence) -> Result<String, String> {
    let (headers, mut omitted) = delivered(site, evidence);
    headers.into_iter().find(|(n, _)| n == "X-Test").map(|(_, v)| v).ok_or_else(|| omitted.pop().unwrap_or_default())
}

#[test]
fn the_berth_ledger_is_told_who_comes() {
    let (headers, omitted) = delivered(&site(), &anouk());
    let want = [
        ("X-Harbour-User", "anouk"),
        ("X-Harbour-Name", "Anouk Maren"),
        ("X-Harbour-Staff-Number", "4711"),
        ("X-Harbour-Desk", "Pilots' watch"),
        ("X-Harbour-Groups", "berth-access,pilots"),
    ];
    assert_eq!(headers, want.map(|(n, v)| (n.to_owned(), v.to_owned())));
    assert_eq!(omitted.len(), 1, "no role was given: {omitted:?}");
}

#[test]
fn a_value_comes_from_exactly_one_source_in_the_encoding_asked_for() {
    for (body, want) in [
        ("attribute = \"user\"", "anouk"),
        ("groups = true", "berth-access,pilots"),
        ("groups = true\njoin = \"; \"", "berth-access; pilots"),
        ("constant = \"the harbour\"", "the harbour"),
        ("template = \"{name} <{mail}> {{{staff-number}}}\"", "Anouk Maren <anouk@havrelune.example> {4711}"),
        ("attribute = \"name\"\nencoding = \"percent\"", "Anouk%20Maren"),
        ("attribute = \"name\"\nencoding = \"base64\"", "QW5vdWsgTWFyZW4="),
        ("attribute = \"subject\"", "p-1001"),
        ("constant = \"quays, north\"", "quays, north"),
        ("template = \"{name}, {user}\"", "Anouk Maren, anouk"),
        ("attribute = \"provider\"", "pilotage"),
    ] {
        assert_eq!(value(&with_headers(&header(body)), &anouk()).as_deref(), Ok(want), "{body}");
    }
}

#[test]
fn what_is_missing_or_unfit_is_left_out_with_its_own_reason() {
    let named = |name: serde_json::Value| {
        let mut e = anouk();
        e.claims.insert("name".into(), name);
        e
    };
    let attribute = with_headers(&header("attribute = \"name\""));
    let list = with_headers(&header("attribute = \"name\"\njoin = \",\""));
    let latin = with_headers(&header("attribute = \"name\"\nencoding = \"latin-1\""));
    let template = with_headers(&header("template = \"Mx {name}\""));
    let groups = with_headers(&header("groups = true"));
    let listed = |names: &[&str]| {
        let all: Vec<_> = names.iter().map(|n| (*n, None)).collect();
        found(LookUpState::Answered { entry: entry(&all) })
    };
    let long = "é".repeat(5_000);
    let mut out = vec![];
    for (what, site, evidence) in [
        ("not released", &attribute, named(json!(null))),
        ("blank", &attribute, named(json!("  "))),
        ("an object", &attribute, named(json!({"en": "Anouk"}))),
        ("a list with an object", &attribute, named(json!(["Anouk", {}]))),
        ("a line break", &attribute, named(json!("Anouk\r\nX-Harbour-Roles: planner"))),
        ("a zero byte", &attribute, named(json!("Anouk\u{0}"))),
        ("two where one is told", &attribute, named(json!(["Anouk", "Maren"]))),
        ("a comma in a list", &list, named(json!("Maren, Anouk"))),
        ("too long", &attribute, named(json!(long))),
        ("outside latin-1", &latin, named(json!("Anouk 港"))),
        ("missing in a template", &template, named(json!(null))),
        ("a line break in a template", &template, named(json!("Anouk\n"))),
        ("a separator in a group", &groups, listed(&["berth-access", "a,admin"])),
    ] {
        out.push(format!("{what}: {}", value(site, &evidence).unwrap_err()));
    }
    insta::assert_snapshot!(out.join("\n"));
}

/// A name is not a list, whatever it holds.
#[test]
fn one_value_is_told_as_it_is() {
    let mut jean = anouk();
    jean.claims.insert("name".into(), json!("Dupré, Jean"));
    assert_eq!(value(&with_headers(&header("attribute = \"name\"")), &jean).as_deref(), Ok("Dupré, Jean"));
    let mut two = anouk();
    two.claims.insert("name".into(), json!(["Anouk", "Maren"]));
    assert_eq!(value(&with_headers(&header("attribute = \"name\"\njoin = \";\"")), &two).as_deref(), Ok("Anouk;Maren"));
}

#[test]
fn a_header_that_must_be_there_refuses_the_person() {
    let site = with_headers(&header("attribute = \"name\"\nmissing = \"refuse\""));
    let mut nameless = anouk();
    nameless.claims.remove("name");
    let mut story = Story::default();
    let Decision::Refused(r) = fold(&site, site.gate("berths").unwrap(), &nameless, &now(), &mut story) else {
        panic!("admitted")
    };
    assert_eq!(r.code, StepCode::HeaderRefused);
    assert_eq!(story.steps.last().unwrap().params["reason"], Param::reason("not-released"));
    assert!(matches!(fold(&site, site.gate("berths").unwrap(), &anouk(), &now(), &mut story), Decision::Admitted(_)));
}

#[test]
fn a_member_that_holds_the_separator_is_escaped_where_asked() {
    let site = with_headers(&header("groups = true\non-separator = \"escape\""));
    let e = found(LookUpState::Answered { entry: entry(&[("berth-access", None), ("a,admin", None), ("100%", None)]) });
    assert_eq!(value(&site, &e).as_deref(), Ok("100%25,a%2Cadmin,berth-access"));
}

#[test]
fn a_new_value_is_a_new_decision() {
    let digest = |e: &Evidence| fold(&site(), site().gate("berths").unwrap(), e, &now(), &mut Story::default()).digest();
    let mut renamed = anouk();
    renamed.claims.insert("name".into(), json!("Anouk Moreau"));
    assert_eq!(digest(&anouk()), digest(&anouk()));
    assert_ne!(digest(&anouk()), digest(&renamed));
    let mut other = anouk();
    other.claims.insert("unused".into(), json!("x"));
    assert_eq!(digest(&anouk()), digest(&other), "what no rule and no header uses changes no decision");
}
