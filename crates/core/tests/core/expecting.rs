//! Expectations: read with every mistake named, and broken by exactly what breaks them.

use passeur_core::document::{Severity, compile};
use passeur_core::expect::{Broken, broken};
use passeur_core::step::Lang;

use crate::harbour::{SITE, moment, read, site};

fn breaks(old: &str, new: &str) -> Vec<Broken> {
    assert!(SITE.contains(old), "{old}");
    broken(&read(&SITE.replacen(old, new, 1)), moment(), Lang::En)
}

#[test]
fn the_demo_keeps_all_of_its_own() {
    assert_eq!(site().expectations.len(), 6);
    assert_eq!(broken(&site(), moment(), Lang::En), vec![]);
}

#[test]
fn each_way_to_break_one_is_told_with_what_decided() {
    let rule = "refuse = \"Visiting crews see their berth at the harbour office, quay side, every day from six to eight.\"";
    for (old, new, name, what, because) in [
        (rule, "enter = true", "visiting crews stay out", "must be refused, and comes in", "berth access, visiting crews"),
        (
            "when = { group = \"fitters\" }",
            "when = { group = \"crane-crew\" }",
            "fitters write",
            "must come in, and is refused",
            "None of the 3 rules",
        ),
        (
            "roles = [\"fitter\"]",
            "roles = [\"fitter\", \"smith\"]",
            "fitters write",
            "roles are fitter, smith instead of fitter",
            "crane fitters",
        ),
        ("roles = [\"planner\"]", "roles = []", "a planner", "roles are none instead of planner", "planners assign"),
        (
            "attribute = \"staff-number\"",
            "attribute = \"department\"",
            "a pilot looks",
            "X-Harbour-Staff-Number is nothing instead of “4711”",
            "",
        ),
        (
            "path = \"/assign\"\nwhen = { group = \"planners\" }",
            "path = \"/assign\"\nwhen = { group = \"pilots\" }",
            "a planner",
            "/assign must be reached, and is closed",
            "",
        ),
        (
            "path = \"/assign\"\nwhen = { group = \"planners\" }",
            "path = \"/assign\"\nwhen = { group = \"pilots\" }",
            "a pilot looks",
            "/assign must stay closed, and is reached",
            "",
        ),
        ("require-amr = [\"mfa\"]", "", "one factor", "must be refused, and comes in", "crane fitters"),
        ("roles = [\"view\"]", "roles = [\"configure\"]", "the harbour desk", "roles are configure instead of view", ""),
    ] {
        let found = breaks(old, new);
        let one = found.iter().find(|b| b.name.starts_with(name)).unwrap_or_else(|| panic!("{new}: {found:#?}"));
        assert!(one.what.iter().any(|w| w == what), "{new}: {one:#?}");
        assert!(one.because.contains(because), "{new}: {one:#?}");
        assert!(SITE.lines().nth(one.line - 1).is_some(), "it has a line");
    }
    let french = broken(&read(&SITE.replacen("roles = [\"fitter\"]", "roles = []", 1)), moment(), Lang::Fr);
    assert_eq!(french[0].what, ["rôles : aucun au lieu de fitter"]);
}

#[test]
fn each_mistake_in_one_is_named() {
    let base = "[[expectation]]\nname = \"x\"\ngate = \"berths\"\nperson = { groups = [\"pilots\"] }\nenter = true\n";
    for (old, new, says) in [
        ("gate = \"berths\"", "gate = \"berth\"", "there is no gate \"berth\""),
        ("gate = \"berths\"\n", "", "gate is missing"),
        ("enter = true\n", "", "enter is missing"),
        ("person = { groups = [\"pilots\"] }\n", "", "person is missing"),
        ("name = \"x\"\n", "", "name is missing"),
        ("enter = true", "enter = false\nroles = [\"a\"]", "who does not enter has no roles"),
        ("gate = \"berths\"", "gate = \"console\"\nreaches = [\"/\"]", "the console has no reaches"),
        ("enter = true", "enter = true\nreaches = [\"assign\"]", "\"assign\" is no path"),
        ("groups = [\"pilots\"]", "provider = \"other\"", "there is no provider \"other\""),
        ("groups = [\"pilots\"]", "claims = { a = 1 }", "a is a whole number"),
        ("groups = [\"pilots\"]", "claims = { a = [\"b\", true] }", "a is a list"),
        ("groups = [\"pilots\"]", "group = [\"pilots\"]", "group is not a known key"),
        ("person = { groups = [\"pilots\"] }", "person = \"anouk\"", "person is text"),
        ("name = \"x\"", "name = \"a planner assigns berths\"", "two expectations are named"),
    ] {
        assert!(base.contains(old), "{old}");
        let (_, findings) = compile(&format!("{SITE}\n{}", base.replacen(old, new, 1)));
        let said = findings.iter().any(|f| f.severity == Severity::Error && f.what.contains(says));
        assert!(said, "{new}: {findings:#?}");
    }
}
