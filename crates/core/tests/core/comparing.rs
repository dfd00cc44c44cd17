//! What a change of edition means, in words; and that nothing which changes goes untold.

use passeur_core::compare::{Bearing, Change, Side, changes_roles, compare, difference};
use passeur_core::step::Lang;

use crate::harbour::{SITE, read};

fn changes(before: &str, after: &str) -> Vec<Change> {
    let (a, b) = (read(before), read(after));
    compare(Side { text: before, site: &a }, Side { text: after, site: &b })
}

fn told(changes: &[Change], lang: Lang) -> String {
    changes.iter().map(|c| format!("{:?} {}: {}\n", c.bearing, c.code(), c.words(lang))).collect()
}

/// The demo's site with several pieces replaced, each of which must be there.
fn edited(edits: &[(&str, &str)]) -> String {
    let mut out = SITE.to_owned();
    for (old, new) in edits {
        assert!(out.contains(old), "{old}");
        out = out.replacen(old, new, 1);
    }
    out
}

#[test]
fn a_change_is_told_by_what_people_lose_and_gain() {
    let after = edited(&[
        ("when = { group = \"berth-access\" }", "when = { any = [{ group = \"pilots\" }, { group = \"Planners\" }] }"),
        ("refuse = \"Only berth planners assign berths.\"", "refuse = \"Planners only.\""),
        ("path = \"/assign\"\nwhen = { group = \"planners\" }", "path = \"/assign\"\nwhen = { group = \"berth-desk\" }"),
        ("upstream = \"http://127.0.0.1:8642\"", "upstream = \"http://127.0.0.1:8643\""),
        ("cache = \"30s\"", "cache = \"1m\""),
        ("attribute = \"staff-number\"", "attribute = \"department\""),
        ("name = \"X-Harbour-Name\"", "name = \"X-Harbour-Full-Name\""),
        ("idle = \"1h\"", "idle = \"30m\""),
        ("scopes = [\"openid\", \"profile\", \"email\"]\n", ""),
        (
            "[[engineers.rule]]\nname = \"the harbour desk\"\nwhen = { group = \"harbour-desk\" }\nenter = true\nroles = [\"view\"]\n",
            "",
        ),
    ]);
    let all = changes(SITE, &after);
    insta::assert_snapshot!("changes", told(&all, Lang::En));
    insta::assert_snapshot!("changes-fr", told(&all, Lang::Fr));
    insta::assert_snapshot!("difference", difference(SITE, &after).lines().take(24).collect::<Vec<_>>().join("\n"));
    let back = changes(&after, SITE);
    assert_eq!(back.len(), all.len());
    let count = |of: &[Change], b| of.iter().filter(|c| c.bearing == b).count();
    assert_eq!(count(&all, Bearing::Narrower), count(&back, Bearing::Wider), "back is the other way round");
}

#[test]
fn gates_that_come_and_go_are_told_once() {
    let gate = SITE.find("# The fitters' own book").unwrap();
    let end = SITE.find("# Terminals on the quay").unwrap();
    let twice =
        format!("{SITE}\n{}", SITE[gate..end].replace("name = \"cranes\"", "name = \"quays\"").replace("//cranes.", "//quays."));
    assert_eq!(told(&changes(SITE, &twice), Lang::En), "Wider part-added: gate quays would be new\n");
    assert_eq!(told(&changes(&twice, SITE), Lang::En), "Narrower part-removed: gate quays would be gone\n");
}

#[test]
fn another_order_of_routes_is_a_change() {
    let (first, second) = ("[[route]]\nname = \"visiting ships\"", "[[route]]\nname = \"shipping agents\"");
    let (a, b) = (SITE.find(first).unwrap(), SITE.find(second).unwrap());
    let end = b + SITE[b..].find("\n\n").unwrap() + 2;
    let swapped = format!("{}{}{}{}", &SITE[..a], &SITE[b..end], &SITE[a..b], &SITE[end..]);
    assert_eq!(
        told(&changes(SITE, &swapped), Lang::En),
        "Other parts-reordered: route: the order, which decides, would be another\n"
    );
}

