//! What provokes each finding of the survey on the sound harbour, and what it says then.

use std::collections::BTreeSet;

use chrono::Duration;
use passeur_core::expect::Broken;
use passeur_core::step::Lang;
use passeur_core::survey::*;

use crate::devices::with_laptops;
use crate::harbour::SITE;
use crate::surveying::{
    edited, found, guarding, login, now, over_tls, profile, quays, rule, sound, tunnelling, with_quays, with_tunnel, with_yard,
};
use crate::surveying_kerberos;

fn on(day: &str) -> passeur_core::Moment {
    format!("{day}T00:00:00Z").parse().unwrap()
}

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
        (Code::ProfilesExpired, with_tunnel(), |f| {
            f.guards = tunnelling();
            f.profiles = vec![profile("winch-tablet", f.now - Duration::days(2)), profile("bridge", f.now + Duration::days(2))];
        }),
        (Code::ProfilesRunOut, with_tunnel(), |f| {
            f.guards = tunnelling();
            f.profiles = (0..7).map(|n| profile(&format!("tablet-{n}"), f.now + Duration::days(2))).collect();
        }),
        (Code::RadiusCertificateFails, over_tls(), |f| *f = quays(|r| r.unproven = 7)),
        same(Code::CodeServerSilent, |f| {
            f.code_servers = ("east".into(), vec![("192.0.2.20:1812".into(), "no answer".into())]);
        }),
        (Code::DeviceAuthorityOver, with_laptops(), |f| f.now = on("2127-01-01")),
        (Code::DeviceAuthoritySoon, with_laptops(), |f| f.now = on("2126-10-01")),
        (Code::DeviceAuthoritySilent, with_laptops(), |f| {
            let (check, address) = ("laptop".to_owned(), "http://pki.havrelune.example/devices.crl".to_owned());
            f.device_authorities = vec![SilentAuthority { check, address, why: "no answer within 3 s".into() }];
        }),
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
