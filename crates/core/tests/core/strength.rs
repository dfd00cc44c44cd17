//! Every condition and every grant, by tables: what holds, what does not, and what cannot be known.

use chrono::{DateTime, Duration};
use passeur_core::Moment;
use passeur_core::circumstances::Circumstances;
use passeur_core::condition::{Condition, Truth};
use passeur_core::decide::{Admitted, Decision, RequestView, fold};
use passeur_core::document::{Severity, compile};
use passeur_core::evidence::{Evidence, LookUpState};
use passeur_core::identity::identify;
use passeur_core::site::{RolesFrom, Site};
use passeur_core::step::{Lang, Silent, StepCode, Story};
use serde_json::json;

use crate::harbour::{SITE, anouk, found, in_groups, moment, now, read};

const LISTS: &str =
    "\n[lists.networks]\nyard = [\"10.20.0.0/16\", \"2001:db8::/32\"]\n[lists.groups]\ncrews = [\"pilots\", \"fitters\"]\n";

/// The demo's site with the condition of its first rule replaced, and lists.
fn with(when: &str) -> Site {
    let site = SITE.replacen("leavers = [", "gone = [\"pilotage/p-1001\"]\nleavers = [", 1);
    read(&format!("{}{LISTS}", site.replacen("when = { group = \"berth-access\" }", &format!("when = {when}"), 1)))
}

fn first(site: &Site) -> &Condition {
    &site.gate("berths").unwrap().access.rules.iter().find(|r| r.name == "berth access").unwrap().when
}

fn judged(when: &str, who: &Evidence, at: &Circumstances<'_>) -> Truth {
    let site = with(when);
    let who = identify(&site, &site.gate("berths").unwrap().access, who, &mut Silent);
    first(&site).judge(&who, at, Some("berths"))
}

/// Anouk with a staff number of her own.
fn number(value: &str) -> Evidence {
    let mut e = anouk();
    e.claims.insert("name".into(), json!(value));
    e
}

#[test]
fn conditions_on_the_person() {
    let dead = || found(LookUpState::Dead { detail: "no answer".into() });
    for (when, who, want) in [
        ("{ group = \"berth-access\" }", anouk(), Truth::Yes),
        ("{ group = \"berth-access\", direct = true }", anouk(), Truth::No),
        ("{ group = \"pilots\", direct = true }", anouk(), Truth::Yes),
        ("{ group = \"pilots\", direct = true }", dead(), Truth::Unknown),
        ("{ any-group = \"crews\" }", anouk(), Truth::Yes),
        ("{ any-group = \"crews\" }", in_groups(&["planners"]), Truth::No),
        ("{ any-group = [\"planners\", \"FITTERS\"] }", in_groups(&["fitters"]), Truth::Yes),
        ("{ any-group = \"crews\" }", dead(), Truth::Unknown),
        ("{ person = \"gone\" }", anouk(), Truth::Yes),
        ("{ person = [\"pilotage/p-1002\", \"other/p-1001\"] }", anouk(), Truth::No),
        ("{ way-in = \"pilotage\" }", anouk(), Truth::Yes),
        ("{ factor = \"mfa\" }", anouk(), Truth::Yes),
        ("{ factor = [\"hwk\", \"swk\"] }", anouk(), Truth::No),
        ("{ context = \"2\" }", anouk(), Truth::Yes),
        ("{ context = [\"3\", \"4\"] }", anouk(), Truth::No),
        ("{ attribute = \"name\", starts-with = [\"Ben\", \"An\"] }", anouk(), Truth::Yes),
        ("{ attribute = \"name\", starts-with = \"an\" }", anouk(), Truth::No),
        ("{ attribute = \"mail\", ends-with = \"@havrelune.example\" }", anouk(), Truth::Yes),
        ("{ attribute = \"mail\", ends-with = \"havrelune\" }", anouk(), Truth::No),
        ("{ attribute = \"name\", matches = \"A[a-z]+ M.*\" }", anouk(), Truth::Yes),
        ("{ attribute = \"name\", matches = \"Anouk\" }", anouk(), Truth::No),
        ("{ attribute = \"staff-number\", at-least = 4711 }", anouk(), Truth::Yes),
        ("{ attribute = \"staff-number\", more-than = 4711 }", anouk(), Truth::No),
        ("{ attribute = \"staff-number\", at-most = 4711.0 }", anouk(), Truth::Yes),
        ("{ attribute = \"staff-number\", less-than = 4711 }", anouk(), Truth::No),
        ("{ attribute = \"staff-number\", at-least = 1 }", dead(), Truth::Unknown),
        ("{ attribute = \"name\", at-least = 18 }", anouk(), Truth::Unknown),
        ("{ attribute = \"name\", at-least = 18 }", number("9"), Truth::No),
        ("{ attribute = \"name\", at-least = 18 }", number("-1e3"), Truth::No),
        ("{ attribute = \"name\", at-least = 18 }", number("NaN"), Truth::Unknown),
        ("{ attribute = \"name\", at-least = \"10.2\", as = \"version\" }", number("v10.10.1"), Truth::Yes),
        ("{ attribute = \"name\", at-least = \"10.2\", as = \"version\" }", number("9.99"), Truth::No),
        ("{ attribute = \"name\", at-least = \"10.2\", as = \"version\" }", number("10.2.0"), Truth::Yes),
        ("{ attribute = \"name\", at-least = \"10.2\", as = \"version\" }", number("10.x"), Truth::Unknown),
        ("{ attribute = \"name\", more-than = \"now\", as = \"time\" }", number("2031-01-01T00:00:00+01:00"), Truth::Yes),
        ("{ attribute = \"name\", more-than = \"now\", as = \"time\" }", number("20201231235959Z"), Truth::No),
        ("{ attribute = \"name\", more-than = \"now\", as = \"time\" }", number("20201231235959.0Z"), Truth::No),
        ("{ attribute = \"name\", less-than = \"2026-01-01T00:00:00Z\", as = \"time\" }", number("1700000000"), Truth::Yes),
        ("{ attribute = \"name\", less-than = \"2026-01-01T00:00:00Z\", as = \"time\" }", number("tomorrow"), Truth::Unknown),
    ] {
        assert_eq!(judged(when, &who, &now()), want, "{when}");
    }
}

