//! Attributes made from others: every source and every transform, what they say when nothing is left, and what they refuse.

use passeur_core::attribute::{Absence, Attribute, Origin};
use passeur_core::decide::{Decision, fold};
use passeur_core::document::{Severity, compile};
use passeur_core::evidence::{Evidence, LookUpState};
use passeur_core::identity::identify;
use passeur_core::mapping::{Octets, VALUES_MAX};
use passeur_core::site::Site;
use passeur_core::step::{Lang, Silent, Story, sentence};
use serde_json::json;

use crate::harbour::{SITE, anouk, entry, look_up, now, read};

const GATE: &str = "delivery = \"ledger\"\n\n[[gate.rule]]\nname = \"berth access\"";

/// The demo's site with mappings below the berth ledger, and one header that hands on what they make.
fn text_with(mappings: &str) -> String {
    let header = "[[delivery.header]]\nname = \"X-Harbour-Made\"\nattribute = \"made\"\n\n# Lists are shared";
    let text = SITE.replacen("# Lists are shared", header, 1);
    let at_gate = format!("delivery = \"ledger\"\n\n{mappings}\n[[gate.rule]]\nname = \"berth access\"");
    assert!(text.contains(GATE));
    text.replacen(GATE, &at_gate, 1)
}

fn site_with(mappings: &str) -> Site {
    read(&text_with(mappings)).with_salts(|name| (name == "salt").then(|| "a long random text".to_owned()))
}

/// Somebody with one more claim, which the provider part of the site maps to `raw`.
fn with_raw(values: serde_json::Value) -> (String, Evidence) {
    let mut who = anouk();
    who.claims.insert("raw".into(), values);
    (SITE.replacen("[provider.attributes]\n", "[provider.attributes]\nraw = \"raw\"\n", 1), who)
}

fn made(site: &Site, who: &Evidence) -> Attribute {
    let gate = site.gate("berths").unwrap();
    let id = site.attribute("made").unwrap();
    identify(site, &gate.access, who, &mut Silent).attribute(id).clone()
}

fn values(a: &Attribute) -> Vec<&str> {
    a.values().map(|v| v.iter().map(String::as_str).collect()).unwrap_or_default()
}

