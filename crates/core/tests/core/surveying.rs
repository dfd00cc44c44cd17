//! Every finding of the survey, provoked; the sound harbour has none; and the reference in the docs is that of the catalogue.

use std::collections::BTreeSet;

use chrono::{DateTime, Duration};
use passeur_core::Moment;
use passeur_core::before::{Need, Why};
use passeur_core::evidence::LookUpState;
use passeur_core::step::Lang;
use passeur_core::survey::*;

use crate::harbour::{SITE, anouk, entry, look_up, read};
use crate::surveying_kerberos;

pub fn now() -> Moment {
    DateTime::from_timestamp(1_800_000_000, 0).unwrap()
}

/// Facts of a harbour in which nothing is wrong.
pub fn sound() -> Facts {
    let later = now() + Duration::days(300);
    let secret = |name: &str| SecretFacts { name: name.into(), stored_at: now() - Duration::days(10), next: None };
    let upstream = |gate: &str, port: u16| UpstreamFacts {
        gate: gate.into(),
        address: format!("http://127.0.0.1:{port}"),
        answer: Ok(()),
        certificate: Some(later),
    };
    Facts {
        now: now(),
        providers: vec![ProviderFacts {
            name: "pilotage".into(),
            certificate: Some(later),
            signing: vec![("AB:CD".into(), later)],
            sent: 40,
            ..ProviderFacts::default()
        }],
        directories: vec![DirectoryFacts {
            name: "harbour".into(),
            servers: ["ldap://a", "ldap://b"]
                .map(|a| ServerFacts { address: a.into(), answer: Ok(()), certificate: Some(later) })
                .to_vec(),
            account: Some(Ok(())),
            sample: Some(("anouk".into(), Ok(()))),
            chain: Some(true),
            ..DirectoryFacts::default()
        }],
        upstreams: vec![upstream("berths", 8642), upstream("agents", 8642), upstream("cranes", 8643)],
        certificates: None,
        own_saml: Some(Ok(("AB:CD".into(), later))),
        secrets: vec![
            secret("pilotage-client"),
            secret("harbour-account"),
            secret("harbour-keytab"),
            secret("gateway-keytab"),
            secret("saml-key"),
        ],
        tokens: vec![TokenFacts { name: "dashboard".into(), until: Some(now() + Duration::days(100)), has_owner: true }],
        nodes: vec![NodeFacts { name: "second".into(), seen_at: now() - Duration::seconds(2) }],
        database: DatabaseFacts { millis: 2, partitions_until: Some((now() + Duration::days(3)).date_naive()) },
        has_emergency: true,
        kerberos: surveying_kerberos::sound(),
        ..Facts::default()
    }
}

pub fn found(text: &str, facts: &Facts) -> Vec<Finding> {
    survey(&read(text), facts)
}

fn codes(all: &[Finding]) -> BTreeSet<Code> {
    all.iter().map(|f| f.code).collect()
}

pub fn edited(old: &str, new: &str) -> String {
    assert!(SITE.contains(old), "{old}");
    SITE.replacen(old, new, 1)
}

/// The berth ledger with more rules before its own.
pub fn ruled(rules: &str) -> String {
    edited("[[gate.rule]]\nname = \"berth access\"", &format!("{rules}\n[[gate.rule]]\nname = \"berth access\""))
}

pub fn rule(when: &str, effect: &str) -> String {
    ruled(&format!("[[gate.rule]]\nname = \"tried\"\nwhen = {when}\n{effect}\n"))
}

/// The harbour with the yard, whose machine without a person is let in until a day.
pub fn with_yard(until: &str) -> String {
    format!("{SITE}\n{}", include_str!("yard.toml").replace("2027-12-31", until))
}

/// A node that guards zones, whose kernel is as it should be.
pub fn guarding(zones: &[&str]) -> Vec<GuardFacts> {
    vec![GuardFacts { node: "node-1".into(), zones: zones.iter().map(|z| (*z).to_owned()).collect(), ..GuardFacts::default() }]
}