fn at(text: &str) -> Moment {
    DateTime::parse_from_rfc3339(text).unwrap().to_utc()
}

#[test]
fn conditions_on_the_request_and_on_time() {
    let m = moment();
    let from = |a: &str| Circumstances::at(m).from(a.parse().unwrap());
    let plain = Circumstances::at(m);
    let path = |path| Circumstances { path, ..plain };
    let clock = |t: &str| Circumstances::at(at(t));
    let office = "{ hours = { from = \"08:00\", until = \"18:00\", days = [\"mon\", \"tue\", \"wed\", \"thu\", \"fri\"], zone = \"Europe/Paris\" } }";
    let night = "{ hours = { from = \"22:00\", until = \"06:00\", days = [\"fri\"] } }";
    let dates = "{ dates = { from = \"2026-11-02\", until = \"2026-11-30\", zone = \"Europe/Paris\" } }";
    for (when, at, want) in [
        ("{ network = \"yard\" }", from("10.20.3.4"), Truth::Yes),
        ("{ network = \"yard\" }", from("::ffff:10.20.3.4"), Truth::Yes),
        ("{ network = \"yard\" }", from("10.21.3.4"), Truth::No),
        ("{ network = \"yard\" }", from("2001:db8::1"), Truth::Yes),
        ("{ network = \"yard\" }", plain, Truth::Unknown),
        ("{ network = [\"192.0.2.7\", \"198.51.100.0/24\"] }", from("192.0.2.7"), Truth::Yes),
        ("{ none = [{ network = \"yard\" }] }", plain, Truth::Unknown),
        ("{ path = \"/reports\" }", path("/reports/2026"), Truth::Yes),
        ("{ path = \"/reports\" }", path("/reportsx"), Truth::No),
        ("{ path = \"/reports\" }", path("/x/../reports"), Truth::Unknown),
        ("{ path = \"/reports\" }", path("/REPORTS"), Truth::Unknown),
        ("{ none = [{ path = \"/reports\" }] }", path("/%72eports"), Truth::Unknown),
        ("{ method = [\"GET\", \"HEAD\"] }", plain, Truth::Yes),
        ("{ method = \"POST\" }", plain, Truth::No),
        ("{ gate = [\"berths\", \"cranes\"] }", plain, Truth::Yes),
        ("{ gate = \"cranes\" }", plain, Truth::No),
        // Friday; Paris is an hour ahead in winter.
        (office, clock("2026-11-27T07:00:00Z"), Truth::Yes),
        (office, clock("2026-11-27T06:59:59Z"), Truth::No),
        (office, clock("2026-11-27T16:59:59Z"), Truth::Yes),
        (office, clock("2026-11-27T17:00:00Z"), Truth::No),
        (office, clock("2026-11-28T10:00:00Z"), Truth::No),
        // And two in summer.
        (office, clock("2026-07-03T06:00:00Z"), Truth::Yes),
        (night, clock("2026-11-27T23:00:00Z"), Truth::Yes),
        (night, clock("2026-11-28T05:59:00Z"), Truth::Yes),
        (night, clock("2026-11-28T06:00:00Z"), Truth::No),
        (night, clock("2026-11-28T23:00:00Z"), Truth::No),
        (night, clock("2026-11-27T05:00:00Z"), Truth::No),
        (dates, clock("2026-11-01T22:59:59Z"), Truth::No),
        (dates, clock("2026-11-01T23:00:00Z"), Truth::Yes),
        (dates, clock("2026-11-30T22:59:59Z"), Truth::Yes),
        (dates, clock("2026-11-30T23:00:00Z"), Truth::No),
        ("{ factor = \"mfa\", within = \"15m\" }", Circumstances::at(m + Duration::minutes(14)), Truth::Yes),
        ("{ factor = \"mfa\", within = \"15m\" }", Circumstances::at(m + Duration::minutes(15)), Truth::No),
        ("{ factor = \"hwk\", within = \"15m\" }", plain, Truth::No),
        ("{ signed-in-within = \"1h\" }", Circumstances::at(m + Duration::minutes(59)), Truth::Yes),
        ("{ signed-in-within = \"1h\" }", Circumstances::at(m + Duration::minutes(60)), Truth::No),
        // A time that lies ahead proves nothing.
        ("{ signed-in-within = \"1h\" }", Circumstances::at(m - Duration::minutes(6)), Truth::No),
    ] {
        assert_eq!(judged(when, &anouk(), &at), want, "{when} at {at:?}");
    }
    let mut silent = anouk();
    silent.factors.auth_time = None;
    assert_eq!(judged("{ signed-in-within = \"1h\" }", &silent, &plain), Truth::Unknown);
    assert_eq!(judged("{ factor = \"mfa\", within = \"1h\" }", &silent, &plain), Truth::Unknown);
}