#[test]
fn every_transform_does_what_it_says() {
    let mail = json!(["Anouk@Harbour.Example", "anouk@other.example"]);
    let table = [
        ("[]", mail.clone(), vec!["Anouk@Harbour.Example", "anouk@other.example"]),
        ("[{ choose = \"first\" }]", mail.clone(), vec!["Anouk@Harbour.Example"]),
        ("[{ choose = \"last\" }]", mail.clone(), vec!["anouk@other.example"]),
        ("[{ choose = 2 }]", mail.clone(), vec!["anouk@other.example"]),
        ("[{ choose = 3 }]", mail.clone(), vec![]),
        ("[{ join = \"; \" }]", mail.clone(), vec!["Anouk@Harbour.Example; anouk@other.example"]),
        ("[{ case = \"lower\" }]", mail.clone(), vec!["anouk@harbour.example", "anouk@other.example"]),
        ("[{ case = \"upper\" }]", json!("élise"), vec!["ÉLISE"]),
        ("[{ before = \"@\" }]", mail.clone(), vec!["Anouk", "anouk"]),
        ("[{ after = \"@\" }]", mail.clone(), vec!["Harbour.Example", "other.example"]),
        ("[{ before = \"@\" }, { case = \"lower\" }, { distinct = true }]", mail.clone(), vec!["anouk"]),
        ("[{ before = \".\" }]", json!("a.b.c"), vec!["a"]),
        ("[{ before = \".\", last = true }]", json!("a.b.c"), vec!["a.b"]),
        ("[{ after = \".\", last = true }]", json!("a.b.c"), vec!["c"]),
        ("[{ after = \"\\\\\" }]", json!("HARBOUR\\anouk"), vec!["anouk"]),
        ("[{ after = \"\\\\\" }]", json!("anouk"), vec![]),
        ("[{ after = \"\\\\\", without = \"keep\" }]", json!("anouk"), vec!["anouk"]),
        ("[{ split = \",\" }]", json!("a, b,,c "), vec!["a", "b", "c"]),
        ("[{ keep = \".*@harbour[.]example\" }]", mail.clone(), vec![]),
        ("[{ keep = \"(?i).*@harbour[.]example\" }]", mail.clone(), vec!["Anouk@Harbour.Example"]),
        ("[{ drop = \"(?i).*@harbour[.]example\" }]", mail.clone(), vec!["anouk@other.example"]),
        ("[{ table = { \"d-1\" = \"Dock one\" } }]", json!(["d-1", "d-2"]), vec!["Dock one"]),
        ("[{ table = { \"d-1\" = \"Dock one\" }, without = \"keep\" }]", json!(["d-1", "d-2"]), vec!["Dock one", "d-2"]),
        ("[{ format = \"<{}>\" }]", json!(["a", "b"]), vec!["<a>", "<b>"]),
        ("[{ format = \"{} of {department}\" }]", json!("Anouk"), vec!["Anouk of pilotage"]),
        ("[{ format = \"{user}@havrelune.example\" }]", json!(["a", "b"]), vec!["anouk@havrelune.example"]),
        ("[{ format = \"{{{}}}\" }]", json!("a"), vec!["{a}"]),
        ("[{ part = \"CN\" }]", json!(["cn=Quay\\, north,ou=x", "nothing"]), vec!["Quay, north"]),
        ("[{ split = \" \" }, { choose = \"last\" }, { case = \"lower\" }]", json!("Anouk Maren"), vec!["maren"]),
    ];
    for (by, raw, expected) in table {
        let (_, who) = with_raw(raw);
        let text = text_with(&format!("[[gate.mapping]]\nattribute = \"made\"\nfrom = \"raw\"\nby = {by}\n"));
        let site = read(&text.replacen("[provider.attributes]\n", "[provider.attributes]\nraw = \"raw\"\n", 1));
        let got = made(&site, &who);
        assert_eq!(values(&got), expected, "{by}: {got:?}");
        if expected.is_empty() {
            assert!(matches!(got.values(), Err(Absence::DroppedBy { .. })), "{by}: {got:?}");
        }
    }
}

#[test]
fn every_source_is_read_and_the_first_present_of_several_counts() {
    let table = [
        ("from = \"user\"", vec!["anouk"]),
        ("from = [\"mail\", \"user\"]", vec!["anouk@havrelune.example"]),
        ("all-of = [\"user\", \"staff-number\"]", vec!["anouk", "4711"]),
        ("groups = \"names\"", vec!["berth-access", "pilots"]),
        ("groups = \"dns\"\nby = [{ part = \"cn\" }, { keep = \"p.*\" }]", vec!["pilots"]),
        ("from = \"user\"\nby = [{ keep = \"x\" }]\notherwise = \"guest\"", vec!["guest"]),
    ];
    for (source, expected) in table {
        let site = site_with(&format!("[[gate.mapping]]\nattribute = \"made\"\n{source}\n"));
        assert_eq!(values(&made(&site, &anouk())), expected, "{source}");
    }
    let site = site_with("[[gate.mapping]]\nattribute = \"made\"\nfrom = [\"name\", \"user\"]\n");
    let mut who = anouk();
    who.claims.remove("name");
    assert_eq!(values(&made(&site, &who)), ["anouk"]);
}

