//! Rehearsal: what a draft would do to people, and what cannot be known of it.

use passeur_core::decide::{Decision, fold};
use passeur_core::evidence::{AskedFor, Evidence, LookUpState};
use passeur_core::rehearse::{Effects, Missing, Verdict, because, effects, try_at};
use passeur_core::site::{Place, Site};
use passeur_core::step::{Lang, Silent};
use proptest::prelude::*;

use crate::harbour::{SITE, anouk, found, in_groups, now, read, site, site_with};

fn at_berths(before: &Site, after: &Site, evidence: &Evidence) -> Effects {
    effects(
        &try_at(before, &Place::gate("berths"), evidence, &now()),
        &try_at(after, &Place::gate("berths"), evidence, &now()),
        Lang::En,
    )
}

#[test]
fn each_effect_of_a_draft_has_its_name() {
    let live = site();
    let stricter = site_with("when = { group = \"berth-access\" }", "when = { group = \"crane-desk\" }");
    let wider = site_with("when = { group = \"berth-access\" }", "when = { everyone = true }");
    let roles = site_with("roles = [\"planner\"]", "roles = [\"planner\", \"night\"]");
    let header = site_with("attribute = \"name\"", "attribute = \"mail\"");
    let renamed = site_with("name = \"X-Harbour-Name\"", "name = \"X-Harbour-Full-Name\"");
    let unexpected = &SITE[..SITE.find("# What must stay so").unwrap()];
    let gone = read(&unexpected.replacen("name = \"berths\"", "name = \"quays\"", 1));
    let section =
        site_with("path = \"/assign\"\nwhen = { group = \"planners\" }", "path = \"/assign\"\nwhen = { group = \"pilots\" }");
    let planner = in_groups(&["planners", "berth-access"]);
    let differs = |words: &[&str]| Effects::Differs(words.iter().map(|w| (*w).to_owned()).collect());
    for (what, draft, who, want) in [
        ("the same", &live, anouk(), Effects::Same),
        ("refused", &stricter, anouk(), Effects::Refused),
        ("refused either way", &stricter, in_groups(&["pilots"]), Effects::Same),
        ("admitted", &wider, in_groups(&["pilots"]), Effects::Admitted),
        ("a refusal wins still", &wider, in_groups(&["visiting-crews"]), Effects::Same),
        ("no gate", &gone, anouk(), Effects::Refused),
        ("role", &roles, planner, differs(&["gains role night", "X-Harbour-Roles would be planner,night; now planner"])),
        ("role of others", &roles, anouk(), Effects::Same),
        ("value", &header, anouk(), differs(&["X-Harbour-Name would be anouk@havrelune.example; now Anouk Maren"])),
        (
            "name",
            &renamed,
            anouk(),
            differs(&[
                "X-Harbour-Name would be missing; now Anouk Maren",
                "X-Harbour-Full-Name would be Anouk Maren; missing now",
            ]),
        ),
        ("section", &section, anouk(), differs(&["reaches /assign"])),
    ] {
        assert_eq!(at_berths(&live, draft, &who), want, "{what}");
    }
    assert_eq!(
        because(&stricter, &Place::gate("berths"), &anouk(), &now(), Lang::En),
        "None of the 4 rules of gate berths grants entry to this person."
    );
}

/// Somebody whose directory entry was asked for these attributes, and for groups or not.
fn asked(attributes: &[&str], groups: bool) -> Evidence {
    let mut e = anouk();
    e.look_ups[0].asked = Some(AskedFor { attributes: attributes.iter().map(|a| (*a).to_owned()).collect(), groups });
    e
}