/// Where the pilotage office signs people in.
pub fn login() -> Need {
    let need = Need::of("pilotage", &"https://login.bureau.example/authorize".parse().unwrap(), Why::SignIn).unwrap();
    Need { addresses: vec!["192.0.2.7".parse().unwrap()], ..need }
}

#[test]
fn a_provider_is_shut_only_where_people_of_the_zone_may_use_it_and_cannot_reach_it() {
    let facts = |need: Need| Facts { guards: guarding(&["yard"]), before: vec![need], ..sound() };
    let with = |need: Need, old: &str, new: &str| {
        let text = with_yard("2030-01-01");
        assert!(text.contains(old));
        codes(&found(&text.replacen(old, new, 1), &facts(need)))
    };
    let shut: BTreeSet<Code> = [Code::ZoneProviderShut].into();
    assert_eq!(with(login(), "", ""), shut);
    assert_eq!(
        with(Need { port: 53, host: "10.70.0.1".into(), addresses: vec!["10.70.0.1".parse().unwrap()], ..login() }, "", ""),
        BTreeSet::new()
    );
    assert_eq!(with(login(), "ways-in = [\"pilotage\", \"visitors\"]\n", "ways-in = [\"visitors\"]\n"), BTreeSet::new());
    assert_eq!(with(login(), "before = [\"resolver\"]", "before = [\"resolver\", \"internet\"]"), BTreeSet::new());
    // Who cannot sign out there is signed out here all the same.
    assert_eq!(with(Need { why: Why::SignOut, ..login() }, "", ""), BTreeSet::new());
}

#[test]
fn a_guarded_yard_whose_names_resolve_has_no_finding() {
    let facts = |guarded: &[&str], dead: &[&str]| Facts {
        guards: guarding(guarded),
        dead_names: dead.iter().map(|n| ((*n).to_owned(), "no such name".to_owned())).collect(),
        ..sound()
    };
    for (until, guarded, dead, wanted) in [
        ("2027-02-15", &["yard"][..], &[][..], &[][..]),
        ("2027-01-29", &["yard"], &[], &[Code::MachineSoonOver]),
        ("2027-01-30", &["yard"], &[], &[]),
        ("2027-02-15", &["other"], &[], &[Code::ZoneUnguarded]),
        ("2027-02-15", &["yard"], &["other.example"], &[]),
        // A pattern names no host that could be resolved.
        ("2027-02-15", &["yard"], &["cranes.havrelune.example"], &[]),
    ] {
        let all = found(&with_yard(until), &facts(guarded, dead));
        assert_eq!(codes(&all), wanted.iter().copied().collect(), "{until} {guarded:?} {dead:?}: {all:#?}");
    }
}

/// The harbour with the pilots' tunnel.
pub fn with_tunnel() -> String {
    let own = include_str!("../../../../demo/tunnel.toml").replace("authority = \"tunnel-authority\"\n", "");
    format!("{SITE}\n{own}")
}

/// A node that guards both entrances and speaks with their servers.
pub fn tunnelling() -> Vec<GuardFacts> {
    let mut out = guarding(&["pilots", "pilots-trial"]);
    let of = |name: &str| EntranceFacts { name: name.into(), speaks: true, hand_window: Some(120), ..EntranceFacts::default() };
    out[0].entrances = vec![of("pilots"), of("pilots-trial")];
    out
}

#[test]
fn a_tunnel_whose_servers_are_spoken_with_has_no_finding() {
    let facts = Facts { guards: tunnelling(), ..sound() };
    assert_eq!(codes(&found(&with_tunnel(), &facts)), BTreeSet::new());
    // One node that speaks with the server is enough; what another says of its own attempt is no finding.
    let mut facts = facts;
    let mut other = facts.guards[0].clone();
    (other.node, other.entrances[0].speaks) = ("other".into(), false);
    facts.guards.push(other);
    assert_eq!(codes(&found(&with_tunnel(), &facts)), BTreeSet::new());
}