#[test]
fn a_source_that_cannot_be_known_is_never_passed_over() {
    let site = site_with("[[gate.mapping]]\nattribute = \"made\"\nfrom = [\"staff-number\", \"user\"]\notherwise = \"guest\"\n");
    let mut who = anouk();
    assert_eq!(values(&made(&site, &who)), ["4711"]);
    who.look_ups[0].state = LookUpState::Dead { detail: "no answer".into() };
    let dead = Absence::LookUpFailed { how: "dead".into() };
    assert_eq!(made(&site, &who).values(), Err(&dead));
    who.look_ups.clear();
    assert_eq!(made(&site, &who).values(), Err(&Absence::NotRecorded));
    // The entry answers without it: that is known.
    let mut bare = entry(&[("pilots", None)]);
    bare.attributes.clear();
    who.look_ups = vec![look_up(LookUpState::Answered { entry: bare })];
    assert_eq!(values(&made(&site, &who)), ["anouk"]);
    // Groups that are not known do not become the value for those who are in none.
    let site = site_with("[[gate.mapping]]\nattribute = \"made\"\ngroups = \"names\"\notherwise = \"none\"\n");
    who.look_ups[0].state = LookUpState::Dead { detail: "no answer".into() };
    assert_eq!(made(&site, &who).values(), Err(&dead));
    // A format over something unknown is unknown as a whole.
    let by = "by = [{ format = \"{} {staff-number}\" }]";
    let site = site_with(&format!("[[gate.mapping]]\nattribute = \"made\"\nfrom = \"user\"\n{by}\notherwise = \"x\"\n"));
    assert_eq!(made(&site, &who).values(), Err(&dead));
}

#[test]
fn provenance_goes_with_what_is_made() {
    let site = site_with(
        "[[gate.mapping]]\nattribute = \"login\"\nfrom = \"mail\"\nby = [{ before = \"@\" }]\n\n\
         [[gate.mapping]]\nattribute = \"made\"\nfrom = \"login\"\nby = [{ case = \"upper\" }]\n",
    );
    let got = made(&site, &anouk());
    let login = Origin::Made { of: vec![Origin::UserInfo { claim: "email".into() }], by: vec!["before = \"@\"".into()] };
    assert_eq!(got.origin(), &Origin::Made { of: vec![login], by: vec!["case = \"upper\"".into()] });
    let mut story = Story::default();
    fold(&site, site.gate("berths").unwrap(), &anouk(), &now(), &mut story);
    let lines: Vec<String> =
        story.steps.iter().map(|s| sentence(s, Lang::En)).filter(|l| l.contains("made") || l.contains("Made")).collect();
    insta::assert_snapshot!(lines.join("\n"));
    // At a gate that does not make it, it is no part of the story.
    let mut story = Story::default();
    fold(&site, site.gate("cranes").unwrap(), &anouk(), &now(), &mut story);
    assert!(!story.steps.iter().any(|s| sentence(s, Lang::En).starts_with("made ")));
}

#[test]
fn what_rules_give_is_mapped_before_it_is_delivered() {
    let text = text_with(
        "[[gate.mapping]]\nattribute = \"made\"\nroles = true\nby = [{ table = { \"watch\" = \"W\" } }, { join = \"+\" }]\n",
    );
    let site = read(&text.replacen(
        "when = { group = \"berth-access\" }\nenter = true",
        "when = { group = \"berth-access\" }\nenter = true\nroles = [\"watch\", \"other\"]",
        1,
    ));
    let Decision::Admitted(a) = fold(&site, site.gate("berths").unwrap(), &anouk(), &now(), &mut Silent) else {
        panic!("refused")
    };
    let header = a.headers().iter().find(|h| h.name == "X-Harbour-Made").unwrap();
    assert_eq!(header.value, b"W");
    // Without a role it is absent, and says that no rule gave it.
    let mut story = Story::default();
    let site = read(&text);
    fold(&site, site.gate("berths").unwrap(), &anouk(), &now(), &mut story);
    let said: Vec<String> = story.steps.iter().map(|s| sentence(s, Lang::En)).collect();
    assert!(said.iter().any(|l| l.contains("no rule that applies gives it")), "{said:#?}");
}