#[test]
fn what_was_not_fetched_then_is_not_known_where_it_matters_and_only_there() {
    let live = site();
    let known = asked(&["employeenumber", "departmentnumber"], true);
    let title = |when: &str| {
        read(
            &SITE
                .replacen("department = \"departmentNumber\"", "department = \"departmentNumber\"\ntitle = \"title\"", 1)
                .replacen("when = { group = \"berth-access\" }", &format!("when = {when}"), 1),
        )
    };
    let attribute = || Effects::NotKnown(vec![Missing::Attribute("title".into())]);
    for (when, want) in [
        ("{ group = \"berth-access\" }", Effects::Same),
        ("{ attribute = \"title\", is = \"pilot\" }", attribute()),
        ("{ any = [{ group = \"berth-access\" }, { attribute = \"title\", is = \"pilot\" }] }", Effects::Same),
        ("{ all = [{ group = \"crane-desk\" }, { attribute = \"title\", is = \"pilot\" }] }", Effects::Refused),
        ("{ none = [{ attribute = \"title\", present = true }] }", attribute()),
    ] {
        assert_eq!(at_berths(&live, &title(when), &known), want, "{when}");
    }
    // A header that would carry it.
    let delivered =
        read(
            &SITE
                .replacen("department = \"departmentNumber\"", "department = \"departmentNumber\"\ntitle = \"title\"", 1)
                .replacen("attribute = \"name\"", "attribute = \"title\"", 1),
        );
    assert_eq!(at_berths(&live, &delivered, &known), attribute());
    // A visitor is refused whatever the header would have held.
    let mut visitor = in_groups(&["visiting-crews"]);
    visitor.look_ups[0].asked = known.look_ups[0].asked.clone();
    assert_eq!(at_berths(&live, &delivered, &visitor), Effects::Same);
    // Groups, a directory and a provider nobody asked.
    let groups = asked(&["employeenumber", "departmentnumber"], false);
    assert_eq!(at_berths(&live, &live, &groups), Effects::NotKnown(vec![Missing::Groups("harbour".into())]));
    let mut alone = anouk();
    alone.look_ups.clear();
    assert_eq!(at_berths(&live, &live, &alone), Effects::NotKnown(vec![Missing::Directory("harbour".into())]));
    let mut other = anouk();
    other.provider = "elsewhere".into();
    assert_eq!(at_berths(&live, &live, &other), Effects::NotKnown(vec![Missing::Provider("pilotage".into())]));
    // A directory that was down is a fact, not a gap: the person was refused then and would be.
    let dead = found(LookUpState::Dead { detail: "no answer".into() });
    assert_eq!(at_berths(&live, &title("{ attribute = \"title\", is = \"pilot\" }"), &dead), Effects::Same);
}

#[test]
fn a_gate_that_is_called_console_is_no_console() {
    let text = SITE.replace("name = \"berths\"", "name = \"console\"").replace("gate = \"berths\"", "gate = \"gate/console\"");
    let site = read(&text);
    let verdict = |place: &Place| try_at(&site, place, &anouk(), &now()).verdict;
    assert!(matches!(verdict(&Place::gate("console")), Verdict::In(_)), "she may enter the gate");
    assert_eq!(verdict(&Place::Console), Verdict::Out, "and has no role in the console");
    assert!(site.expectations.iter().any(|e| e.place == Place::gate("console")));
    assert_eq!(site.places().filter(|(p, _)| *p == Place::Console).count(), 1);
}

#[test]
fn the_console_is_rehearsed_like_a_gate() {
    let live = site();
    let engineer = in_groups(&["access-engineers"]);
    let Verdict::In(given) = try_at(&live, &Place::Console, &engineer, &now()).verdict else { panic!() };
    assert_eq!(given.roles, ["configure"]);
    let draft = site_with("when = { group = \"access-engineers\" }", "when = { group = \"acces-engineers\" }");
    let effect = effects(
        &try_at(&live, &Place::Console, &engineer, &now()),
        &try_at(&draft, &Place::Console, &engineer, &now()),
        Lang::En,
    );
    assert_eq!(effect, Effects::Refused);
}

#[test]
fn sign_ins_that_differ_in_nothing_that_decides_are_the_same() {
    let mut later = anouk();
    later.look_ups[0].at += chrono::Duration::hours(3);
    later.look_ups[0].millis = 90;
    later.look_ups[0].cached = true;
    later.claims.insert("iat".into(), serde_json::json!(1));
    later.factors.auth_time = None;
    assert_eq!(later.facts(), anouk().facts());
    assert_ne!(later.hash(), anouk().hash());
    assert_ne!(in_groups(&["pilots"]).facts(), in_groups(&["planners"]).facts());
}

proptest! {
    #[test]
    fn rehearsal_says_what_the_live_decision_says(groups in proptest::collection::vec("pilots|planners|berth-access|visiting-crews", 0..4)) {
        let site = site();
        let names: Vec<&str> = groups.iter().map(String::as_str).collect();
        let evidence = in_groups(&names);
        let live = matches!(fold(&site, site.gate("berths").unwrap(), &evidence, &now(), &mut Silent), Decision::Admitted(_));
        prop_assert_eq!(matches!(try_at(&site, &Place::gate("berths"), &evidence, &now()).verdict, Verdict::In(_)), live);
    }
}