#[test]
fn a_decision_is_good_until_time_may_change_it_and_not_longer() {
    let edges = |when: &str, at: Moment| {
        let site = with(when);
        let who = identify(&site, &site.gate("berths").unwrap().access, &anouk(), &mut Silent);
        first(&site).next_edge(&who, at)
    };
    let m = moment();
    assert_eq!(edges("{ group = \"pilots\" }", m), None);
    assert_eq!(edges("{ signed-in-within = \"1h\" }", m), Some(m + Duration::hours(1)));
    assert_eq!(edges("{ signed-in-within = \"1h\" }", m + Duration::hours(2)), None);
    let hours = "{ any = [{ group = \"x\" }, { hours = { from = \"08:00\", until = \"18:00\", zone = \"Europe/Paris\" } }] }";
    assert_eq!(edges(hours, at("2026-11-27T07:30:00Z")), Some(at("2026-11-27T17:00:00Z")));
    assert_eq!(edges(hours, at("2026-11-27T17:00:00Z")), Some(at("2026-11-28T07:00:00Z")));
    let dates = "{ dates = { until = \"2026-11-30\" } }";
    assert_eq!(edges(dates, at("2026-11-27T07:30:00Z")), Some(at("2026-12-01T00:00:00Z")));
    assert_eq!(edges(dates, at("2026-12-02T00:00:00Z")), None);
    // Whatever the hour, judging just before the edge and now agree.
    for minute in (0..60 * 24 * 3).step_by(37) {
        let t = at("2026-03-28T00:00:00Z") + Duration::minutes(minute);
        let edge = edges(hours, t).unwrap();
        let j = |t| judged(hours, &anouk(), &Circumstances::at(t));
        assert!(edge > t && j(t) == j(edge - Duration::milliseconds(1)), "{t} {edge}");
    }
}

