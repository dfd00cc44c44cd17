//! One function decides; these hold what it says, for whom, and that telling changes nothing.

use passeur_core::crossing::{Outcome, deciding};
use passeur_core::decide::{Decision, console_roles, fold};
use passeur_core::evidence::{Evidence, Factors, LookUpState, WayIn};
use passeur_core::site::Site;
use passeur_core::step::{Lang, Silent, StepCode, Story, remedy, sentence};
use proptest::prelude::*;

use crate::harbour::{SITE, anouk, entry, failures, found, in_groups, now, read, site, site_with};

fn decide(site: &Site, evidence: &Evidence) -> (Decision, Story) {
    let mut story = Story::default();
    let decision = fold(site, site.gate("berths").unwrap(), evidence, &now(), &mut story);
    (decision, story)
}

/// Outcome and the code of the step the eye lands on.
fn verdict(site: &Site, evidence: &Evidence) -> (Outcome, StepCode) {
    let (decision, story) = decide(site, evidence);
    let code = story.steps[deciding(&story.steps).unwrap()].code;
    match decision {
        Decision::Admitted(_) => (Outcome::Admitted, code),
        Decision::Refused(r) => {
            assert_eq!(r.code, code, "what is answered is what is told");
            (r.outcome, code)
        }
    }
}

#[test]
fn somebody_sent_unasked_enters_only_where_the_gate_says_so_and_never_the_console() {
    let text = SITE
        .replace("provider = \"pilotage\"", "provider = \"pilotage-saml\"")
        .replace("groups-from = \"provider\"\n", "")
        .replace("require-acr = [\"urn:pilotage:two-factors\"]\n", "");
    let site = read(&text);
    let mut asked =
        Evidence { provider: "pilotage-saml".into(), way_in: WayIn::Saml, ..in_groups(&["berth-access", "access-engineers"]) };
    asked.authority = site.authority("pilotage-saml").unwrap();
    asked.claims.insert("user".into(), serde_json::json!(["anouk"]));
    let unasked = Evidence { unasked: true, ..asked.clone() };
    let enters = |gate: &str, who: &Evidence| {
        matches!(fold(&site, site.gate(gate).unwrap(), who, &now(), &mut Silent), Decision::Admitted(_))
    };
    assert_eq!([enters("berths", &asked), enters("agents", &asked)], [true, true]);
    assert_eq!([enters("berths", &unasked), enters("agents", &unasked)], [false, true]);
    assert_eq!(verdict(&site, &unasked), (Outcome::CheckFailed, StepCode::SamlUnasked));
    assert!(!console_roles(&site, &asked, &now(), &mut Silent).is_empty());
    assert!(console_roles(&site, &unasked, &now(), &mut Silent).is_empty());
}

#[test]
fn each_person_of_the_harbour_gets_the_verdict_of_the_demo() {
    let site = site();
    for (groups, want) in [
        (&["pilots", "berth-access"][..], (Outcome::Admitted, StepCode::Granted)),
        (&["planners"], (Outcome::Admitted, StepCode::Granted)),
        (&["PLANNERS"], (Outcome::Admitted, StepCode::Granted)),
        (&["crane-fitters"], (Outcome::Refused, StepCode::NothingGrants)),
        (&[], (Outcome::Refused, StepCode::NothingGrants)),
        (&["berth-access", "visiting-crews"], (Outcome::Refused, StepCode::RefusedByRule)),
        (&["berth-access "], (Outcome::Refused, StepCode::NothingGrants)),
        (&["berth"], (Outcome::Refused, StepCode::NothingGrants)),
    ] {
        assert_eq!(verdict(&site, &in_groups(groups)), want, "{groups:?}");
    }
}

