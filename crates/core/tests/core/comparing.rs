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
    let count = |of: &[Change], b| of.iter().filter(|c| c.bearing == b && c.code() != "source-changed").count();
    assert_eq!(count(&all, Bearing::Narrower), count(&back, Bearing::Wider), "back is the other way round");
}

#[test]
fn gates_that_come_and_go_are_told_once() {
    let gate = SITE.find("# The fitters' own book").unwrap();
    let end = SITE.find("# Terminals on the quay").unwrap();
    let twice =
        format!("{SITE}\n{}", SITE[gate..end].replace("name = \"cranes\"", "name = \"quays\"").replace("//cranes.", "//quays."));
    assert_eq!(
        told(&changes(SITE, &twice), Lang::En),
        "Wider part-added: gate quays would be new and admit group fitters; group planners and method GET; group planners and method HEAD\n"
    );
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
        if passeur_core::document::compile(&after).0.is_some() {
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
        (
            "who is believed about addresses",
            edited(&[("keep-crossings = \"90d\"", "trusted-proxies = [\"10.1.2.3\"]\nproxies-write = \"forwarded\"")]),
            true,
        ),
        ("fewer factors", edited(&[("require-amr = [\"mfa\"]\n", "")]), true),
        ("mail that lets no engineer in", edited(&[("smtp://127.0.0.1:8646", "smtp://127.0.0.1:9")]), false),
        ("which claim names somebody", edited(&[("user = \"preferred_username\"", "user = \"nickname\"")]), true),
        ("which server is asked", edited(&[("ldap://127.0.0.1:8645", "ldap://127.0.0.1:9999")]), true),
        ("where groups are", edited(&[("base = \"ou=groups,", "base = \"ou=people,")]), true),
        ("a mapping that a role stands on", uses, true),
    ] {
        assert_eq!(roles(&after), is, "{what}");
    }
}

#[test]
fn whatever_engineers_come_in_by_counts_with_all_that_vouches_for_them_there() {
    let with = |ways: &str| {
        let at = SITE.find("[engineers]").unwrap();
        format!("{}{}", &SITE[..at], SITE[at..].replacen("provider = \"pilotage\"", ways, 1))
    };
    let changes = |ways: &str, old: &str, new: &str| {
        let before = with(ways);
        let after = before.replacen(old, new, 1);
        assert_ne!(before, after, "{old}");
        let (a, b) = (read(&before), read(&after));
        changes_roles(Side { text: &before, site: &a }, Side { text: &after, site: &b })
    };
    let mail = ("smtp://127.0.0.1:8646", "smtp://127.0.0.1:9");
    assert!(changes("ways-in = [\"pilotage\", \"visitors\"]", mail.0, mail.1), "a code by mail");
    assert!(!changes("ways-in = [\"pilotage\", \"harbour-password\"]", mail.0, mail.1));
    let name = ("[way.attributes]\nuser = \"user\"", "[way.attributes]\nuser = \"name\"");
    assert!(changes("ways-in = [\"passkey\"]", name.0, name.1), "whoever a passkey stands for");
    assert!(!changes("ways-in = [\"pilotage\"]", name.0, name.1));
    let stands_on = |ways: &str| read(&with(ways)).roles_stand_on().secrets.into_iter().collect::<Vec<_>>();
    assert_eq!(stands_on("ways-in = [\"pilotage\"]"), ["harbour-account", "pilotage-client"]);
    assert_eq!(stands_on("ways-in = [\"ticket\", \"pilotage-saml\"]"), ["harbour-account", "harbour-keytab", "saml-key"]);
}

/// A gate with these rules and nothing else about it, in a small site.
fn gate(rules: &str) -> String {
    let head = &SITE[..SITE.find("[[gate]]").unwrap()];
    let lists = "\n[lists.networks]\nall = [\"10.0.0.0/8\"]\npart = [\"10.20.0.0/16\"]\n";
    format!(
        "{head}{lists}\n[[gate]]\nname = \"g\"\naddress = \"http://g.havrelune.localhost:8640\"\nupstream = \"http://127.0.0.1:9\"\nprovider = \"pilotage\"\ndirectory = \"harbour\"\n{rules}"
    )
}