#[test]
fn requests_that_look_alike_are_decided_alike() {
    let site = with("{ any = [{ network = \"yard\" }, { all = [{ path = \"/reports\" }, { method = \"GET\" }] }] }");
    let gate = site.gate("berths").unwrap();
    let view = RequestView::of(gate);
    assert!(!view.is_blind() && !view.is_timed());
    assert!(RequestView::at(&site, &passeur_core::site::Place::Console).is_blind());
    let mut seen = std::collections::HashMap::new();
    for address in [None, Some("10.20.0.1"), Some("192.0.2.1")] {
        for path in ["/", "/reports", "/reports/x", "/REPORTS", "//reports", "/x"] {
            for method in ["GET", "POST", "HEAD"] {
                let at =
                    Circumstances { now: moment(), address: address.map(|a| a.parse().unwrap()), method, path, tunnel: None };
                let admitted = matches!(fold(&site, gate, &anouk(), &at, &mut Silent), Decision::Admitted(_));
                let known = seen.entry(view.look(&at)).or_insert(admitted);
                assert_eq!(*known, admitted, "{at:?}");
            }
        }
    }
    assert!(seen.len() > 4 && seen.values().any(|a| *a) && seen.values().any(|a| !*a));
}

/// The demo with the rules of its first gate replaced.
fn rules(text: &str) -> Site {
    let begin = SITE.find("[[gate.rule]]").unwrap();
    let end = SITE.find("# Whoever is let in may look").unwrap();
    let expected = SITE.find("# What must stay so").unwrap();
    let site = format!("{}{text}\n{}", &SITE[..begin], &SITE[end..expected]);
    read(&site.replacen("attribute = \"name\"", "given = \"desk\"", 1))
}

fn told(site: &Site, who: &Evidence, at: &Circumstances<'_>) -> (Option<Admitted>, Story) {
    let mut story = Story::default();
    let decision = fold(site, site.gate("berths").unwrap(), who, at, &mut story);
    let silent = fold(site, site.gate("berths").unwrap(), who, at, &mut Silent);
    assert_eq!(silent.digest(), decision.digest(), "telling changes nothing");
    match decision {
        Decision::Admitted(a) => (Some(a), story),
        Decision::Refused(_) => (None, story),
    }
}

#[test]
fn grants_are_joined_and_of_single_values_the_first_counts() {
    let site = rules(
        "[[gate.rule]]\nname = \"enter\"\nwhen = { everyone = true }\nenter = true\nroles = [\"a\"]\nidle = \"10m\"\nmessage = \"Mind the tide.\"\n\
         [[gate.rule]]\nname = \"more\"\nwhen = { group = \"pilots\" }\nroles = [\"b\", \"a\"]\nidle = \"5m\"\nabsolute = \"2h\"\ndeliver = { desk = \"north\" }\n\
         [[gate.rule]]\nname = \"again\"\nwhen = { group = \"berth-access\" }\ndeliver = { desk = \"south\" }\nmessage = \"Mind the tide.\"\n",
    );
    let (admitted, story) = told(&site, &anouk(), &now());
    let admitted = admitted.unwrap();
    assert_eq!(admitted.roles(), ["a", "b"]);
    let terms = admitted.terms().unwrap();
    assert_eq!(terms.messages, ["Mind the tide."]);
    let limits = admitted.lifetimes(&site.lifetimes);
    assert_eq!((limits.idle, limits.absolute), (Duration::minutes(10), Duration::hours(2)));
    let desk = admitted.headers().iter().find(|h| h.name == "X-Harbour-Name").unwrap();
    assert_eq!(desk.value, b"north");
    let conflicts: Vec<String> = story
        .steps
        .iter()
        .filter(|s| s.code == StepCode::RuleConflict)
        .map(|s| passeur_core::step::sentence(s, Lang::En))
        .collect();
    assert_eq!(
        conflicts,
        [
            "Rule “more” gives idle as 5 min, and a rule before it as 10 min: the first counts.",
            "Rule “again” gives desk as south, and a rule before it as north: the first counts."
        ]
    );
    // Grants without entry let nobody in; never longer than the site says.
    let site = rules("[[gate.rule]]\nname = \"roles alone\"\nwhen = { everyone = true }\nroles = [\"a\"]\n");
    assert!(told(&site, &anouk(), &now()).0.is_none());
    let site = rules("[[gate.rule]]\nname = \"long\"\nwhen = { everyone = true }\nenter = true\nabsolute = \"20h\"\n");
    assert_eq!(told(&site, &anouk(), &now()).0.unwrap().lifetimes(&site.lifetimes).absolute, Duration::hours(10));
}