#[test]
fn comments_order_of_keys_and_another_spelling_are_no_change() {
    let after = edited(&[
        ("# Where groups come from.", "# Groups."),
        (
            "name = \"berth access\"\nwhen = { group = \"berth-access\" }",
            "when = { group = \"berth-access\" }\nname = \"berth access\"",
        ),
        ("client = \"passeur-havrelune\"", "client = 'passeur-havrelune'"),
    ]);
    assert_eq!(changes(SITE, &after), vec![]);
    assert_eq!(difference(SITE, SITE), "");
    assert!(difference(SITE, &after).contains("+# Groups."));
}

#[test]
fn every_key_of_the_demo_is_told_when_it_goes() {
    // Each line with a plain value is taken away; where the rest still compiles, something must be told.
    let mut told_of = 0;
    for (i, line) in SITE.lines().enumerate().filter(|(_, l)| l.contains(" = ") && !l.starts_with('#')) {
        let after: String = SITE.lines().enumerate().filter(|(n, _)| *n != i).map(|(_, l)| format!("{l}\n")).collect();
        if passeur_core::site::compile(&after).0.is_some() {
            assert!(!changes(SITE, &after).is_empty(), "line {}: {line}", i + 1);
            told_of += 1;
        }
    }
    assert!(told_of > 15, "{told_of}");
}

#[test]
fn whatever_the_roles_of_engineers_stand_on_counts_as_a_change_of_roles() {
    let roles = |after: &str| {
        let (a, b) = (read(SITE), read(after));
        changes_roles(Side { text: SITE, site: &a }, Side { text: after, site: &b })
    };
    let engineers = |old: &str, new: &str| {
        let at = SITE.find("[engineers]").unwrap();
        format!("{}{}", &SITE[..at], SITE[at..].replacen(old, new, 1))
    };
    let uses = edited(&[("# The old applications", "[[mapping]]\nattribute = \"m\"\nfrom = \"user\"\n\n# The old")]).replacen(
        "when = { group = \"access-engineers\" }",
        "when = { any = [{ group = \"access-engineers\" }, { attribute = \"m\", is = \"lucie\" }] }",
        1,
    );
    for (what, after, is) in [
        ("nothing", SITE.to_owned(), false),
        ("a comment", format!("# words\n{SITE}"), false),
        ("a gate's rule", edited(&[("when = { group = \"berth-access\" }", "when = { group = \"pilots\" }")]), false),
        ("a gate's upstream", edited(&[("http://127.0.0.1:8642", "http://127.0.0.1:8643")]), false),
        ("a mapping no role stands on", edited(&[("cranes = \"Crane yard\"", "cranes = \"Yard\"")]), false),
        ("a group", engineers("access-engineers", "pilots"), true),
        ("a role", engineers("roles = [\"view\"]", "roles = [\"operate\"]"), true),
        ("a rule's order or name", engineers("name = \"the harbour desk\"", "name = \"desk\""), true),
        ("a rule gone", SITE[..SITE.find("[[engineers.rule]]\nname = \"the harbour desk\"").unwrap()].to_owned(), true),
        ("the asking itself", engineers("[engineers]", "[engineers]\nsecond-engineer = true"), true),
        ("nobody at all", SITE[..SITE.find("# Who may use the console").unwrap()].to_owned(), true),
        ("no directory needed", engineers("directory = \"harbour\"", "directory = \"harbour\"\nwithout-directory = true"), true),
        (
            "who signs",
            edited(&[("issuer = \"http://bureau-pilotage.localhost:8641\"", "issuer = \"http://evil.localhost:8641\"")]),
            true,
        ),
        ("who is believed about addresses", edited(&[("keep-crossings = \"90d\"", "trusted-proxies = [\"10.1.2.3\"]")]), true),
        ("fewer factors", edited(&[("require-amr = [\"mfa\"]\n", "")]), true),
        ("which claim names somebody", edited(&[("user = \"preferred_username\"", "user = \"nickname\"")]), true),
        ("which server is asked", edited(&[("ldap://127.0.0.1:8645", "ldap://127.0.0.1:9999")]), true),
        ("where groups are", edited(&[("base = \"ou=groups,", "base = \"ou=people,")]), true),
        ("a mapping that a role stands on", uses, true),
    ] {
        assert_eq!(roles(&after), is, "{what}");
    }
}