#[test]
fn rules_may_ask_about_what_is_made_and_known_absence_is_an_answer() {
    let text = text_with("[[gate.mapping]]\nattribute = \"made\"\nfrom = \"user\"\nby = [{ keep = \"a.*\" }]\n");
    let rule = |when: &str| text.replacen("when = { group = \"berth-access\" }", &format!("when = {when}"), 1);
    let admits = |when: &str, who: &Evidence| {
        let site = read(&rule(when));
        matches!(fold(&site, site.gate("berths").unwrap(), who, &now(), &mut Silent), Decision::Admitted(_))
    };
    let mut benoit = anouk();
    benoit.claims.insert("preferred_username".into(), "benoit".into());
    benoit.look_ups[0].value = Some("benoit".into());
    assert!(admits("{ attribute = \"made\", is = \"anouk\" }", &anouk()));
    assert!(!admits("{ attribute = \"made\", is = \"anouk\" }", &benoit));
    assert!(admits("{ attribute = \"made\", present = false }", &benoit));
    // What is not made at a gate is not known there: it lets nobody in, either way.
    let elsewhere = rule("{ attribute = \"made\", present = false }").replacen("[[gate.mapping]]", "[[gate.x]]", 1);
    assert!(compile(&elsewhere).0.is_none());
}

#[test]
fn pairwise_identifiers_differ_by_sector_and_never_do_without_the_secret() {
    let at = |gate: &str, sector: &str, salt: Option<&str>| {
        let sector = if sector.is_empty() { String::new() } else { format!(", sector = \"{sector}\"") };
        let mapping =
            format!("[[gate.mapping]]\nattribute = \"made\"\nfrom = \"subject\"\nby = [{{ hash = \"salt\"{sector} }}]\n");
        let text = text_with(&mapping).replace("name = \"berths\"", &format!("name = \"{gate}\""));
        let text = text.replace("gate = \"berths\"", &format!("gate = \"{gate}\""));
        let site = read(&text).with_salts(|n| salt.filter(|_| n == "salt").map(str::to_owned));
        assert!(site.secrets().iter().any(|(n, by)| n == "salt" && by.contains(gate)));
        let id = site.attribute("made").unwrap();
        identify(&site, &site.gate(gate).unwrap().access, &anouk(), &mut Silent).attribute(id).clone()
    };
    let one = at("berths", "", Some("s"));
    assert_eq!(values(&one)[0].len(), 43);
    assert_eq!(one, at("berths", "", Some("s")));
    assert_eq!(values(&one), values(&at("quays", "berths", Some("s"))));
    for other in [at("quays", "", Some("s")), at("berths", "ledger", Some("s")), at("berths", "", Some("t"))] {
        assert_ne!(values(&one), values(&other));
    }
    let none = Absence::Unsafe { why: "no-secret".into() };
    assert_eq!(at("berths", "", None).values(), Err(&none));
    assert_eq!(at("berths", "", Some("")).values(), Err(&none));
    let shown =
        format!("{:?}", site_with("[[gate.mapping]]\nattribute = \"made\"\nfrom = \"user\"\nby = [{ hash = \"salt\" }]\n"));
    assert!(shown.contains("salt") && !shown.contains("a long random text"));
}