/// The harbour with the gateway of the quays, which asked and told as it should, and its doors, which tell nothing but have just asked.
pub fn with_quays() -> (String, Facts) {
    let text = format!("{SITE}\n{}", include_str!("../../../../demo/radius.toml"));
    let of =
        |client: &str| RadiusFacts { client: client.into(), asked: Some(now()), let_in: Some(now()), ..RadiusFacts::default() };
    let gateway = RadiusFacts { heard: Some(now()), ahead: Some(-3), ..of("quay-gateway") };
    let mut facts = Facts { radius: vec![gateway, of("quay-doors")], ..sound() };
    let known = facts.secrets[0].clone();
    facts.secrets.extend(["quay-gateway", "quay-doors"].map(|name| SecretFacts { name: name.into(), ..known.clone() }));
    (text, facts)
}

/// The facts of the gateway, changed.
pub fn quays(change: fn(&mut RadiusFacts)) -> Facts {
    let mut facts = with_quays().1;
    change(&mut facts.radius[0]);
    facts
}

pub fn profile(device: &str, until: Moment) -> ProfileFacts {
    ProfileFacts { gate: "tunnel".into(), device: device.into(), person: "Anouk Tregarec".into(), until }
}

/// The same, where the gateway has a certificate in place of a secret.
pub fn over_tls() -> String {
    let whole = include_str!("../../src/document/whole.toml");
    let line = whole.lines().find(|l| l.starts_with("certificates = ")).unwrap();
    with_quays().0.replacen("secret = \"quay-gateway\"", line, 1)
}

#[test]
fn radius_clients_are_held_against_what_they_asked_and_told() {
    let text = with_quays().0;
    let cases: [QuaysCase; 12] = [
        ("sound", |_| (), &[]),
        ("never", |r| (r.asked, r.let_in, r.heard) = (None, None, None), &[Code::RadiusNeverAsked]),
        ("only unproven", |r| (r.asked, r.let_in, r.unproven) = (None, None, 3), &[Code::RadiusSecretFails]),
        ("some unproven", |r| r.unproven = 1, &[Code::RadiusSecretFails]),
        ("late", |r| r.ahead = Some(-400), &[Code::RadiusClock]),
        ("early", |r| r.ahead = Some(121), &[Code::RadiusClock]),
        ("nearly", |r| r.ahead = Some(120), &[]),
        ("disobeys", |r| r.disobeyed = 1, &[Code::RadiusDisobeys]),
        ("takes no orders", |r| r.untold = 1, &[Code::RadiusTakesNoOrders]),
        ("unknown", |r| r.unknown = 2, &[Code::RadiusUnknownSessions]),
        ("silent", |r| (r.let_in, r.heard) = (Some(now() - Duration::hours(1)), None), &[Code::RadiusTellsNothing]),
        ("just let in", |r| r.heard = None, &[]),
    ];
    for (name, change, wanted) in cases {
        let all = found(&text, &quays(change));
        assert_eq!(codes(&all), wanted.iter().copied().collect(), "{name}: {all:#?}");
    }
}

/// A change of what is known of the gateway, and what is found then.
type QuaysCase = (&'static str, fn(&mut RadiusFacts), &'static [Code]);

#[test]
fn a_sound_harbour_has_no_finding() {
    let all = found(SITE, &sound());
    assert!(all.is_empty(), "{all:#?}");
}

#[test]
fn the_worst_comes_first() {
    let mut facts = sound();
    (facts.has_emergency, facts.acts_break, facts.database.millis) = (false, Some(1), 900);
    facts.directories[0].account = Some(Err("no".into()));
    let harms: Vec<Harm> = found(SITE, &facts).iter().map(|f| f.code.spec().harm).collect();
    assert_eq!(harms, [Harm::Danger, Harm::Broken, Harm::Soon, Harm::Untidy]);
}

#[test]
fn what_values_hold_is_never_taken_for_a_name() {
    let mut facts = sound();
    facts.directories[0].account = Some(Err("{directory} {words}".into()));
    let all = found(SITE, &facts);
    assert!(all[0].seen(Lang::En).ends_with("{directory} {words}."), "{}", all[0].seen(Lang::En));
}

