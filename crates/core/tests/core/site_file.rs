//! The site file: every mistake at once, each at its line, with how to mend it.

use passeur_core::document::{Finding, Severity, compile};
use proptest::prelude::*;

use crate::harbour::{SITE, site};

fn errors(text: &str) -> Vec<Finding> {
    compile(text).1.into_iter().filter(|f| f.severity == Severity::Error).collect()
}

#[test]
fn the_demo_is_sound_and_has_no_finding() {
    let (compiled, findings) = compile(SITE);
    assert!(compiled.is_some() && findings.is_empty(), "{findings:#?}");
    let s = site();
    assert_eq!(s.gates.len(), 5);
    assert_eq!(s.secrets().len(), 5);
    assert_eq!(s.attributes.len(), 2 + 4 + 2 + 1);
}

/// One change to a sound file, and what must be said about it.
#[test]
fn each_mistake_is_named_at_its_line() {
    for (old, new, says) in [
        ("format = 1", "format = 2", "format"),
        ("when = { group = \"berth-access\" }", "when = { group = \"berth-access\" }\nnetworks = [\"10.0.0.0/8\"]", "networks"),
        ("when = { group = \"berth-access\" }", "when = { group = \"berth-access\" }\nflows = [\"tcp/22\"]", "flows"),
        ("format = 1\n", "", "format is missing"),
        (
            "address = \"http://pass.havrelune.localhost:8640\"",
            "address = \"http://pass.havrelune.example\"",
            "pass.havrelune.example",
        ),
        ("keep-crossings = \"90d\"", "keep-crossings = \"90 fortnights\"", "no length of time"),
        ("keep-crossings = \"90d\"", "keep-crossings = \"1h\"", "out of range"),
        ("idle = \"1h\"", "idle = \"11h\"", "idle is longer than absolute"),
        ("kind = \"oidc\"", "kind = \"oidk\"", "oidk"),
        ("issuer = \"http://bureau-pilotage.localhost:8641\"", "issuer = \"http://sign-in.example\"", "plain http"),
        ("issuer = \"http://bureau-pilotage.localhost:8641\"", "issuer = \"https://sign-in.example?x=1\"", "query"),
        ("scopes = [\"openid\", \"profile\", \"email\"]", "scopes = [\"profile\"]", "openid"),
        ("scopes = [\"openid\", \"profile\", \"email\"]", "scopes = \"openid\"", "list"),
        ("scopes = [\"openid\", \"profile\", \"email\"]", "scopes = [\"openid\", \"a b\"]", "no scope"),
        ("client = \"passeur-havrelune\"", "klient = \"passeur-havrelune\"", "client"),
        ("user = \"preferred_username\"", "subject = \"preferred_username\"", "always there"),
        ("url = \"ldap://127.0.0.1:8645\"", "url = \"ldap://directory.havrelune.example\"", "clear text"),
        ("url = \"ldap://127.0.0.1:8645\"", "url = \"http://127.0.0.1\"", "not an LDAP address"),
        ("secret = \"harbour-account\"\n", "", "belong together"),
        ("filter = \"(objectClass=inetOrgPerson)\"", "filter = \"objectClass=inetOrgPerson\"", "brackets"),
        ("key = \"uid\"", "key = \"uid)(x=*\"", "no LDAP attribute name"),
        ("fed-by = \"user\"", "fed-by = \"usr\"", "no attribute \"usr\""),
        ("fed-by = \"user\"", "fed-by = \"staff-number\"", "no attribute"),
        ("cache = \"30s\"", "cache = \"20m\"", "out of range"),
        ("staff-number = \"employeeNumber\"", "mail = \"employeeNumber\"", "already has another source"),
        ("name = \"X-Harbour-User\"", "name = \"Host\"", "meaning of its own"),
        ("name = \"X-Harbour-User\"", "name = \"Transfer_Encoding\"", "meaning of its own"),
        ("name = \"X-Harbour-User\"", "name = \"X-Harbour User\"", "no header name"),
        ("name = \"X-Harbour-User\"", "name = \"x_harbour.name\"", "look the same"),
        ("attribute = \"user\"\n", "attribute = \"user\"\nroles = true\n", "exactly one source"),
        ("attribute = \"user\"\n", "", "exactly one source"),
        ("attribute = \"user\"\n", "template = \"{user\"\n", "opened"),
        ("attribute = \"user\"\n", "template = \"user}\"\n", "brace"),
        ("attribute = \"user\"\n", "template = \"{usr}\"\n", "no attribute \"usr\""),
        ("missing = \"refuse\"", "missing = \"fail\"", "fail"),
        ("on-separator = \"escape\"", "join = \"\\n\"", "join"),
        (
            "address = \"http://berths.havrelune.localhost:8640\"",
            "address = \"http://pass.havrelune.localhost:8640\"",
            "already that of",
        ),
        (
            "address = \"http://berths.havrelune.localhost:8640\"",
            "address = \"http://berths.havrelune.localhost:8640/app\"",
            "berths",
        ),
        ("upstream = \"http://127.0.0.1:8642\"", "upstream = \"127.0.0.1:8642\"", "not the address of an application"),
        ("delivery = \"ledger\"", "delivery = \"leger\"", "no delivery \"leger\""),
        ("when = { group = \"planners\" }", "when = { grup = \"planners\" }", "grup"),
        ("when = { group = \"planners\" }", "when = { group = \"planners\", everyone = true }", "side by side"),
        ("when = { group = \"planners\" }", "when = { everyone = false }", "never applies"),
        ("when = { group = \"planners\" }", "when = { attribute = \"name\" }", "what to compare"),
        ("when = { group = \"planners\" }", "when = { attribute = \"name\", is = 7 }", "text"),
        ("when = { group = \"planners\" }", "when = { any = [] }", "no condition"),
        ("when = { group = \"planners\" }\n", "", "when is missing"),
        ("enter = true\nroles = [\"planner\"]", "enter = true\nrefuse = \"no\"", "both enters and refuses"),
        ("enter = true\nroles = [\"planner\"]", "", "gives nothing"),
        ("name = \"planners assign berths\"", "name = \"berth access\"", "two rules"),
        ("roles = [\"configure\"]", "roles = [\"root\"]", "no role of the console"),
        ("roles = [\"view\"]", "roles = []", "roles is missing"),
        ("nested = true", "nested = \"yes\"", "true or false"),
        ("[site.session]", "[site.sesion]", "sesion"),
        ("enter = true", "enter = ", "syntax"),
    ] {
        assert!(SITE.contains(old), "{old}");
        let text = SITE.replacen(old, new, 1);
        let found = errors(&text);
        let all: Vec<String> = found.iter().map(|f| format!("{}: {}: {}: {}", f.line, f.place, f.what, f.remedy)).collect();
        assert!(all.iter().any(|l| l.contains(says)), "{new:?} should say {says:?}; said {all:#?}");
        assert!(compile(&text).0.is_none(), "{new:?} compiled");
        assert!(found.iter().all(|f| f.line <= text.lines().count() + 1 && !f.remedy.is_empty()), "{all:#?}");
        let changed = 1 + SITE.find(old).map_or(0, |at| SITE[..at].matches('\n').count());
        let near = found.iter().any(|f| f.line.abs_diff(changed) <= 12 || f.line <= 1);
        assert!(near, "{new:?} stands at line {changed}; said {all:#?}");
    }
}

