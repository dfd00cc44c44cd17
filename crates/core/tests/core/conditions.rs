//! Conditions have three values. What is not known never becomes a yes or a no by joining.

use passeur_core::condition::{Condition, Test, Truth};
use passeur_core::evidence::{Evidence, LookUpState, UserInfo};
use passeur_core::identity::{Identity, identify};
use passeur_core::site::Site;
use passeur_core::step::Silent;
use proptest::prelude::*;
use serde_json::json;

use crate::harbour::{anouk, found, in_groups, now, site};

fn person(site: &Site, evidence: &Evidence) -> Identity {
    identify(site, &site.gate("berths").unwrap().access, evidence, &mut Silent)
}

const GROUPS: [&str; 4] = ["pilots", "planners", "night-watch", "visiting-crews"];

#[test]
fn attributes_are_compared_to_the_letter_and_absence_is_a_fact_only_when_known() {
    let site = site();
    let name = site.attribute("name").unwrap();
    let mail = site.attribute("mail").unwrap();
    let staff = site.attribute("staff-number").unwrap();
    let is = |id, v: &str| Condition::Attribute(id, Test::OneOf(vec![v.to_owned()]));
    let mut nameless = anouk();
    nameless.claims.insert("name".into(), json!(null));
    let mut several = anouk();
    several.claims.insert("name".into(), json!(["Anouk", "Maren"]));
    let mut odd = anouk();
    odd.claims.insert("name".into(), json!({"en": "Anouk"}));
    let mut silent = anouk();
    silent.userinfo = UserInfo::Failed { how: "status 500".into() };
    let dead = found(LookUpState::Dead { detail: "no answer".into() });
    for (condition, evidence, want) in [
        (is(name, "Anouk Maren"), anouk(), Truth::Yes),
        (is(name, "anouk maren"), anouk(), Truth::No),
        (is(name, "Anouk"), several.clone(), Truth::Yes),
        (is(name, "Anouk,Maren"), several, Truth::No),
        (is(name, "Anouk"), nameless.clone(), Truth::No),
        (Condition::Present(name, true), nameless.clone(), Truth::No),
        (Condition::Present(name, false), nameless, Truth::Yes),
        (is(name, "Anouk"), odd.clone(), Truth::Unknown),
        (Condition::Present(name, true), odd.clone(), Truth::Unknown),
        (Condition::Present(name, false), odd, Truth::Unknown),
        (is(mail, "anouk@havrelune.example"), anouk(), Truth::Yes),
        (is(mail, "anouk@havrelune.example"), silent.clone(), Truth::Unknown),
        (Condition::Present(mail, false), silent, Truth::Unknown),
        (is(staff, "4711"), anouk(), Truth::Yes),
        (is(staff, "4711"), dead.clone(), Truth::Unknown),
        (Condition::Present(staff, false), dead.clone(), Truth::Unknown),
        (Condition::Group("pilots".into()), dead.clone(), Truth::Unknown),
        (Condition::None(vec![Condition::Group("pilots".into())]), dead.clone(), Truth::Unknown),
        (Condition::Everyone, dead, Truth::Yes),
        (Condition::Group("PILOTS".into()), anouk(), Truth::Yes),
        (Condition::All(vec![]), anouk(), Truth::Yes),
        (Condition::Any(vec![]), anouk(), Truth::No),
    ] {
        assert_eq!(condition.judge(&person(&site, &evidence), &now(), Some("berths")), want, "{condition:?}");
    }
}

fn any_condition() -> impl Strategy<Value = Condition> {
    let leaf =
        prop_oneof![Just(Condition::Everyone), prop::sample::select(&GROUPS[..]).prop_map(|g| Condition::Group(g.to_owned()))];
    leaf.prop_recursive(4, 24, 4, |inner| {
        let parts = prop::collection::vec(inner, 1..4);
        prop_oneof![
            parts.clone().prop_map(Condition::All),
            parts.clone().prop_map(Condition::Any),
            parts.prop_map(Condition::None),
        ]
    })
}

/// The two-valued meaning, written the plain way.
fn holds(c: &Condition, groups: &[&str]) -> bool {
    match c {
        Condition::Everyone => true,
        Condition::Group(g) => groups.contains(&g.as_str()),
        Condition::All(p) => p.iter().all(|c| holds(c, groups)),
        Condition::Any(p) => p.iter().any(|c| holds(c, groups)),
        Condition::None(p) => !p.iter().any(|c| holds(c, groups)),
        _ => false,
    }
}

proptest! {
    #[test]
    fn with_everything_known_it_is_plain_logic(condition in any_condition(), groups in prop::sample::subsequence(GROUPS.to_vec(), 0..=4)) {
        let site = site();
        let want = if holds(&condition, &groups) { Truth::Yes } else { Truth::No };
        prop_assert_eq!(condition.judge(&person(&site, &in_groups(&groups)), &now(), Some("berths")), want);
    }

    #[test]
    fn an_answer_given_without_knowing_the_groups_holds_for_all_groups(condition in any_condition()) {
        let site = site();
        let blind = condition.judge(&person(&site, &found(LookUpState::Dead { detail: "no answer".into() })), &now(), Some("berths"));
        if blind != Truth::Unknown {
            for bits in 0..16u8 {
                let groups: Vec<&str> = GROUPS.iter().enumerate().filter(|(i, _)| bits >> i & 1 == 1).map(|(_, g)| *g).collect();
                prop_assert_eq!(condition.judge(&person(&site, &in_groups(&groups)), &now(), Some("berths")), blind, "{:?}", groups);
            }
        }
    }

    #[test]
    fn none_is_not_any(condition in any_condition(), known in any::<bool>()) {
        let site = site();
        let who = person(&site, &if known { anouk() } else { found(LookUpState::NoEntry) });
        let none = Condition::None(vec![condition.clone()]).judge(&who, &now(), Some("berths"));
        prop_assert_eq!(none, !condition.judge(&who, &now(), Some("berths")));
    }
}