/// Rules that are right are not told of.
#[test]
fn rules_that_can_apply_and_change_something_are_left_alone() {
    for (when, effect) in [
        ("{ group = \"pilots\" }", "enter = true"),
        ("{ all = [{ group = \"berth-access\" }, { method = \"GET\" }] }", "enter = true\nroles = [\"reader\"]"),
        ("{ group = \"berth-access\", direct = true }", "refuse = \"No.\""),
        ("{ attribute = \"desk\", is = \"Crane yard\" }", "enter = true"),
        ("{ attribute = \"subject\", is = \"p-1\" }", "refuse = \"No.\""),
        ("{ none = [{ group = \"pilots\" }] }", "refuse = \"No.\""),
        ("{ dates = { until = \"2099-01-01\" } }", "enter = true"),
        ("{ way-in = \"pilotage\" }", "message = \"Hello.\""),
        ("{ person = [\"pilotage/p-1\"] }", "enter = true"),
    ] {
        let all = found(&rule(when, effect), &sound());
        let of_rules: Vec<_> = all.iter().filter(|f| f.what(Lang::En).contains("“tried”")).collect();
        assert!(of_rules.is_empty(), "{when} {effect}: {of_rules:#?}");
    }
}

#[test]
fn rules_that_never_apply_refuse_all_or_change_nothing_are_told_with_the_reason() {
    let lists = "[lists.groups]\nnobody = []\n[lists.networks]\nnowhere = []\n";
    for (when, effect, code, why) in [
        ("{ any-group = \"nobody\" }", "enter = true", Code::RuleNever, "the list nobody is empty"),
        ("{ network = \"nowhere\" }", "enter = true", Code::RuleNever, "the list nowhere is empty"),
        ("{ dates = { until = \"2020-01-01\" } }", "enter = true", Code::RuleNever, "its dates ended on 2020-01-01"),
        ("{ none = [{ everyone = true }] }", "enter = true", Code::RuleNever, "which always holds"),
        ("{ gate = \"cranes\" }", "enter = true", Code::RuleNever, "it names other gates"),
        ("{ all = [{ group = \"pilots\" }, { person = [\"x/1\"] }] }", "enter = true", Code::RuleNever, "another provider"),
        (
            "{ any = [{ person = [\"x/1\"] }, { dates = { until = \"2020-01-01\" } }] }",
            "enter = true",
            Code::RuleNever,
            "another provider",
        ),
        ("{ group = \"VISITING-crews\" }", "enter = true", Code::RuleHidden, "visiting crews"),
        ("{ group = \"visiting-crews\", direct = true }", "refuse = \"No.\"", Code::RuleHidden, ""),
        ("{ any = [{ group = \"planners\" }] }", "enter = true", Code::RuleHidden, "planners assign berths"),
    ] {
        let text = rule(when, effect).replacen("[lists.people]", &format!("{lists}\n[lists.people]"), 1);
        let all = found(&text, &sound());
        let mine = all.iter().filter(|f| f.code == code && f.what(Lang::En).contains("“tried”")).collect::<Vec<_>>();
        if why.is_empty() {
            // The earlier of two refusals for the same people is the one that is read.
            assert!(mine.is_empty(), "{when}: {all:#?}");
            continue;
        }
        assert!(mine.iter().any(|f| f.what(Lang::En).contains(why)), "{when}: {all:#?}");
    }
}

#[test]
fn a_rule_of_the_site_is_told_once_and_only_when_it_applies_nowhere() {
    let site_rule = |when: &str| {
        edited("# A rule of the whole site", &format!("[[rule]]\nname = \"tried\"\nwhen = {when}\nenter = true\n\n#"))
    };
    assert!(found(&site_rule("{ gate = \"cranes\" }"), &sound()).is_empty());
    let all = found(&site_rule("{ person = [\"x/1\"] }"), &sound());
    assert_eq!(codes(&all), [Code::RuleNever].into());
    assert_eq!(all.len(), 1, "{all:#?}");
}