#[test]
fn a_failed_look_up_refuses_with_its_own_words_unless_the_gate_goes_on_without() {
    let strict = site();
    let lax = site_with("directory = \"harbour\"\ndelivery", "directory = \"harbour\"\nwithout-directory = true\ndelivery");
    let codes = [
        (Outcome::Refused, StepCode::DirectoryNoEntry),
        (Outcome::Refused, StepCode::DirectorySeveral),
        (Outcome::Failed, StepCode::DirectoryBindRefused),
        (Outcome::Failed, StepCode::DirectoryDead),
        (Outcome::Refused, StepCode::DirectoryNoKey),
    ];
    for (state, want) in failures().into_iter().zip(codes) {
        assert_eq!(verdict(&strict, &found(state.clone())), want);
        // Going on is not entering: the rules ask for groups, which are not known, and a refusing rule counts.
        assert_eq!(verdict(&lax, &found(state)), (Outcome::Refused, StepCode::RefusedByRule));
    }
    let never_asked = Evidence { look_ups: vec![], ..anouk() };
    assert_eq!(verdict(&strict, &never_asked), (Outcome::Failed, StepCode::DirectoryDead));
    let everyone = "when = { group = \"berth-access\" }";
    let open = read(
        &SITE
            .replacen(everyone, "when = { everyone = true }", 1)
            .replacen("directory = \"harbour\"\ndelivery", "directory = \"harbour\"\nwithout-directory = true\ndelivery", 1)
            .replacen("when = { group = \"visiting-crews\" }", "when = { attribute = \"name\", is = \"nobody\" }", 1),
    );
    assert_eq!(verdict(&open, &found(LookUpState::NoEntry)).0, Outcome::Admitted);
}

#[test]
fn a_disabled_account_is_refused_although_the_provider_said_yes() {
    let disabled = found(LookUpState::Disabled { entry: entry(&[("berth-access", None)]), why: "expired on 2026-01-01".into() });
    assert_eq!(verdict(&site(), &disabled), (Outcome::Refused, StepCode::DirectoryDisabled));
    let lax = site_with("directory = \"harbour\"\ndelivery", "directory = \"harbour\"\ndisabled-accounts = \"admit\"\ndelivery");
    let (decision, story) = decide(&lax, &disabled);
    assert!(matches!(decision, Decision::Admitted(_)));
    assert!(story.steps.iter().any(|s| s.code == StepCode::DirectoryDisabledAllowed), "it is told all the same");
}

#[test]
fn factors_are_wanted_as_the_site_says() {
    let with_acr = site_with("require-amr = [\"mfa\"]", "require-amr = [\"mfa\", \"hwk\"]\nrequire-acr = [\"2\", \"3\"]");
    for (acr, amr, enough) in [
        (Some("2"), &["mfa", "hwk"][..], true),
        (Some("3"), &["hwk", "pwd", "mfa"], true),
        (Some("1"), &["mfa", "hwk"], false),
        (None, &["mfa", "hwk"], false),
        (Some("2"), &["mfa"], false),
        (Some("2"), &[], false),
        (Some("2 "), &["mfa", "hwk"], false),
        (Some("2"), &["MFA", "hwk"], false),
    ] {
        let factors = Factors {
            acr: acr.map(str::to_owned),
            amr: amr.iter().map(|a| a.to_string()).collect(),
            auth_time: None,
            own: vec![],
        };
        let got = verdict(&with_acr, &Evidence { factors, ..anouk() });
        let want =
            if enough { (Outcome::Admitted, StepCode::Granted) } else { (Outcome::CheckFailed, StepCode::FactorsInsufficient) };
        assert_eq!(got, want, "{acr:?} {amr:?}");
    }
}

#[test]
fn a_session_of_another_provider_is_good_for_nothing_here() {
    for provider in ["elsewhere", "Pilotage", ""] {
        let other = Evidence { provider: provider.into(), ..anouk() };
        assert_eq!(verdict(&site(), &other), (Outcome::CheckFailed, StepCode::OtherProvider));
        assert!(console_roles(&site(), &other, &now(), &mut Silent).is_empty());
    }
}

#[test]
fn a_gate_without_rules_admits_nobody() {
    let begin = SITE.find("[[gate.rule]]").unwrap();
    let rule = SITE.find("# A rule of the whole site").unwrap();
    let gate = SITE.find("[[gate]]").unwrap();
    let end = SITE.find("# Who may use the console.").unwrap();
    let expected = SITE.find("# What must stay so").unwrap();
    let bare = read(&format!("{}{}{}", &SITE[..rule], &SITE[gate..begin], &SITE[end..expected]));
    assert_eq!(verdict(&bare, &in_groups(&["berth-access", "planners"])), (Outcome::Refused, StepCode::Unprotected));
}

