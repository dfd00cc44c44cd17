//! Evidence seen through an edition: values with where they came from, absences with why.

use passeur_core::attribute::{Absence, Attribute, Origin};
use passeur_core::evidence::{Entry, Evidence, LookUpState, UserInfo};
use passeur_core::identity::{from_claims, identify};
use passeur_core::site::Site;
use passeur_core::step::Silent;
use serde_json::{Map, json};

use crate::harbour::{anouk, entry, failures, found, site};

fn attribute(site: &Site, evidence: &Evidence, name: &str) -> Attribute {
    let who = identify(site, &site.gate("berths").unwrap().access, evidence, &mut Silent);
    who.attribute(site.attribute(name).unwrap()).clone()
}

#[test]
fn a_claim_is_text_or_a_list_of_text_and_the_id_token_comes_first() {
    let token = || Origin::IdToken { claim: "c".into() };
    let present = |v: &[&str]| Attribute::Present { values: v.iter().map(|s| s.to_string()).collect(), origin: token() };
    let absent = |absence| Attribute::Absent { absence, origin: token() };
    let not_text = || Absence::Unsafe { why: "not-text".into() };
    for (value, want) in [
        (json!("a"), present(&["a"])),
        (json!(7), present(&["7"])),
        (json!(true), present(&["true"])),
        (json!(["a", 7, false]), present(&["a", "7", "false"])),
        (json!(["", "b", " "]), present(&["b"])),
        (json!(""), absent(Absence::NotReleased)),
        (json!([]), absent(Absence::NotReleased)),
        (json!(null), absent(Absence::NotReleased)),
        (json!({"a": 1}), absent(not_text())),
        (json!(["a", ["b"]]), absent(not_text())),
        (json!([null]), absent(not_text())),
    ] {
        let mut e = anouk();
        e.claims.insert("c".into(), value.clone());
        e.userinfo = UserInfo::Answered { claims: Map::from_iter([("c".to_owned(), json!("other"))]) };
        assert_eq!(from_claims(&e, "c"), want, "{value}");
    }
}

#[test]
fn an_absent_claim_says_who_did_not_give_it() {
    for (userinfo, want) in [
        (UserInfo::NotAsked, (Absence::NotReleased, Origin::IdToken { claim: "c".into() })),
        (UserInfo::Answered { claims: Map::new() }, (Absence::NotReleased, Origin::Claims { claim: "c".into() })),
        (
            UserInfo::Failed { how: "status 500".into() },
            (Absence::LookUpFailed { how: "status 500".into() }, Origin::UserInfo { claim: "c".into() }),
        ),
    ] {
        let e = Evidence { userinfo, ..anouk() };
        assert_eq!(from_claims(&e, "c"), Attribute::Absent { absence: want.0, origin: want.1 });
    }
}

#[test]
fn directory_attributes_are_found_without_regard_to_the_case_of_their_names() {
    let site = site();
    let with = |edit: &dyn Fn(&mut Entry)| {
        let mut e = entry(&[("berth-access", None)]);
        edit(&mut e);
        attribute(&site, &found(LookUpState::Answered { entry: e }), "staff-number")
    };
    assert_eq!(with(&|_| ()).values().unwrap(), ["4711"]);
    let none = |a: Attribute| a.values().unwrap_err().clone();
    assert_eq!(none(with(&|e| e.attributes.clear())), Absence::NotInEntry);
    assert_eq!(none(with(&|e| *e.attributes.get_mut("employeenumber").unwrap() = vec!["".into()])), Absence::NotInEntry);
    let binary = with(&|e| {
        e.attributes.clear();
        e.binary.push("EmployeeNumber".into());
    });
    assert_eq!(none(binary), Absence::Unsafe { why: "not-text".into() });
}

#[test]
fn a_failed_look_up_leaves_nothing_of_the_directory_behind() {
    let site = site();
    for state in failures() {
        let evidence = found(state.clone());
        let who = identify(&site, &site.gate("berths").unwrap().access, &evidence, &mut Silent);
        let how = Absence::LookUpFailed { how: state.code().into() };
        assert_eq!(attribute(&site, &evidence, "staff-number").values().unwrap_err(), &how);
        assert_eq!(who.groups.names().unwrap_err(), &how);
        assert!(!who.groups.contains("berth-access"));
        assert_eq!(attribute(&site, &evidence, "name").values().unwrap(), ["Anouk Maren"], "the provider's part stands");
    }
}

#[test]
fn subject_and_provider_are_always_there_and_nothing_can_stand_in_for_them() {
    let site = site();
    let mut e = anouk();
    e.claims.insert("subject".into(), json!("p-1"));
    assert_eq!(attribute(&site, &e, "subject").values().unwrap(), ["p-1001"]);
    assert_eq!(attribute(&site, &e, "provider").values().unwrap(), ["pilotage"]);
}

#[test]
fn the_hash_of_evidence_does_not_know_in_which_order_claims_came() {
    let mut other = anouk();
    other.claims = anouk().claims.into_iter().rev().collect();
    other.claims.insert("address".into(), json!({"b": [{"y": 1, "x": 2}], "a": 1}));
    let mut one = anouk();
    one.claims.insert("address".into(), json!({"a": 1, "b": [{"x": 2, "y": 1}]}));
    assert_eq!(one.hash(), other.hash());
    one.claims.insert("address".into(), json!({"a": 1, "b": [{"x": 1, "y": 2}]}));
    assert_ne!(one.hash(), other.hash());
}