fn rule(name: &str, when: &str, effect: &str) -> String {
    format!("[[gate.rule]]\nname = \"{name}\"\nwhen = {when}\n{effect}\n")
}

/// What is told first of a change of rules: who loses and who gains, without how rules are written.
fn people(before: &str, after: &str) -> Vec<String> {
    let all = changes(&gate(before), &gate(after));
    all.iter().filter(|c| c.bearing != Bearing::Other).map(|c| format!("{:?} {}", c.bearing, c.words(Lang::En))).collect()
}

#[allow(clippy::too_many_lines)] // A table of pairs.
#[test]
fn whom_rules_admit_is_compared_whatever_they_are_written_like() {
    let enter = |when: &str| rule("in", when, "enter = true");
    let and_refused = |when: &str| enter("{ everyone = true }") + &rule("out", when, "refuse = \"No.\"");
    let strong = |factor: &str| enter("{ everyone = true }") + &rule("more", "{ group = \"a\" }", &format!("step-up = {factor}"));
    for (what, before, after, wanted) in [
        (
            "tightening",
            enter("{ everyone = true }"),
            enter("{ group = \"planners\" }"),
            vec!["Narrower gate g would no longer admit everybody but group planners"],
        ),
        (
            "opening",
            enter("{ group = \"planners\" }"),
            enter("{ everyone = true }"),
            vec![
                "Wider gate g would now admit everybody who signs in",
                "Wider gate g would now admit everybody but group planners",
            ],
        ),
        (
            "another group",
            enter("{ group = \"a\" }"),
            enter("{ group = \"b\" }"),
            vec![
                "Narrower gate g would no longer admit group a, apart from group b",
                "Wider gate g would now admit group b, apart from group a",
            ],
        ),
        (
            "a refusal that grows",
            and_refused("{ any-group = [\"x\"] }"),
            and_refused("{ any-group = [\"x\", \"y\"] }"),
            vec!["Narrower gate g would no longer admit group y"],
        ),
        (
            "people refused",
            and_refused("{ person = \"pilotage/1\" }"),
            and_refused("{ person = [\"pilotage/1\", \"pilotage/2\"] }"),
            vec!["Narrower gate g would no longer admit person pilotage/2"],
        ),
        (
            "a part of a network",
            enter("{ network = \"all\" }"),
            enter("{ network = \"part\" }"),
            vec!["Narrower gate g would no longer admit network all, apart from network part"],
        ),
        (
            "longer hours",
            enter("{ hours = { from = \"08:00\", until = \"18:00\" } }"),
            enter("{ hours = { from = \"07:00\", until = \"19:00\" } }"),
            vec!["Wider gate g would now admit hours 07:00–19:00 every day (UTC), apart from hours 08:00–18:00 every day (UTC)"],
        ),
        (
            "nobody",
            enter("{ group = \"a\" }"),
            enter("{ all = [{ group = \"a\" }, { none = [{ group = \"A\" }] }] }"),
            vec!["Narrower gate g would admit nobody any more", "Narrower gate g would no longer admit group a"],
        ),
        (
            "a factor besides",
            strong("{ factor = \"otp\" }"),
            strong("{ factor = [\"otp\", \"hwk\"] }"),
            vec!["Wider gate g would now admit group a and factor hwk, apart from factor otp"],
        ),
        (
            "the same in other words",
            enter("{ any = [{ group = \"a\" }, { group = \"b\" }] }"),
            enter("{ none = [{ all = [{ none = [{ group = \"B\" }] }, { none = [{ group = \"a\" }] }] }] }"),
            vec![],
        ),
        (
            "the same where all is known, and another where it is not",
            enter("{ everyone = true }"),
            enter("{ any = [{ group = \"a\" }, { none = [{ group = \"a\" }] }] }"),
            vec!["Narrower gate g would no longer admit everybody who signs in, while the groups cannot be known"],
        ),
        (
            "a role",
            rule("in", "{ everyone = true }", "enter = true\nroles = [\"planner\"]"),
            enter("{ everyone = true }") + &rule("r", "{ group = \"a\" }", "roles = [\"planner\"]"),
            vec!["Narrower gate g would no longer give the role planner to everybody but group a"],
        ),
        (
            "a section that closes",
            enter("{ everyone = true }") + "[[gate.section]]\npath = \"/s\"\nopen = true\n",
            enter("{ everyone = true }") + "[[gate.section]]\npath = \"/s\"\nwhen = { group = \"a\" }\n",
            vec![
                "Narrower gate g, /s would no longer admit anybody, even without signing in",
                "Narrower gate g, /s would no longer admit person pilotage/p-1999",
                "Narrower gate g, /s would no longer admit everybody but group a",
            ],
        ),
        (
            "a section that opens",
            enter("{ group = \"a\" }"),
            enter("{ group = \"a\" }") + "[[gate.section]]\npath = \"/s\"\nopen = true\n",
            vec![
                "Wider gate g, /s would now admit anybody, even without signing in",
                "Wider gate g, /s would now admit person pilotage/p-1999",
                "Wider gate g, /s would now admit everybody but group a",
            ],
        ),
    ] {
        assert_eq!(people(&before, &after), wanted, "{what}");
    }
}

