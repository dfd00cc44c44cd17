//! Every finding of the survey, provoked; the sound harbour has none; and the reference in the docs is that of the catalogue.

use std::collections::BTreeSet;

use chrono::{DateTime, Duration};
use passeur_core::Moment;
use passeur_core::before::{Need, Why};
use passeur_core::evidence::LookUpState;
use passeur_core::expect::Broken;
use passeur_core::step::Lang;
use passeur_core::survey::*;

use crate::harbour::{SITE, anouk, entry, look_up, read};
use crate::surveying_kerberos;

fn now() -> Moment {
    DateTime::from_timestamp(1_800_000_000, 0).unwrap()
}

/// Facts of a harbour in which nothing is wrong.
fn sound() -> Facts {
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

fn found(text: &str, facts: &Facts) -> Vec<Finding> {
    survey(&read(text), facts)
}

fn codes(all: &[Finding]) -> BTreeSet<Code> {
    all.iter().map(|f| f.code).collect()
}

fn edited(old: &str, new: &str) -> String {
    assert!(SITE.contains(old), "{old}");
    SITE.replacen(old, new, 1)
}

/// The berth ledger with more rules before its own.
fn ruled(rules: &str) -> String {
    edited("[[gate.rule]]\nname = \"berth access\"", &format!("{rules}\n[[gate.rule]]\nname = \"berth access\""))
}

fn rule(when: &str, effect: &str) -> String {
    ruled(&format!("[[gate.rule]]\nname = \"tried\"\nwhen = {when}\n{effect}\n"))
}

/// The harbour with the yard, whose machine without a person is let in until a day.
fn with_yard(until: &str) -> String {
    format!("{SITE}\n{}", include_str!("yard.toml").replace("2027-12-31", until))
}

/// A node that guards zones, whose kernel is as it should be.
fn guarding(zones: &[&str]) -> Vec<GuardFacts> {
    vec![GuardFacts { node: "node-1".into(), zones: zones.iter().map(|z| (*z).to_owned()).collect(), ..GuardFacts::default() }]
}

/// Where the pilotage office signs people in.
fn login() -> Need {
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
fn with_tunnel() -> String {
    let own = include_str!("../../../../demo/tunnel.toml").replace("authority = \"tunnel-authority\"\n", "");
    format!("{SITE}\n{own}")
}

/// A node that guards both entrances and speaks with their servers.
fn tunnelling() -> Vec<GuardFacts> {
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
fn with_quays() -> (String, Facts) {
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
fn quays(change: fn(&mut RadiusFacts)) -> Facts {
    let mut facts = with_quays().1;
    change(&mut facts.radius[0]);
    facts
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

type Provoke = (Code, String, fn(&mut Facts));

/// What provokes each code, on the sound harbour.
#[allow(clippy::too_many_lines)] // A catalogue: what provokes each finding.
fn provocations() -> Vec<Provoke> {
    let same = |code: Code, change: fn(&mut Facts)| (code, SITE.to_owned(), change);
    let text = |code: Code, text: String| -> Provoke { (code, text, |_| ()) };
    let mut out: Vec<Provoke> = vec![
        text(Code::HeaderForgeable, edited("http://127.0.0.1:8643\"\nprovider = \"pilotage\"\ndirectory = \"harbour\"\ngroups-from = \"provider\"\ndelivery = \"ledger\"", "http://127.0.0.1:8642\"\nprovider = \"pilotage\"\ndirectory = \"harbour\"")),
        same(Code::RefusedGroupMissing, |f| f.directories[0].missing_groups = vec!["Visiting-Crews".into()]),
        same(Code::ActsBroken, |f| f.acts_break = Some(12)),
        same(Code::ExpectationBroken, |f| {
            f.expectations = vec![Broken {
                name: "pilots look".into(),
                line: 3,
                place: passeur_core::site::Place::gate("berths"),
                what: vec!["must come in, and is refused".into()],
                because: "None of the 4 rules grants entry.".into(),
            }]
        }),
        same(Code::SigningSoon, |f| f.providers[0].signing = vec![("AB:CD".into(), f.now + Duration::days(29))]),
        same(Code::MetadataChanged, |f| f.providers[0].changed = Some("other certificates".into())),
        same(Code::OwnKeyUnusable, |f| f.own_saml = Some(Err("the secret saml-key is not stored".into()))),
        same(Code::OwnCertificateSoon, |f| f.own_saml = Some(Ok(("AB:CD".into(), f.now + Duration::days(59))))),
        same(Code::DirectoryUnreachable, |f| {
            f.directories[0].servers.iter_mut().for_each(|s| s.answer = Err("no answer within 3 s".into()))
        }),
        same(Code::DirectoryAccount, |f| f.directories[0].account = Some(Err("invalidCredentials (49)".into()))),
        same(Code::DirectoryBase, |f| f.directories[0].bases = vec!["ou=groups: noSuchObject (32)".into()]),
        same(Code::DirectoryPerson, |f| f.directories[0].sample = Some(("anouk".into(), Err("several entries".into())))),
        same(Code::DirectoryServerDown, |f| f.directories[0].servers[0].answer = Err("refused".into())),
        same(Code::ChainNotOffered, |f| f.directories[0].chain = Some(false)),
        same(Code::UpstreamUnreachable, |f| {
            f.upstreams[0].answer = Err(UpstreamTrouble { certificate: false, words: "connection refused".into() })
        }),
        same(Code::UpstreamCertificate, |f| {
            f.upstreams[0].answer = Err(UpstreamTrouble { certificate: true, words: "expired".into() })
        }),
        same(Code::UpstreamDown, |f| {
            let mut other = f.upstreams[0].clone();
            other.answer = Err(UpstreamTrouble { certificate: false, words: "connection refused".into() });
            f.upstreams.push(other);
        }),
        same(Code::CertificateExpired, |f| f.upstreams[0].certificate = Some(f.now)),
        same(Code::CertificateSoon, |f| f.directories[0].servers[1].certificate = Some(f.now + Duration::days(29))),
        text(Code::CertificateHost, edited("http://berths.havrelune.localhost:8640", "https://berths.havrelune.localhost:8640")),
        same(Code::SecretMissing, |f| drop(f.secrets.remove(0))),
        same(Code::SecretUnused, |f| {
            let other = SecretFacts { name: "of-last-year".into(), ..f.secrets[0].clone() };
            f.secrets.push(other);
        }),
        same(Code::SecretOld, |f| f.secrets[0].stored_at = f.now - Duration::days(331)),
        same(Code::SecretStandsBy, |f| f.secrets[1].next = Some((3, f.now - Duration::days(31)))),
        text(Code::GateNoRule, {
            let at = SITE.find("[[gate.rule]]\nname = \"crane fitters\"").unwrap();
            let end = SITE.find("# Who may use the console.").unwrap();
            let expected = SITE.find("# What must stay so").unwrap();
            format!("{}{}", &SITE[..at], &SITE[end..expected])
        }),
        (Code::ZoneProviderShut, with_yard("2030-01-01"), |f| {
            f.guards = guarding(&["yard"]);
            f.before = vec![login()];
        }),
        text(Code::ZoneUnguarded, with_yard("2030-01-01")),
        (Code::TunnelServerLost, with_tunnel(), |f| {
            f.guards = tunnelling();
            f.guards[0].entrances[1].speaks = false;
            f.guards[0].entrances[1].trouble = Some("/run/x.sock cannot be connected to: no such file".into());
        }),
        (Code::TunnelHandWindow, with_tunnel(), |f| {
            f.guards = tunnelling();
            f.guards[0].entrances[0].hand_window = Some(60);
        }),
        (Code::TunnelSocketOpen, with_tunnel(), |f| {
            f.guards = tunnelling();
            f.guards[0].entrances[0].open_to_others = Some(("/run/passeur-tunnels".into(), "0755".into()));
        }),
        (Code::TunnelPoolNearFull, with_tunnel(), |f| {
            f.guards = tunnelling();
            f.guards[0].entrances[0].near_full = Some((230, 253));
        }),
        (Code::RadiusDisobeys, with_quays().0, |f| *f = quays(|r| r.disobeyed = 2)),
        (Code::RadiusTakesNoOrders, with_quays().0, |f| *f = quays(|r| r.untold = 2)),
        (Code::RadiusUnknownSessions, with_quays().0, |f| *f = quays(|r| r.unknown = 2)),
        (Code::RadiusSecretFails, with_quays().0, |f| *f = quays(|r| r.unproven = 7)),
        (Code::RadiusClock, with_quays().0, |f| *f = quays(|r| r.ahead = Some(400))),
        (Code::RadiusTellsNothing, with_quays().0, |f| {
            *f = quays(|r| (r.let_in, r.heard) = (Some(now() - Duration::hours(1)), None));
        }),
        (Code::RadiusNeverAsked, with_quays().0, |f| *f = quays(|r| (r.asked, r.let_in, r.heard) = (None, None, None))),
        (Code::SluiceTrouble, with_yard("2030-01-01"), |f| {
            f.guards = guarding(&["yard"]);
            f.guards[0].trouble = Some("the sluice does not answer".into());
        }),
        (Code::InterfaceMissing, with_yard("2030-01-01"), |f| {
            f.guards = guarding(&["yard"]);
            f.guards[0].missing = vec!["yard".into()];
        }),
        (Code::ForwardingOff, with_yard("2030-01-01"), |f| {
            f.guards = guarding(&["yard"]);
            f.guards[0].forwards_not = vec!["IPv6".into()];
        }),
        (Code::ZoneWithoutAddress, with_yard("2030-01-01"), |f| {
            f.guards = guarding(&["yard"]);
            f.guards[0].without_address = vec![("yard".into(), "fd70:70::/64".into())];
        }),
        (Code::ResolverElsewhere, with_yard("2030-01-01"), |f| {
            f.guards = guarding(&["yard"]);
            f.guards[0].resolver_elsewhere = vec![("yard".into(), "9.9.9.9".into())];
        }),
        (Code::ZoneNamesUnseen, with_yard("2030-01-01"), |f| {
            f.guards = guarding(&["yard"]);
            f.guards[0].names_unseen = vec![("yard".into(), "crane-hosts".into(), "*.cranes.havrelune.example".into())];
        }),
        (Code::OptionUnseen, with_yard("2030-01-01"), |f| {
            f.guards = guarding(&["yard"]);
            f.guards[0].nobody_asked = vec![("yard".into(), 12)];
        }),
        (Code::ZoneBypassed, with_yard("2030-01-01"), |f| {
            f.guards = guarding(&["yard"]);
            f.guards[0].bypassed = vec!["flow table fast of table ip others, on yard0".into()];
        }),
        (Code::TableRestored, with_yard("2030-01-01"), |f| {
            f.guards = guarding(&["yard"]);
            (f.guards[0].restored, f.guards[0].found) = (2, Some("the table was deleted".into()));
        }),
        (Code::ZoneNearFull, with_yard("2030-01-01"), |f| {
            f.guards = guarding(&["yard"]);
            (f.guards[0].present, f.guards[0].most) = (54_000, 60_000);
        }),
        (Code::ReachNameDead, with_yard("2030-01-01"), |f| {
            f.guards = guarding(&["yard"]);
            f.dead_names = vec![("mail.havrelune.example".into(), "no such name".into())];
        }),
        (Code::MachineOver, with_yard("2027-01-14"), |f| f.guards = guarding(&["yard"])),
        (Code::MachineSoonOver, with_yard("2027-01-15"), |f| f.guards = guarding(&["yard"])),
        text(Code::GateAdmitsNobody, edited("when = { group = \"fitters\" }", "when = { dates = { until = \"2020-01-01\" } }").replacen(
            "when = { all = [{ group = \"planners\" }, { method = [\"GET\", \"HEAD\"] }] }",
            "when = { way-in = \"other\" }",
            1,
        ).replacen("# Where groups come from.", "[[provider]]\nname = \"other\"\nissuer = \"https://other.example\"\nclient = \"x\"\nsecret = \"pilotage-client\"\n", 1)),
        text(Code::RuleRefusesAll, edited("directory = \"harbour\"\ngroups-from = \"provider\"\ndelivery = \"ledger\"\n\n[[gate.rule]]\nname = \"crane fitters\"\nwhen = { group = \"fitters\" }", "\n[[gate.rule]]\nname = \"crane fitters\"\nwhen = { everyone = true }")
            .replacen("when = { all = [{ group = \"planners\" }, { method = [\"GET\", \"HEAD\"] }] }\nenter = true\nroles = [\"reader\"]\nmessage = \"Planners read here; fitters write.\"", "when = { attribute = \"department\", is = \"x\" }\nrefuse = \"No.\"", 1)),
        text(Code::HeaderNotMapped, edited("directory = \"harbour\"\ngroups-from = \"provider\"\ndelivery = \"ledger\"\n\n[[gate.rule]]\nname = \"crane fitters\"\nwhen = { group = \"fitters\" }", "delivery = \"ledger\"\n\n[[gate.rule]]\nname = \"crane fitters\"\nwhen = { everyone = true }")
            .replacen("when = { all = [{ group = \"planners\" }, { method = [\"GET\", \"HEAD\"] }] }", "when = { method = \"PUT\" }", 1)),
        same(Code::NodeTrouble, |f| f.trouble = Some(("first".into(), "edition 9 cannot be loaded".into()))),
        same(Code::NodeLost, |f| f.nodes[0].seen_at = f.now - Duration::minutes(3)),
        same(Code::PartitionMissing, |f| f.database.partitions_until = Some(f.now.date_naive())),
        same(Code::DatabaseSlow, |f| f.database.millis = 251),
        same(Code::NotConfirmed, |f| f.confirm_by = Some(f.now + Duration::minutes(4))),
        same(Code::TokenSoon, |f| f.tokens[0].until = Some(f.now + Duration::days(13))),
        same(Code::FirstToken, |f| f.tokens[0].has_owner = false),
        (
            Code::ProxyField,
            edited(
                "keep-crossings",
                "trusted-proxies = [\"10.1.2.3\"]\nproxies-write = \"x-forwarded-for\"\nkeep-crossings",
            ),
            |f| f.proxied = (0, 12),
        ),
        same(Code::NoEmergency, |f| f.has_emergency = false),
        text(Code::NobodyConfigures, edited("roles = [\"configure\"]", "roles = [\"operate\"]")),
        same(Code::GroupMissing, |f| f.directories[0].missing_groups = vec!["pilots".into(), "berth-access".into()]),
        same(Code::OnlyGroupMissing, |f| {
            f.directories[0].missing_groups = ["berth-access", "planners", "tide-clerks", "no-visitors"].map(String::from).to_vec();
        }),
        text(Code::RuleNever, rule("{ person = [\"elsewhere/1\"] }", "enter = true")),
        text(Code::RuleHidden, rule("{ all = [{ group = \"visiting-crews\" }, { method = \"GET\" }] }", "enter = true")),
        text(Code::DeliveryUnattached, format!("{SITE}\n[[delivery]]\nname = \"spare\"\n[[delivery.header]]\nname = \"X-A\"\nroles = true\n")),
        text(Code::HeaderName, edited("X-Harbour-Desk", "X_Harbour_Desk")),
        text(Code::SourceUnused, edited("# Where groups come from.", "[[provider]]\nname = \"other\"\nissuer = \"https://other.example\"\nclient = \"x\"\nsecret = \"pilotage-client\"\n")),
        same(Code::ProviderFailing, |f| {
            f.providers[0].recent = Recent {
                failed: 4,
                came: 1,
                because: "The id_token failed the check of signature.".into(),
                remedy: "Fetch the keys anew.".into(),
            }
        }),
        same(Code::NeverCameBack, |f| (f.providers[0].sent, f.providers[0].never_came_back) = (9, 3)),
        same(Code::NeverReleased, |f| {
            f.sources = vec![SourceCount {
                attribute: "mail".into(),
                source: "email".into(),
                provider: Some("pilotage".into()),
                directory: None,
                asked: 5,
                held: 0,
            }]
        }),
        same(Code::NeverInEntry, |f| {
            f.sources = vec![SourceCount {
                attribute: "staff-number".into(),
                source: "employeeNumber".into(),
                provider: None,
                directory: Some("harbour".into()),
                asked: 5,
                held: 0,
            }]
        }),
    ];
    out.extend(surveying_kerberos::provocations());
    for (code, check) in [
        (Code::ProviderUnreachable, ProviderCheck::Reach),
        (Code::ProviderIssuer, ProviderCheck::Issuer),
        (Code::ProviderKeys, ProviderCheck::Keys),
        (Code::ProviderClock, ProviderCheck::Clock),
        (Code::ProviderClient, ProviderCheck::Client),
        (Code::ProviderRedirect, ProviderCheck::Redirect),
        (Code::ProviderMetadata, ProviderCheck::Metadata),
    ] {
        let change: fn(&mut Facts) = match check {
            ProviderCheck::Reach => |f| f.providers[0].wrong.push((ProviderCheck::Reach, "no answer".into())),
            ProviderCheck::Issuer => |f| f.providers[0].wrong.push((ProviderCheck::Issuer, "names another".into())),
            ProviderCheck::Keys => |f| f.providers[0].wrong.push((ProviderCheck::Keys, "status 404".into())),
            ProviderCheck::Clock => |f| f.providers[0].wrong.push((ProviderCheck::Clock, "90 s".into())),
            ProviderCheck::Client => |f| f.providers[0].wrong.push((ProviderCheck::Client, "invalid_client".into())),
            ProviderCheck::Redirect => |f| f.providers[0].wrong.push((ProviderCheck::Redirect, "status 400".into())),
            ProviderCheck::Metadata => |f| f.providers[0].wrong.push((ProviderCheck::Metadata, "good until yesterday".into())),
        };
        out.push((code, SITE.to_owned(), change));
    }
    out
}

#[test]
fn a_sound_harbour_has_no_finding() {
    let all = found(SITE, &sound());
    assert!(all.is_empty(), "{all:#?}");
}

#[test]
fn every_code_is_provoked_and_says_what_is_wrong_how_it_was_seen_and_what_to_do() {
    let mut provoked = BTreeSet::new();
    let mut told = vec![];
    for (code, text, change) in provocations() {
        let mut facts = sound();
        change(&mut facts);
        if code == Code::CertificateHost {
            facts.certificates = Some(vec![]);
        }
        let all = found(&text, &facts);
        let mine = all.iter().find(|f| f.code == code).unwrap_or_else(|| panic!("{code:?} is not found: {all:#?}"));
        for lang in [Lang::En, Lang::Fr] {
            for words in [mine.what(lang), mine.seen(lang), mine.remedy(lang)] {
                assert!(!words.contains(['{', '}', '—']), "{code:?}: {words}");
            }
        }
        let s = code.spec();
        let (what, seen, remedy) = (mine.what(Lang::En), mine.seen(Lang::En), mine.remedy(Lang::En));
        told.push(format!("{} {} [{}]\n  {what}\n  {seen}\n  → {remedy}", s.harm.code(), s.code, mine.place));
        provoked.insert(code);
    }
    let missing: Vec<_> = ALL.iter().filter(|c| !provoked.contains(c)).collect();
    assert!(missing.is_empty(), "no test provokes {missing:?}");
    told.sort();
    insta::assert_snapshot!(told.join("\n"));
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