#[test]
fn bytes_of_an_entry_are_written_as_the_site_file_says() {
    let text = SITE.replacen(
        "department = \"departmentNumber\"",
        "department = \"departmentNumber\"\nobject = { attribute = \"objectGUID\", octets = \"guid\" }\n\
         raw = { attribute = \"objectguid\", octets = \"hex\" }\nworded = \"objectGUID\"",
        1,
    );
    let site = read(&text);
    assert_eq!(site.directories[0].octets.get(&site.attribute("object").unwrap()), Some(&Octets::Guid));
    let made = |name: &str, fill: &dyn Fn(&mut passeur_core::evidence::Entry)| {
        let mut e = entry(&[]);
        fill(&mut e);
        let mut who = anouk();
        who.look_ups = vec![look_up(LookUpState::Answered { entry: e })];
        let id = site.attribute(name).unwrap();
        identify(&site, &site.gate("berths").unwrap().access, &who, &mut Silent).attribute(id).clone()
    };
    let object = |fill: &dyn Fn(&mut passeur_core::evidence::Entry)| made("object", fill);
    let held = |text: &'static str| object(&move |e| drop(e.octets.insert("objectguid".into(), vec![text.into()])));
    assert_eq!(values(&held("AAECAwQFBgcICQoLDA0ODw==")), ["03020100-0504-0706-0809-0a0b0c0d0e0f"]);
    for bad in ["AAEC", "%", ""] {
        assert_eq!(held(bad).values(), Err(&Absence::Unsafe { why: "not-octets".into() }), "{bad}");
    }
    assert_eq!(object(&|_| ()).values(), Err(&Absence::NotInEntry));
    // The same bytes in another form, and as text where they are some.
    let of = |name: &str, text: &'static str| made(name, &move |e| drop(e.octets.insert("objectguid".into(), vec![text.into()])));
    assert_eq!(values(&of("raw", "AAECAwQFBgcICQoLDA0ODw==")), ["000102030405060708090a0b0c0d0e0f"]);
    assert_eq!(values(&of("worded", "Y2FsbQ==")), ["calm"]);
    assert_eq!(of("worded", "/w==").values(), Err(&Absence::Unsafe { why: "not-text".into() }));
}

#[test]
fn a_claim_in_a_claim_is_reached_by_its_path() {
    let (text, mut who) = with_raw(json!({"deep": {"a/b": ["x", "y"]}, "n": 3}));
    for (path, expected) in [
        ("/raw/deep/a~1b", vec!["x", "y"]),
        ("/raw/deep/a~1b/1", vec!["y"]),
        ("/raw/n", vec!["3"]),
        ("/raw/none", vec![]),
        ("/raw", vec![]),
        ("/", vec![]),
    ] {
        let site = read(&text.replacen("raw = \"raw\"", &format!("raw = \"{path}\""), 1));
        let id = site.attribute("raw").unwrap();
        let got = identify(&site, &site.gate("berths").unwrap().access, &who, &mut Silent).attribute(id).clone();
        assert_eq!(values(&got), expected, "{path}");
    }
    // A claim whose own name begins with a slash is no path, and is not found by one.
    who.claims.insert("/odd".into(), "z".into());
    let site = read(&text.replacen("raw = \"raw\"", "raw = \"/odd\"", 1));
    let id = site.attribute("raw").unwrap();
    assert!(identify(&site, &site.gate("berths").unwrap().access, &who, &mut Silent).attribute(id).values().is_err());
}

#[test]
fn what_grows_without_end_is_stopped() {
    let many = "a,".repeat(VALUES_MAX + 1);
    for (raw, by, why) in [
        (json!(many.as_str()), "[{ split = \",\" }]", "too-many"),
        (json!("x".repeat(5_000)), "[{ format = \"{}{}\" }]", "too-long"),
        (json!("x".repeat(8_193)), "[{ case = \"lower\" }]", "too-long"),
    ] {
        let (_, who) = with_raw(raw);
        let text = text_with(&format!("[[gate.mapping]]\nattribute = \"made\"\nfrom = \"raw\"\nby = {by}\n"));
        let site = read(&text.replacen("[provider.attributes]\n", "[provider.attributes]\nraw = \"raw\"\n", 1));
        assert_eq!(made(&site, &who).values(), Err(&Absence::Unsafe { why: why.into() }), "{by}");
    }
}

#[test]
fn the_site_maps_for_every_gate_and_feeds_directories() {
    let text = SITE
        .replacen(
            "# Where groups come from.",
            "[[mapping]]\nattribute = \"login\"\nfrom = \"mail\"\nby = [{ before = \"@\" }]\n",
            1,
        )
        .replacen("fed-by = \"user\"", "fed-by = \"login\"", 1);
    let site = read(&text);
    for gate in ["berths", "cranes"] {
        let access = &site.gate(gate).unwrap().access;
        let who = identify(&site, access, &anouk(), &mut Silent);
        assert_eq!(who.attribute(site.directories[0].fed_by).values().unwrap(), ["anouk"]);
    }
    assert_eq!(site.engineers.as_ref().unwrap().mappings.len(), 2);
}