#[test]
fn what_is_odd_but_sound_is_a_warning() {
    for (old, new, says) in [
        ("secret = \"pilotage-client\"\n", "", "public"),
        ("delivery = \"ledger\"\n", "", "attached to no gate"),
        (
            "directory = \"harbour\"\n\n[[engineers.rule]]\nname = \"remote",
            "without-directory = true\n\n[[engineers.rule]]\nname = \"remote",
            "no meaning",
        ),
        ("refuse = \"Visiting", "roles = [\"planner\"]\nrefuse = \"Visiting", "gives no roles"),
    ] {
        assert!(SITE.contains(old), "{old}");
        let (_, findings) = compile(&SITE.replace(old, new));
        let warned = findings.iter().any(|f| f.severity == Severity::Warning && f.what.contains(says));
        assert!(warned, "{new:?}: {findings:#?}");
    }
}

#[test]
fn every_mistake_is_listed_at_once() {
    let text = r#"format = 1
colour = "blue"

[site]
name = "Harbour"
address = "ftp://pass.example"

[[provider]]
name = "Pilot Office"
issuer = "https://sign-in.example/#x"
client = 7

[[provider]]
name = "pilots"
issuer = "https://sign-in.example"
client = "c"
skew = "1h"
[provider.attributes]
"full name" = "name"
user = "preferred_username"

[[directory]]
name = "harbour"
url = "ldap://directory.example"
base = "dc=example"
key = "uid"
fed-by = "usr"

[[gate]]
name = "berths"
address = "https://berths.example"
upstream = "https://127.0.0.1:1"
provider = "pilot"
directory = "harbor"

[[gate.rule]]
name = "all"
when = { all = [ { group = "a" }, { atribute = "user", is = "b" } ] }
enter = true
"#;
    let lines: Vec<String> = compile(text)
        .1
        .iter()
        .map(|f| format!("{:>2} {:?} {}: {}\n      {}", f.line, f.severity, f.place, f.what, f.remedy))
        .collect();
    insta::assert_snapshot!(lines.join("\n"));
}