#[test]
fn roles_of_the_console_come_from_rules_alone() {
    let site = site();
    for (groups, want) in [
        (&["access-engineers"][..], &["configure"][..]),
        (&["harbour-desk"], &["view"]),
        (&["access-engineers", "harbour-desk"], &["configure", "view"]),
        (&["berth-access"], &[]),
    ] {
        assert_eq!(console_roles(&site, &in_groups(groups), &now(), &mut Silent), want, "{groups:?}");
    }
    for state in failures() {
        assert!(console_roles(&site, &found(state), &now(), &mut Silent).is_empty());
    }
    let nobody = read(&SITE[..SITE.find("# Who may use the console.").unwrap()]);
    assert!(console_roles(&nobody, &in_groups(&["access-engineers"]), &now(), &mut Silent).is_empty());
}

/// The whole story, as an engineer reads it.
fn told(story: &Story, lang: Lang) -> String {
    let decided = deciding(&story.steps);
    let line = |(i, s)| {
        let mark = if Some(i) == decided { ">" } else { " " };
        let help = remedy(s, lang).filter(|_| Some(i) == decided).map(|r| format!("\n    {r}")).unwrap_or_default();
        format!("{mark} {}{help}", sentence(s, lang))
    };
    story.steps.iter().enumerate().map(line).collect::<Vec<_>>().join("\n")
}

#[test]
fn stories_read_well_in_both_languages() {
    let visiting = in_groups(&["berth-access", "visiting-crews"]);
    let mut bare = anouk();
    bare.claims.remove("preferred_username");
    bare.look_ups = vec![crate::harbour::look_up(LookUpState::NoKey { absence: "not-released".into() })];
    let mut weak = anouk();
    weak.factors = Factors::default();
    for (name, evidence) in [
        ("admitted", anouk()),
        ("refused_by_a_rule", visiting),
        ("no_key", bare),
        ("one_factor", weak),
        ("dead", found(failures()[3].clone())),
    ] {
        let (_, story) = decide(&site(), &evidence);
        insta::assert_snapshot!(format!("{name}_en"), told(&story, Lang::En));
        insta::assert_snapshot!(format!("{name}_fr"), told(&story, Lang::Fr));
    }
}

fn any_look_up() -> impl Strategy<Value = Option<LookUpState>> {
    let names = ["pilots", "berth-access", "planners", "visiting-crews", "crane-fitters", "night-watch"];
    let groups = prop::sample::subsequence(names.to_vec(), 0..=names.len());
    let answered = groups.prop_map(|g| entry(&g.into_iter().map(|n| (n, None)).collect::<Vec<_>>()));
    prop_oneof![
        1 => Just(None),
        2 => prop::sample::select(failures()).prop_map(Some),
        1 => answered.clone().prop_map(|entry| Some(LookUpState::Disabled { entry, why: "locked".into() })),
        6 => answered.prop_map(|entry| Some(LookUpState::Answered { entry })),
    ]
}

fn any_evidence() -> impl Strategy<Value = Evidence> {
    (any_look_up(), any::<bool>(), any::<bool>()).prop_map(|(state, mfa, named)| {
        let mut e = anouk();
        e.look_ups = state.map(crate::harbour::look_up).into_iter().collect();
        if !mfa {
            e.factors.amr = vec!["pwd".into()];
        }
        if !named {
            e.claims.remove("preferred_username");
        }
        e
    })
}