#[test]
fn a_rule_that_asks_for_more_refuses_who_did_not_bring_it() {
    let enter = "[[gate.rule]]\nname = \"enter\"\nwhen = { everyone = true }\nenter = true\n";
    for (need, at, lets_in) in [
        ("{ factor = \"mfa\" }", now(), true),
        ("{ factor = \"hwk\" }", now(), false),
        ("{ signed-in-within = \"15m\" }", now(), true),
        ("{ signed-in-within = \"15m\" }", Circumstances::at(moment() + Duration::minutes(20)), false),
        ("{ all = [{ context = \"2\" }, { factor = \"mfa\", within = \"1h\" }] }", now(), true),
        ("{ context = \"3\" }", now(), false),
    ] {
        let site =
            rules(&format!("{enter}[[gate.rule]]\nname = \"careful\"\nwhen = {{ group = \"pilots\" }}\nstep-up = {need}\n"));
        let (admitted, story) = told(&site, &anouk(), &at);
        assert_eq!(admitted.is_some(), lets_in, "{need}");
        if !lets_in {
            assert_eq!(story.steps.last().unwrap().code, StepCode::StepUpNeeded, "{need}");
        }
        // Who the rule is not about is asked nothing.
        assert!(told(&site, &in_groups(&["planners"]), &at).0.is_some(), "{need}");
        // Who it may be about is asked.
    }
    let site = rules(&format!(
        "{enter}[[gate.rule]]\nname = \"careful\"\nwhen = {{ attribute = \"mail\", at-least = 3 }}\nstep-up = {{ factor = \"hwk\" }}\n"
    ));
    assert!(told(&site, &anouk(), &now()).0.is_none(), "whether it applies cannot be known");
}

#[test]
fn rules_of_the_site_stand_before_those_of_every_gate() {
    let rule = "[[rule]]\nname = \"gone\"\nwhen = { all = [{ person = [\"pilotage/p-1001\"] }, { gate = \"berths\" }] }\nrefuse = \"You have left.\"\n";
    let site = read(&format!("{SITE}{LISTS}{rule}"));
    assert!(site.gates.iter().all(|g| g.access.rules[0].name == "whoever has left" && g.access.rules[1].name == "gone"));
    let at_gate = |name: &str| fold(&site, site.gate(name).unwrap(), &anouk(), &now(), &mut Silent);
    assert!(matches!(at_gate("berths"), Decision::Refused(r) if r.words.as_deref() == Some("You have left.")));
    assert!(matches!(at_gate("cranes"), Decision::Refused(r) if r.code == StepCode::NothingGrants));
    assert!(site.engineers.unwrap().rules.iter().all(|r| r.name != "gone"), "the console has rules of its own");
}

#[test]
fn the_index_by_group_forgets_no_rule_that_may_apply() {
    let mut text = String::new();
    for (i, when) in [
        "{ group = \"pilots\" }",
        "{ any-group = [\"planners\", \"pilots\"] }",
        "{ all = [{ method = \"GET\" }, { group = \"fitters\" }] }",
        "{ any = [{ group = \"pilots\" }, { group = \"planners\", direct = true }] }",
        "{ any = [{ group = \"pilots\" }, { method = \"GET\" }] }",
        "{ none = [{ group = \"pilots\" }] }",
        "{ everyone = true }",
    ]
    .iter()
    .enumerate()
    {
        text.push_str(&format!("[[gate.rule]]\nname = \"r{i}\"\nwhen = {when}\nenter = true\nroles = [\"r{i}\"]\n"));
    }
    let site = rules(&text);
    for groups in [&[][..], &["pilots"], &["planners"], &["fitters"], &["Pilots", "fitters"], &["others"]] {
        // The silent witness uses the index, the story looks at every rule; told() compares them.
        let (admitted, _) = told(&site, &in_groups(groups), &now());
        assert!(admitted.unwrap().roles().contains(&"r6".to_owned()), "{groups:?}");
    }
}