#[test]
fn mistakes_in_mappings_are_named() {
    let m = |rest: &str| format!("[[gate.mapping]]\nattribute = \"made\"\n{rest}\n");
    let table = [
        (m(""), "exactly one source"),
        (m("from = \"user\"\nroles = true"), "exactly one source"),
        (m("from = \"usr\""), "there is no attribute \"usr\""),
        (m("from = []"), "from is empty"),
        (m("from = \"made\""), "not made before this"),
        (m("from = \"user\"\nby = [{ }]"), "the step does nothing"),
        (m("from = \"user\"\nby = [{ case = \"lower\", join = \"x\" }]"), "stand side by side"),
        (m("from = \"user\"\nby = [{ keep = \"(\" }]"), "the pattern cannot be used"),
        (m("from = \"user\"\nby = [{ before = \"\" }]"), "before is empty"),
        (m("from = \"user\"\nby = [{ choose = 0 }]"), "is not known"),
        (m("from = \"user\"\nby = [{ table = \"doors\" }]"), "there is no table"),
        (m("from = \"user\"\nby = [{ table = {} }]"), "the table is empty"),
        (m("from = \"user\"\nby = [{ format = \"{\" }]"), "not closed"),
        (m("from = \"user\"\nby = [{ format = \"{nobody}\" }]"), "there is no attribute"),
        (m("from = \"user\"\notherwise = \"\""), "otherwise is empty"),
        (m("from = \"user\"\nby = [{ case = \"lower\", speed = 3 }]"), "speed is not a known key"),
        ("[[gate.mapping]]\nattribute = \"user\"\nfrom = \"mail\"\n".to_owned(), "already has another source"),
        (m("from = \"user\"") + &m("from = \"mail\""), "is made twice"),
        ("[[gate.mapping]]\nattribute = \"a b\"\nfrom = \"mail\"\n".to_owned(), "is not plain"),
    ];
    for (mappings, expected) in table {
        let all = compile(&text_with(&mappings)).1;
        let errors: Vec<_> = all.iter().filter(|f| f.severity == Severity::Error).collect();
        assert!(errors.iter().any(|f| f.what.contains(expected)), "{mappings}\n{errors:#?}");
    }
    let site = |old: &str, new: &str| SITE.replacen(old, new, 1);
    for (text, expected) in [
        (
            site("# Where groups", "[[mapping]]\nattribute = \"m\"\nfrom = \"user\"\nby = [{ hash = \"salt\" }]\n#"),
            "sector is missing",
        ),
        (
            site("# Where groups", "[[mapping]]\nattribute = \"m\"\nfrom = \"staff-number\"\n#").replacen(
                "fed-by = \"user\"",
                "fed-by = \"m\"",
                1,
            ),
            "made from what a directory holds",
        ),
        (
            site("# Where groups", "[[mapping]]\nattribute = \"m\"\ngroups = \"names\"\n#").replacen(
                "fed-by = \"user\"",
                "fed-by = \"m\"",
                1,
            ),
            "made from what a directory holds",
        ),
        (
            site("# Where groups", "[[mapping]]\nattribute = \"m\"\nroles = true\n#").replacen(
                "when = { group = \"fitters\" }",
                "when = { attribute = \"m\", is = \"x\" }",
                1,
            ),
            "made from what rules give",
        ),
        (
            site("# Where groups", "[[mapping]]\nattribute = \"m\"\nroles = true\n#").replacen(
                "path = \"/assign\"\nwhen = { group = \"planners\" }",
                "path = \"/assign\"\nwhen = { attribute = \"m\", is = \"planner\" }",
                1,
            ),
            "the section /assign asks about",
        ),
    ] {
        let all = compile(&text).1;
        assert!(all.iter().any(|f| f.severity == Severity::Error && f.what.contains(expected)), "{expected}\n{all:#?}");
    }
}