/// The demo's site, going on without its directory, with rules of these kinds on these groups.
fn with_rules(rules: &[(u8, usize)]) -> Site {
    let names = ["pilots", "Berth-Access", "planners", "visiting-crews", "crane-fitters", "night-watch"];
    let begin = SITE.find("[[gate.rule]]").unwrap();
    let end = SITE.find("# Whoever is let in may look;").unwrap();
    let text: String = rules
        .iter()
        .enumerate()
        .map(|(i, (kind, group))| {
            let g = names[*group];
            let (when, effect) = match kind {
                0 => (format!("{{ group = \"{g}\" }}"), format!("enter = true\nroles = [\"{g}\"]")),
                1 => (format!("{{ group = \"{g}\" }}"), "refuse = \"no\"".to_owned()),
                2 => (format!("{{ none = [ {{ group = \"{g}\" }} ] }}"), "enter = true".to_owned()),
                3 => (
                    format!("{{ any = [ {{ group = \"{g}\" }}, {{ attribute = \"name\", present = true }} ] }}"),
                    format!("enter = true\nroles = [\"x{i}\"]"),
                ),
                _ => (format!("{{ all = [ {{ group = \"{g}\" }}, {{ group = \"pilots\" }} ] }}"), "refuse = \"no\"".to_owned()),
            };
            format!("[[gate.rule]]\nname = \"r{i}\"\nwhen = {when}\n{effect}\n")
        })
        .collect();
    let site = format!("{}{text}{}", &SITE[..begin], &SITE[end..]);
    read(&site.replacen("directory = \"harbour\"\ndelivery", "directory = \"harbour\"\nwithout-directory = true\ndelivery", 1))
}

/// The demo's site with the rules of its gate in another order.
fn shuffled(order: &[usize]) -> Site {
    let begin = SITE.find("[[gate.rule]]").unwrap();
    let end = SITE.find("# Whoever is let in may look").unwrap();
    let rules: Vec<&str> = SITE[begin..end].split("[[gate.rule]]").skip(1).collect();
    let text: String = order.iter().map(|i| format!("[[gate.rule]]{}", rules[*i])).collect();
    read(&format!("{}{text}{}", &SITE[..begin], &SITE[end..]))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(256))]

    #[test]
    fn telling_changes_nothing(evidence in any_evidence()) {
        let site = site();
        let gate = site.gate("berths").unwrap();
        let silent = fold(&site, gate, &evidence, &now(), &mut Silent);
        let (told, _) = decide(&site, &evidence);
        prop_assert_eq!(silent.digest(), told.digest());
    }

    #[test]
    fn looking_at_fewer_rules_decides_the_same(rules in prop::collection::vec((0..5u8, 0..6usize), 1..24), evidence in any_evidence()) {
        let site = with_rules(&rules);
        let gate = site.gate("berths").unwrap();
        let silent = fold(&site, gate, &evidence, &now(), &mut Silent);
        let (told, _) = decide(&site, &evidence);
        prop_assert_eq!(silent.digest(), told.digest(), "{:?}", rules);
    }

    #[test]
    fn nobody_enters_without_factors_an_entry_in_order_and_a_granting_group(evidence in any_evidence()) {
        let (decision, story) = decide(&site(), &evidence);
        if let Decision::Admitted(admitted) = decision {
            prop_assert!(evidence.factors.amr.contains(&"mfa".to_owned()));
            let state = &evidence.look_ups[0].state;
            let answered = matches!(state, LookUpState::Answered { .. });
            prop_assert!(answered);
            let names: Vec<&str> = state.entry().unwrap().groups.iter().map(|g| g.name.as_str()).collect();
            prop_assert!(names.contains(&"berth-access") || names.contains(&"planners"));
            prop_assert!(!names.contains(&"visiting-crews"));
            prop_assert_eq!(admitted.roles().contains(&"planner".to_owned()), names.contains(&"planners"));
        } else {
            let last = story.steps.last().unwrap();
            prop_assert_eq!(last.code.spec().bearing, passeur_core::step::Bearing::Stop);
        }
    }

    #[test]
    fn the_order_of_rules_decides_nothing(evidence in any_evidence(), order in Just(vec![0usize, 1, 2]).prop_shuffle()) {
        let (a, b) = (site(), shuffled(&order));
        let fold = |s: &Site| decide(s, &evidence).0;
        prop_assert_eq!(matches!(fold(&a), Decision::Admitted(_)), matches!(fold(&b), Decision::Admitted(_)));
    }

    #[test]
    fn evidence_survives_storage_under_the_same_hash(evidence in any_evidence()) {
        let back: Evidence = serde_json::from_slice(&evidence.canonical()).unwrap();
        prop_assert_eq!(back.hash(), evidence.hash());
        prop_assert_eq!(back, evidence);
    }
}