#[test]
fn two_gates_to_one_application_must_deliver_the_same_names() {
    let one = edited("http://127.0.0.1:8643\"", "http://127.0.0.1:8642\"");
    assert!(!codes(&found(&one, &sound())).contains(&Code::HeaderForgeable), "both deliver all of them");
    let other = one.replacen(
        "delivery = \"ledger\"\n\n[[gate.rule]]\nname = \"crane fitters\"",
        "delivery = \"book\"\n\n[[gate.rule]]\nname = \"crane fitters\"",
        1,
    ) + "\n[[delivery]]\nname = \"book\"\n[[delivery.header]]\nname = \"x_harbour_user\"\nattribute = \"user\"\n";
    let told: Vec<String> =
        found(&other, &sound()).iter().filter(|f| f.code == Code::HeaderForgeable).map(|f| f.what(Lang::En)).collect();
    // A spelling of one is taken away, of the others none; three gates deliver to it.
    let all = told.iter().all(|t| t.contains("can write X-Harbour-Name, X-Harbour-Staff-Number,"));
    assert!(told.len() == 3 && all, "{told:#?}");
}

#[test]
fn sources_are_counted_by_person() {
    let site = read(SITE);
    let mut all = vec![];
    for i in 0..6 {
        let mut who = anouk();
        who.subject = format!("p-{i}");
        who.userinfo = passeur_core::evidence::UserInfo::NotAsked;
        let mut bare = entry(&[]);
        bare.attributes.remove("employeenumber");
        who.look_ups = vec![look_up(LookUpState::Answered { entry: bare })];
        all.push(who.clone());
        all.push(who);
    }
    let counts = count_sources(&site, &all);
    let of = |attribute: &str| counts.iter().find(|c| c.attribute == attribute).map(|c| (c.asked, c.held)).unwrap();
    assert_eq!((of("user"), of("mail"), of("staff-number"), of("department")), ((6, 6), (6, 0), (6, 0), (6, 6)));
    let facts = Facts { sources: counts, ..sound() };
    assert_eq!(codes(&found(SITE, &facts)), [Code::NeverReleased, Code::NeverInEntry].into());
}

/// `docs/survey.md`, whole.
fn reference() -> String {
    let mut out = String::from(
        "# Survey\n\n`passeur survey`, and the page of that name in the console, check everything the site depends on and say, in order of\n\
         harm, what is wrong, how it was seen and what to do. Each finding has a stable code; names in braces stand for what was\n\
         seen. This page is written from the catalogue in `crates/core/src/survey/catalogue.rs`; tests compare them, and a code\n\
         that no test provokes fails the build.\n",
    );
    let mut harm = None;
    for code in ALL {
        let s = code.spec();
        if harm != Some(s.harm) {
            harm = Some(s.harm);
            let words = match s.harm {
                Harm::Danger => "danger: somebody may come in who should not, or be taken for another",
                Harm::Broken => "broken: somebody who should come in does not, or without what the application needs",
                Harm::Soon => "soon: it will not work for long, or not when one more thing fails",
                Harm::Untidy => "untidy: nothing fails, and somebody will be misled",
            };
            out.push_str(&format!("\n## {words}\n\n"));
        }
        out.push_str(&format!("* `{}`\n  {}\n  *{}*\n  → {}\n", s.code, s.what(Lang::En), s.seen(Lang::En), s.remedy(Lang::En)));
    }
    out
}

#[test]
fn the_reference_in_the_docs_is_that_of_the_catalogue() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/survey.md");
    let wanted = reference();
    if std::env::var_os("UPDATE_DOCS").is_some() {
        std::fs::write(path, &wanted).unwrap();
    }
    let committed = std::fs::read_to_string(path).unwrap_or_default();
    assert!(committed == wanted, "docs/survey.md is old; write it anew: UPDATE_DOCS=1 cargo test -p passeur-core --test core");
}