#[test]
fn one_change_among_thousands_of_rules_is_one_line_and_takes_no_longer() {
    let many = |skip: usize| {
        (0..3_000)
            .filter(|n| *n != skip)
            .map(|n| rule(&format!("r{n}"), &format!("{{ group = \"g{n}\" }}"), "enter = true"))
            .collect::<String>()
    };
    let refused = |whom: &str| rule("out", &format!("{{ any-group = [{whom}] }}"), "refuse = \"No.\"");
    let list = |n: usize| (0..n).map(|i| format!("\"x{i}\"")).collect::<Vec<_>>().join(", ");
    assert_eq!(
        people(&many(usize::MAX), &many(7)),
        ["Narrower gate g would no longer admit group g7 (unless another rule lets them in)"]
    );
    assert_eq!(people(&many(9), &many(usize::MAX)), ["Wider gate g would now admit group g9 (unless they enter already)"]);
    let (before, after) = (many(usize::MAX) + &refused(&list(1_000)), many(usize::MAX) + &refused(&list(1_001)));
    assert_eq!(people(&before, &after), ["Narrower gate g would no longer admit group x1000"]);
}

#[test]
fn what_does_not_fit_into_words_is_said_to_be_so_and_its_rules_are_shown() {
    let rules = |kind: &str| {
        (0..700).map(|n| rule(&format!("r{n}"), &format!("{{ group = \"{kind}{n}\" }}"), "enter = true")).collect::<String>()
    };
    let told = people(&rules("a"), &rules("b"));
    assert_eq!(told[0], "Narrower gate g: who would enter does not fit into few words; read the rules below, and rehearse");
    assert_eq!(told.len(), 701);
    assert!(told[1].contains("gate g would have the rule r0: group b0 may enter; before, r0: group a0 may enter"), "{}", told[1]);
}

#[test]
fn a_source_that_rules_stand_on_is_told_with_the_gates_that_may_lose() {
    for (old, new, wanted) in [
        ("base = \"ou=groups,", "base = \"ou=crews,", "directory harbour"),
        ("client = \"passeur-havrelune\"", "client = \"another\"", "provider pilotage"),
        ("user = \"preferred_username\"", "user = \"nickname\"", "provider pilotage"),
    ] {
        let all = changes(SITE, &edited(&[(old, new)]));
        let told: Vec<_> = all.iter().filter(|c| c.code() == "source-changed").map(|c| c.words(Lang::En)).collect();
        assert_eq!(told.len(), 1, "{old}");
        assert!(told[0].starts_with(wanted) && told[0].contains("gate berths"), "{}", told[0]);
        assert_eq!(all[0].bearing, Bearing::Narrower);
    }
    assert!(changes(SITE, &edited(&[("cache = \"30s\"", "cache = \"1m\"")])).iter().all(|c| c.code() != "source-changed"));
}