#[test]
fn every_mistake_in_a_condition_or_grant_is_named() {
    let bad = |when: &str| {
        let text = SITE.replacen("when = { group = \"berth-access\" }", &format!("when = {when}"), 1);
        compile(&format!("{text}{LISTS}")).1
    };
    for (when, says) in [
        ("{ network = \"10.0.0.0/33\" }", "neither a network nor a list"),
        ("{ network = [] }", "network is empty"),
        ("{ person = \"anouk\" }", "neither a person"),
        ("{ way-in = \"other\" }", "there is no way in"),
        ("{ gate = \"quays\" }", "there is no gate"),
        ("{ path = \"reports\" }", "no plain path"),
        ("{ path = \"/a/../b\" }", "no plain path"),
        ("{ method = \"get\" }", "no request method"),
        ("{ hours = { from = \"8\", until = \"18:00\" } }", "no time of day"),
        ("{ hours = { from = \"08:00\" } }", "until is missing"),
        ("{ hours = { from = \"08:00\", until = \"18:00\", days = [\"someday\"] } }", "no day"),
        ("{ hours = { from = \"08:00\", until = \"18:00\", zone = \"Havrelune\" } }", "no time zone"),
        ("{ dates = { } }", "names no day"),
        ("{ dates = { from = \"2026-13-01\" } }", "no date"),
        ("{ attribute = \"name\", matches = \"(\" }", "pattern cannot be used"),
        ("{ attribute = \"name\", matches = \"a{1000}{1000}\" }", "pattern cannot be used"),
        ("{ attribute = \"name\", at-least = \"x\" }", "cannot be read as a number"),
        ("{ attribute = \"name\", at-least = \"x\", as = \"version\" }", "cannot be read as a version"),
        ("{ attribute = \"name\", at-least = \"x\", as = \"time\" }", "cannot be read as a time"),
        ("{ attribute = \"name\", at-least = 1, at-most = 2 }", "does not say what to compare"),
        ("{ factor = \"mfa\", within = \"0s\" }", "out of range"),
        ("{ group = \"a\", method = \"GET\" }", "stand side by side"),
    ] {
        let found = bad(when);
        assert!(found.iter().any(|f| f.severity == Severity::Error && f.what.contains(says)), "{when}: {found:#?}");
    }
    let long = format!("{{ attribute = \"name\", matches = \"{}\" }}", "a".repeat(501));
    assert!(bad(&long).iter().any(|f| f.what.contains("longer than 500")));
    for (old, new, says) in [
        (
            "enter = true\n\n[[gate.rule]]\nname = \"planners",
            "enter = true\nstep-up = { factor = \"mfa\" }\n\n[[gate.rule]]\nname = \"planners",
            "a rule does one thing",
        ),
        (
            "enter = true\n\n[[gate.rule]]\nname = \"planners",
            "step-up = { group = \"x\" }\n\n[[gate.rule]]\nname = \"planners",
            "a sign-in cannot give",
        ),
        (
            "enter = true\n\n[[gate.rule]]\nname = \"planners",
            "enter = true\ndeliver = { a = [\"b\", \"c\"] }\n\n[[gate.rule]]\nname = \"planners",
            "has several values",
        ),
        ("[lists.networks]", "[lists.networks]\nbad = [\"x\"]\n[lists.unknown]", "unknown is not a known key"),
        ("yard = [", "bad = [\"300.0.0.1\"]\nyard = [", "cannot be read"),
    ] {
        let text = format!("{SITE}{LISTS}");
        assert!(text.contains(old), "{old}");
        let (_, found) = compile(&text.replacen(old, new, 1));
        assert!(found.iter().any(|f| f.severity == Severity::Error && f.what.contains(says)), "{new}: {found:#?}");
    }
    // More parts of requests than a decision can be remembered by.
    let paths: String = (0..33).map(|i| format!("{{ path = \"/p{i}\" }}, ")).collect();
    assert!(bad(&format!("{{ any = [{paths}] }}")).iter().any(|f| f.what.contains("33 different networks, paths and methods")));
}