#[test]
fn sizes_and_depths_are_bounded() {
    let (site, findings) = compile(&format!("{SITE}\n# {}", "x".repeat(4 << 20)));
    assert!(site.is_none() && findings[0].what.contains("larger"));
    let deep = (0..40).fold("{ group = \"planners\" }".to_owned(), |inner, _| format!("{{ all = [ {inner} ] }}"));
    let found = errors(&SITE.replacen("{ group = \"planners\" }", &deep, 1));
    assert!(found.iter().any(|f| f.what.contains("deep")), "{found:#?}");
    let many: String = (0..2_000).map(|i| format!("unknown-{i} = 1\n")).collect();
    assert!(compile(&format!("{many}{SITE}")).1.len() <= 500);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn whatever_is_written_gives_a_site_or_an_error_and_never_both(line in 0usize..140, put in "[a-z=\\[\\]{}\"'#.0-9 -]{0,12}", cut in any::<bool>()) {
        let mut lines: Vec<&str> = SITE.lines().collect();
        let at = line.min(lines.len() - 1);
        if cut {
            lines.remove(at);
        }
        lines.insert(at, &put);
        let text = lines.join("\n");
        let (site, findings) = compile(&text);
        let wrong = findings.iter().any(|f| f.severity == Severity::Error);
        prop_assert_eq!(site.is_some(), !wrong);
        prop_assert!(findings.iter().all(|f| f.line <= text.lines().count() + 1));
    }
}

#[test]
fn rules_of_the_whole_site_are_bounded_by_the_gates_they_stand_before() {
    let rules: String =
        (0..2_000).map(|n| format!("\n[[rule]]\nname = \"r{n}\"\nwhen = {{ everyone = true }}\nrefuse = \"No.\"\n")).collect();
    let gates: String = (0..200).map(|n| format!("\n[[gate]]\nname = \"g{n}\"\n")).collect();
    let (site, findings) = compile(&format!("{SITE}{rules}{gates}"));
    assert!(site.is_none());
    let told: Vec<String> = findings.iter().map(ToString::to_string).collect();
    assert_eq!(told.len(), 1, "{told:?}");
    assert!(told[0].contains("the rules of the whole site stand before those of every gate, 4"), "{}", told[0]);
}