#[test]
fn every_rule_reads_as_a_sentence() {
    let mut lines = vec![];
    for when in [
        "{ group = \"pilots\", direct = true }",
        "{ any-group = \"crews\" }",
        "{ person = \"gone\" }",
        "{ all = [{ way-in = \"pilotage\" }, { factor = [\"hwk\", \"mfa\"], within = \"8h\" }, { context = \"2\" }] }",
        "{ any = [{ network = \"yard\" }, { network = [\"192.0.2.0/24\"] }] }",
        "{ hours = { from = \"08:00\", until = \"18:00\", days = [\"mon\", \"fri\"], zone = \"Europe/Paris\" } }",
        "{ dates = { until = \"2026-12-31\" } }",
        "{ all = [{ gate = \"berths\" }, { path = \"/reports\" }, { method = [\"GET\", \"HEAD\"] }] }",
        "{ attribute = \"name\", matches = \"A.*\" }",
        "{ attribute = \"staff-number\", at-least = 4000 }",
        "{ signed-in-within = \"30m\" }",
    ] {
        let site = with(when);
        let rule = site.gate("berths").unwrap().access.rules.iter().find(|r| r.name == "berth access").unwrap();
        lines.push(format!("{} / {}", rule.sentence(&site, Lang::En), rule.sentence(&site, Lang::Fr)));
    }
    insta::assert_snapshot!(lines.join("\n"));
}

#[test]
fn roles_come_from_claims_as_far_as_the_rule_says() {
    let from = |only: &[&str]| RolesFrom { attribute: None, only: only.iter().map(|o| (*o).to_owned()).collect() };
    for (only, values, roles, other) in [
        (&["planner", "reader"][..], &["Planner", "root", "reader", "planner"][..], &["planner", "reader"][..], &["root"][..]),
        (&[], &["a b", "x/y:z", "", "  ", "two\nlines", "a;b"], &["a b", "x/y:z"], &["", "  ", "two\nlines", "a;b"]),
        (&["planner"], &[], &[], &[]),
    ] {
        let (found, left) = from(only).among(values.iter().copied());
        assert_eq!(
            (found, left),
            (roles.iter().map(|r| (*r).to_owned()).collect(), other.iter().map(|r| (*r).to_owned()).collect()),
            "{only:?}"
        );
    }
    let many: Vec<String> = (0..200).map(|i| format!("r{i}")).collect();
    assert_eq!(from(&[]).among(many.iter().map(String::as_str)).0.len(), 50);
    assert!(from(&[]).among(["x".repeat(81).as_str()]).0.is_empty());
}

#[test]
fn a_password_is_handed_over_only_where_one_is_typed_and_nobody_reads_it_on_its_way() {
    let demo = include_str!("../../../../demo/site.toml");
    let with = |gate: &str, upstream: Option<&str>| {
        let mut text = demo.replacen(&format!("name = \"{gate}\""), &format!("name = \"{gate}\"\nhand-over = \"basic\""), 1);
        if let Some(upstream) = upstream {
            text = text.replace("http://127.0.0.1:8642", upstream);
        }
        let (site, findings) = compile(&text);
        (site.is_some(), findings.iter().filter(|f| f.severity == Severity::Error).map(|f| f.what.clone()).collect::<Vec<_>>())
    };
    assert_eq!(with("harbour-wide", None), (true, vec![]), "to this host");
    assert!(with("harbour-wide", Some("https://ledger.havrelune.example")).0);
    let (sound, why) = with("harbour-wide", Some("http://ledger.havrelune.example"));
    assert!(!sound && why[0].contains("in clear to http://ledger.havrelune.example"), "{why:?}");
    let (sound, why) = with("berths", None);
    assert!(!sound && why[0].contains("no way in of the gate asks for a password"), "{why:?}");
}
